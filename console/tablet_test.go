package console_test

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Beside the machines people have a tablet: no page is wider than it, however wide its lists are.
func TestPagesFitATablet(t *testing.T) {
	stage := full(t)
	b := open(t, stage)
	b.do(chromedp.EmulateViewport(820, 1180), chromedp.Navigate(stage.URL))
	b.signIn(stage.Token)
	b.do(chromedp.WaitVisible(`//h3`))
	for _, page := range pages {
		b.do(chromedp.Navigate(stage.URL+"/"+page), chromedp.WaitVisible(`//h3`))
		b.settled()
		wide, err := chromedp.Run(b.ctx, chromedp.Evaluate[int](`document.documentElement.scrollWidth`))
		require.NoError(t, err)
		assert.LessOrEqual(t, wide, 820, "/"+page)
		if page == "workstations" || page == "rooms/herbarium-scanning" {
			b.shoot("tablet-" + page[:5])
		}
	}
}
