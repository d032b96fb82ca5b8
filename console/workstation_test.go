package console_test

import (
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"jugate/api"
)

// Everything that is known of a workstation stands on its page, which has an address of its own.
func TestTheWorkstationPage(t *testing.T) {
	stage := openStage(t)
	_, err := stage.Prepare(t.Context())
	require.NoError(t, err)
	ctx := t.Context()
	_, err = stage.Client.SetAnswers(ctx, api.NewAnswers{Of: "group:herbarium-scanning", Values: map[string]any{"time_zone": "Europe/Vienna"}})
	require.NoError(t, err)
	d, err := stage.Client.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"herb-03"}, Answers: "none"})
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		d, err := stage.Client.Delivery(ctx, d.ID)
		return err == nil && d.Ended != nil
	}, time.Minute, 50*time.Millisecond)
	b := open(t, stage)
	b.do(chromedp.Navigate(stage.URL + "/workstations"))
	b.signIn(stage.Token)
	b.do(
		click(`//a[.="herb-03"]`),
		chromedp.WaitVisible(`//h3[contains(., "herb-03")]`),
		chromedp.WaitVisible(`//b[text()="garden-desk@1"]`),
		chromedp.WaitVisible(`//td[text()="Europe/Vienna"]`),
	)
	b.settled()
	b.shoot("workstation-page")
	b.axe("a workstation")
	b.looks("dark")
	b.do(chromedp.Reload(), chromedp.WaitVisible(`//b[text()="garden-desk@1"]`), chromedp.WaitVisible(`//td[text()="Europe/Vienna"]`))
	b.settled()
	b.axe("a workstation, dark")
	b.looks("light")

	t.Log("# under another name it has another address")
	b.act(`//h3/parent::div//button[.="More"]`, "Rename…")
	b.do(chromedp.WaitVisible(`#name`), chromedp.Evaluate[chromedp.Void](`document.querySelector("#name").select()`), keys(`#name`, "herb-33"), click(`//div[@role="dialog"]//button[.="Rename"]`), chromedp.WaitVisible(`//h3[contains(., "herb-33")]`))
	b.until(`location.pathname === "/workstations/herb-33"`)
	b.do(chromedp.Reload(), chromedp.WaitVisible(`//h3[contains(., "herb-33")]`))
}
