package console_test

import (
	"fmt"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
)

// Beside the machines people have a tablet: no page is wider than it, however wide its lists are.
func TestPagesFitATablet(t *testing.T) {
	stage := openStage(t)
	_, err := stage.Prepare(t.Context())
	require.NoError(t, err)
	d, err := stage.Client.Deliver(t.Context(), api.NewDelivery{Image: "garden-desk", To: []string{"herbarium-scanning"}, Start: "at:2031-01-01T06:00:00Z"})
	require.NoError(t, err)
	b := open(t, stage)
	b.do(chromedp.EmulateViewport(820, 1180), chromedp.Navigate(stage.URL))
	b.signIn(stage.Token)
	b.do(chromedp.WaitVisible(`//h3`))
	for _, page := range []string{"", "workstations", "workstations/herb-01", "rooms", "rooms/herbarium-scanning", "answers", "images", "images/garden-desk", "deliveries", fmt.Sprintf("deliveries/%d", d.ID), "orders", "errands", "receipts", "reports", "drivers", "netboot", "sites", "stores", "people", "logbook"} {
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
