package console_test

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// On a tablet beside the machines: newcomers are admitted by one press, under the name that comes next, and what was done is checked off.
func TestWalkingThroughARoom(t *testing.T) {
	stage := prepared(t)
	b := signedIn(t, stage, "/rooms/herbarium-scanning")
	b.do(chromedp.EmulateViewport(820, 1180), click(`//a[text()="Walk"]`), chromedp.WaitVisible(`//h3[.="Walk through herbarium-scanning"]`))
	b.do(chromedp.WaitVisible(`//button[@aria-label="Check off herb-08"]`))
	name := `//input[@aria-label="Name for 00:00:5e:00:53:32"]`
	b.do(chromedp.WaitVisible(name))
	b.until(`document.querySelector('input[aria-label="Name for 00:00:5e:00:53:32"]').value === "herb-09"`)
	b.settled()
	b.axe("a walk")
	b.shoot("tablet-walk")
	b.looks("dark")
	b.settled()
	b.axe("a walk, dark")
	b.shoot("walk-dark")
	b.looks("light")
	b.do(click(name+`/ancestor::form//button`), chromedp.WaitVisible(`//button[@aria-label="Check off herb-09"]`))
	w, err := stage.Client.Workstation(t.Context(), "herb-09")
	require.NoError(t, err)
	assert.Equal(t, []string{"herbarium-scanning"}, w.Groups)
	b.until(`document.querySelector('input[aria-label="Name for 00:00:5e:00:53:31"]').value === "herb-10"`)

	t.Log("# what is checked off stays so when the tablet was put away")
	b.do(click(`//button[@aria-label="Check off herb-01"]`), click(`//button[@aria-label="Check off herb-02"]`), chromedp.Reload(), chromedp.WaitVisible(`//*[text()="2 of 9"]`))
	b.do(click(`#left`))
	b.until(`!document.querySelector('button[aria-label="Check off herb-01"]') && !!document.querySelector('button[aria-label="Check off herb-03"]')`)
	wide, err := chromedp.Run(b.ctx, chromedp.Evaluate[int](`document.documentElement.scrollWidth`))
	require.NoError(t, err)
	assert.LessOrEqual(t, wide, 820)
	b.do(click(`//button[.="Begin anew"]`), click(`//div[contains(@class, "popconfirm")]//button[.="Begin anew"]`), chromedp.WaitVisible(`//*[text()="0 of 9"]`))
}
