package console_test

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/order"
)

// Work is prepared, run by a click, watched and looked back at.
func TestAnOrderIsPreparedAndRun(t *testing.T) {
	stage := openStage(t)
	_, err := stage.Prepare(t.Context())
	require.NoError(t, err)
	_, err = stage.Client.SaveOrder(t.Context(), api.Order{Name: "herbarium-weekly", Note: "the scanning room, each Monday", Released: []string{"helper"},
		Deliver:  &api.PreparedDelivery{NewDelivery: api.NewDelivery{Image: "garden-desk", To: []string{"herbarium-scanning"}, Reuse: true}},
		Schedule: &api.OrderSchedule{When: "monday 18:30", Zone: "Europe/Vienna"}})
	require.NoError(t, err)
	_, err = stage.Client.SaveOrder(t.Context(), api.Order{Name: "freezer-probes", Note: "which desks have one",
		Commands: []api.PreparedCommand{{Command: api.Command{Name: "probe", Script: "lsusb | grep -i 'corvid probe'\n", Place: "boot-environment"}, To: []string{"seed-bank-lab"}}}})
	require.NoError(t, err)
	b := open(t, stage)
	b.do(chromedp.Navigate(stage.URL))
	b.signInAs("ines", "the garden gate is green")
	b.do(click(`//a[text()="Orders"]`), chromedp.WaitVisible(`//b[text()="herbarium-weekly"]`))

	t.Log("# one is prepared; what is not a schedule is said in the service's words")
	b.do(click(`//button[contains(., "Prepare an order…")]`), chromedp.WaitVisible(`#order`), keys(`#order`, "golden-month"), click(`//span[text()="capture"]`),
		chromedp.WaitVisible(`#workstation`), keys(`#workstation`, "desk-gold"), chromedp.WaitVisible(`//div[contains(@class, "ant-select-item-option-content") and text()="desk-gold"]`),
		click(`//div[contains(@class, "ant-select-item-option-content") and text()="desk-gold"]`), keys(`#image`, "garden-desk"),
		keys(`#command_script`, "true"), chromedp.WaitVisible(`#command_name`), keys(`#command_name`, "settle"), click(`//span[contains(text(), "Before the capture")]`),
		click(`//span[contains(text(), "Whoever it fails for")]`), keys(`#when`, "now and then"))
	b.settled()
	b.do(click(`//div[contains(@class, "ant-modal-footer")]//button[contains(., "Keep it")]`), chromedp.WaitVisible(`//*[contains(text(), "is not a schedule")]`),
		chromedp.Evaluate[chromedp.Void](`document.querySelector('#when').focus(); document.querySelector('#when').select()`))
	b.do(keys(`#when`, "first monday 06:00"), click(`//div[contains(@class, "ant-modal-footer")]//button[contains(., "Keep it")]`), chromedp.WaitVisible(`//td//b[text()="golden-month"]`))
	kept, err := stage.Client.Order(t.Context(), "golden-month")
	require.NoError(t, err)
	assert.Equal(t, "desk-gold", kept.Capture.Workstation)
	assert.Equal(t, []api.PreparedCommand{{Command: api.Command{Name: "settle", Script: "true", Place: "system", Disk: "only", MayFail: true, WhenDone: "stay"}, Before: "capture"}}, kept.Commands)
	kept.Commands = nil // the simulated golden machine has no shell
	_, err = stage.Client.SaveOrder(t.Context(), kept.Order)
	require.NoError(t, err)
	require.NotNil(t, kept.Next)

	b.until(`[...document.querySelectorAll(".ant-modal-wrap")].every(m => m.style.display === "none")`)
	b.settled()
	t.Log("# it is run, and its history has what it made")
	b.do(click(`//tr[.//b[text()="golden-month"]]//button[contains(., "Run…")]`), chromedp.WaitVisible(`//p[contains(text(), "The disk of desk-gold becomes the next version")]`))
	b.settled()
	b.do(click(`//div[contains(@class, "ant-modal-footer")]//button[contains(., "Run it")]`), chromedp.WaitVisible(`//td[text()="No. 1"]`))
	b.until(`[...document.querySelectorAll("tr")].some(r => r.innerText.includes("golden-month") && r.innerText.includes("done"))`)
	b.do(click(`//tr[.//td[text()="No. 1"]]//button[contains(@class, "ant-table-row-expand-icon")]`), chromedp.WaitVisible(`//td[text()="capture"]`))
	b.settled()
	runs, err := stage.Client.Runs(t.Context(), apiclient.List{})
	require.NoError(t, err)
	require.Len(t, runs.Items, 1)
	assert.Equal(t, order.Done, runs.Items[0].State)
	assert.Equal(t, "ines", runs.Items[0].OrderedBy)

	b.until(`!document.querySelector('[class*="ant-message-notice"]')`)
	b.do(click(`//label[.//div[contains(@class, "ant-segmented-item-label") and text()="Orders"]]`), chromedp.WaitVisible(`//b[text()="herbarium-weekly"]`))
	b.settled()
	b.shoot("console-orders")
	t.Log("# what a command has said is there to be read")
	b.do(click(`//tr[.//b[text()="freezer-probes"]]//button[contains(., "Run…")]`), chromedp.WaitVisible(`//p[contains(text(), "The command probe is run in the boot environment")]`))
	b.settled()
	b.do(click(`//div[contains(@class, "ant-modal-footer")]//button[contains(., "Run it")]`), chromedp.WaitVisible(`//td[text()="No. 2"]`))
	b.until(`[...document.querySelectorAll("tr")].some(r => r.innerText.includes("freezer-probes") && r.innerText.includes("done"))`)
	b.do(click(`//tr[.//td[text()="No. 2"]]//button[contains(@class, "ant-table-row-expand-icon")]`), chromedp.WaitVisible(`//code[contains(text(), "Corvid Probe")]`))
	b.settled()
	b.do(click(`(//button[contains(., "Output…")])[1]`), chromedp.WaitVisible(`//pre[contains(text(), "Bus 001")]`))
	b.settled()
	b.do(click(`//button[contains(@class, "ant-modal-close")]`))
	b.until(`[...document.querySelectorAll(".ant-modal-wrap")].every(m => m.style.display === "none")`)
	b.settled()
	b.until(`!document.querySelector('[class*="ant-message-notice"]')`)
	b.do(click(`//label[.//div[contains(@class, "ant-segmented-item-label") and text()="Orders"]]`), chromedp.WaitVisible(`//b[text()="herbarium-weekly"]`))
	b.settled()
	t.Log("# what would be overwritten is shown before")
	b.do(click(`//tr[.//b[text()="herbarium-weekly"]]//button[contains(., "Run…")]`), chromedp.WaitVisible(`//div[contains(@class, "ant-modal")]//td[contains(., "herb-01")]`))
	b.settled()
	b.do(click(`//div[contains(@class, "ant-modal-footer")]//button[contains(., "Cancel")]`))
	b.until(`[...document.querySelectorAll(".ant-modal-wrap")].every(m => m.style.display === "none")`)
	b.settled()
	b.do(click(`//tr[.//b[text()="golden-month"]]//button[contains(., "Remove")]`), chromedp.WaitVisible(`.ant-popconfirm-buttons .ant-btn-primary`))
	b.settled()
	b.do(click(`.ant-popconfirm-buttons .ant-btn-primary`))
	b.until(`![...document.querySelectorAll("b")].some(r => r.innerText === "golden-month")`)
}
