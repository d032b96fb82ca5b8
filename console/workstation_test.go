package console_test

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"jugate/api"
)

// Everything that is known of a workstation stands on its page, which has an address of its own.
func TestTheWorkstationPage(t *testing.T) {
	stage := prepared(t)
	ctx := t.Context()
	_, err := stage.Client.SetAnswers(ctx, api.NewAnswers{Of: "group:herbarium-scanning", Values: map[string]any{"time_zone": "Europe/Vienna"}})
	require.NoError(t, err)
	deliver(t, stage, "garden-desk", "herb-03")
	b := signedIn(t, stage, "/workstations")
	b.do(
		click(`//a[.="herb-03"]`),
		chromedp.WaitVisible(`//h3[contains(., "herb-03")]`),
		chromedp.WaitVisible(`//b[text()="garden-desk@1"]`),
		chromedp.WaitVisible(`//td[text()="Europe/Vienna"]`),
	)
	b.do(chromedp.WaitVisible(`//td[text()="network"]`), chromedp.WaitVisible(`//span[text()="admit-workstation"]`), chromedp.WaitVisible(`//*[contains(text(), "Nothing since it was seen first")]`))
	b.settled()
	b.shoot("workstation-page")
	b.axe("a workstation")
	b.looks("dark")
	b.do(chromedp.Reload(), chromedp.WaitVisible(`//b[text()="garden-desk@1"]`), chromedp.WaitVisible(`//td[text()="Europe/Vienna"]`))
	b.settled()
	b.axe("a workstation, dark")
	b.looks("light")

	t.Log("# the doctor follows it from the power button on")
	b.do(click(`//button[.="Does it not come up?"]`), chromedp.WaitVisible(`//div[contains(@class, "ant-modal-title") and .="What the doctor says of herb-03"]`), chromedp.WaitVisible(`//div[@role="dialog"]//*[text()="Nothing is out of order."]`), chromedp.WaitVisible(`//div[@role="dialog"]//b`))
	b.settled()
	b.axe("what the doctor says of a workstation")
	b.shoot("doctor-workstation")
	b.do(click(`//div[@role="dialog"]//button[.="Close"]`))
	b.closed()

	t.Log("# what is said of it is written there")
	b.do(click(`//button[.="Write…"]`), keys(`textarea[aria-label="Note"]`, "by the window"), click(`//button[.="Keep"]`), chromedp.WaitVisible(`//span[text()="by the window"]`), chromedp.WaitVisible(`//span[text()="note-workstation"]`))

	t.Log("# under another name it has another address")
	b.act(`//h3/parent::div//button[.="More"]`, "Rename…")
	b.do(chromedp.WaitVisible(`#name`), chromedp.Evaluate[chromedp.Void](`document.querySelector("#name").select()`), keys(`#name`, "herb-33"), click(`//div[@role="dialog"]//button[.="Rename"]`), chromedp.WaitVisible(`//h3[contains(., "herb-33")]`))
	b.until(`location.pathname === "/workstations/herb-33"`)
	b.do(chromedp.Reload(), chromedp.WaitVisible(`//h3[contains(., "herb-33")]`))
}
