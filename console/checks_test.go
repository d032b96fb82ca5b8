package console_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/apiclient"
	"jugate/demo/golddisk"
)

// Who is behind shows in the roster; a machine is checked from there, its disk's speeds are drawn beside those of its siblings, and a disk
// is wiped only by whoever types its name.
func TestMachinesAreCheckedAndWiped(t *testing.T) {
	stage := openStage(t)
	_, err := stage.Prepare(t.Context())
	require.NoError(t, err)
	_, err = stage.Client.SetGroupImage(t.Context(), "herbarium-scanning", "garden-desk")
	require.NoError(t, err)
	stage.Fault("herb-02", [2]int64{150 * golddisk.MiB, 151 * golddisk.MiB})
	_, err = stage.Client.Check(t.Context(), api.NewCheck{To: []string{"herb-02", "herb-03", "herb-04", "herb-05"}, CheckOptions: api.CheckOptions{Surface: "whole", Memory: "quick", Network: true, Health: true}})
	require.NoError(t, err)
	b := open(t, stage)
	b.do(chromedp.Navigate(stage.URL))
	b.signInAs("ines", "the garden gate is green")
	b.do(click(`//a[text()="Workstations"]`), chromedp.WaitVisible(`//tr[.//b[text()="herb-01"]]//span[text()="behind garden-desk@1"]`))

	t.Log("# one more is checked, by hand")
	b.do(click(`//tr[.//b[text()="herb-01"]]//button[contains(., "More")]`), chromedp.WaitVisible(`//li[contains(., "Check…")]`))
	b.settled()
	b.do(click(`//li[contains(., "Check…")]`), chromedp.WaitVisible(`//div[contains(@class, "ant-modal-title") and text()="Check herb-01"]`))
	b.settled()
	b.do(click(`//div[contains(@class, "ant-modal-footer")]//button[contains(., "Check it")]`))
	b.do(chromedp.WaitVisible(`//*[contains(text(), "herb-01 checks itself as soon as")]`)) // which lies over the head of the page for a while
	b.until(`[...document.querySelectorAll(".ant-modal-wrap")].every(m => m.style.display === "none") && !document.querySelector('[class*="ant-message-notice"]')`)
	b.do(click(`//a[text()="Errands"]`), chromedp.WaitVisible(`//div[contains(@class, "ant-segmented-item-label") and text()="Checks"]`))
	b.settled()
	b.do(click(`//label[.//div[contains(@class, "ant-segmented-item-label") and text()="Checks"]]`))
	b.until(`[..."12345"].every(n => [...document.querySelectorAll("tr")].some(r => r.innerText.includes("herb-0" + n)))`)
	b.until(`document.querySelectorAll("svg[aria-label='speed of the disk']").length >= 5`)
	b.do(click(`//tr[.//b[text()="herb-02"]]//button[contains(@class, "ant-table-row-expand-icon")]`), chromedp.WaitVisible(`//div[contains(text(), "cannot be read")]`))
	b.settled()
	b.shoot("console-checks")

	t.Log("# an order takes out whose disk fails, and goes on for it when that is mended")
	room := []string{"herb-02", "herb-03"}
	_, err = stage.Client.SaveOrder(t.Context(), api.Order{Name: "room", Check: &api.PreparedCheck{NewCheck: api.NewCheck{To: room, CheckOptions: api.CheckOptions{Surface: "whole"}}},
		Deliver: &api.PreparedDelivery{NewDelivery: api.NewDelivery{Image: "garden-desk", To: room}}})
	require.NoError(t, err)
	_, err = stage.Client.SaveOrder(t.Context(), api.Order{Name: "new-kiosks", WhenBehind: true, Deliver: &api.PreparedDelivery{NewDelivery: api.NewDelivery{Image: "garden-desk", To: []string{"visitor-kiosks"}}}})
	require.NoError(t, err)
	run, err := stage.Client.RunOrder(t.Context(), "room")
	require.NoError(t, err)
	b.do(click(`//a[text()="Orders"]`), chromedp.WaitVisible(`//td[.//div[text()="when one is behind"]]`), click(`//label[.//div[contains(@class, "ant-segmented-item-label") and text()="History"]]`))
	row := fmt.Sprintf(`//tr[.//td[text()="No. %d"]]`, run.ID)
	b.do(chromedp.WaitVisible(row+`//button[contains(., "Go on…")]`), click(row+`//button[contains(@class, "ant-table-row-expand-icon")]`), chromedp.WaitVisible(`//td//div[contains(text(), "herb-02: ") and contains(text(), "cannot be read")]`))
	b.settled()
	stage.Fault("herb-02", [2]int64{})
	b.do(click(row+`//button[contains(., "Go on…")]`), chromedp.WaitVisible(`.ant-popconfirm-buttons .ant-btn-primary`))
	b.settled()
	b.do(click(`.ant-popconfirm-buttons .ant-btn-primary`))
	b.until(`[...document.querySelectorAll("tr")].some(r => r.innerText.includes("room") && r.innerText.includes("done"))`)
	b.until(`!document.querySelector('[class*="ant-message-notice"]')`)

	t.Log("# nobody is wiped by the way")
	b.do(click(`//a[text()="Workstations"]`), chromedp.WaitVisible(`//tr[.//b[text()="herb-08"]]`))
	b.do(click(`//tr[.//b[text()="herb-08"]]//button[contains(., "More")]`), chromedp.WaitVisible(`//li[contains(., "Wipe its disk…")]`))
	b.settled()
	b.do(click(`//li[contains(., "Wipe its disk…")]`), chromedp.WaitVisible(`//div[contains(@class, "ant-modal-title") and text()="Wipe the disk of herb-08"]`))
	b.settled()
	b.do(keys(`#wipe_word`, "herb-07"), click(`//div[contains(@class, "ant-modal-footer")]//button[contains(., "Wipe it")]`), chromedp.WaitVisible(`//div[text()="That is not herb-08."]`))
	b.settled()
	b.do(keys(`#wipe_word`, "\b8"))
	b.until(`!document.body.innerText.includes("That is not herb-08.")`)
	b.settled()
	b.do(click(`//div[contains(@class, "ant-modal-footer")]//button[contains(., "Wipe it")]`))
	b.until(`[...document.querySelectorAll(".ant-modal-wrap")].every(m => m.style.display === "none")`)
	var wiped api.Page[api.Receipt]
	require.Eventually(t, func() bool {
		wiped, err = stage.Client.Receipts(t.Context(), apiclient.List{Filter: map[string]string{"outcome": "wiped"}})
		return err == nil && len(wiped.Items) == 1
	}, 5*time.Minute, 50*time.Millisecond)
	assert.Equal(t, []any{"herb-08", "ines"}, []any{wiped.Items[0].Workstation, wiped.Items[0].OrderedBy})
}
