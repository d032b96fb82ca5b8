package console_test

import (
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"jugate/api"
)

// Who never opens the console gets a page of paper, or a table.
func TestReports(t *testing.T) {
	stage := openStage(t)
	_, err := stage.Prepare(t.Context())
	require.NoError(t, err)
	ctx := t.Context()
	_, err = stage.Client.SetGroupImage(ctx, "herbarium-scanning", "garden-desk")
	require.NoError(t, err)
	d, err := stage.Client.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"herb-01", "herb-02", "herb-03"}, Answers: "none"})
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		d, err = stage.Client.Delivery(ctx, d.ID)
		return err == nil && d.Ended != nil
	}, time.Minute, 50*time.Millisecond)
	b := open(t, stage)
	b.do(chromedp.Navigate(stage.URL + "/reports"))
	b.signIn(stage.Token)
	b.do(chromedp.WaitVisible(`//td[.="herb-01, herb-02, herb-03"]`), chromedp.WaitVisible(`//tr[contains(., "no image")]//span[text()="behind"]`))
	b.settled()
	b.shoot("console-reports")

	t.Log("# as a table")
	b.do(chromedp.Evaluate[chromedp.Void](`const make = URL.createObjectURL.bind(URL); URL.createObjectURL = b => { b.text().then(t => window.saved = t); return make(b) }; 0`))
	b.do(click(`//button[.="Save as CSV"]`))
	b.until(`window.saved?.includes("herbarium-scanning,garden-desk@1,false,3,garden-desk@1,false,herb-01;herb-02;herb-03")`)

	t.Log("# on paper there is no menu and no button")
	media := func(kind string) {
		_, err := chromedp.Call(b.ctx, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Media: kind})
		require.NoError(t, err)
	}
	media("print")
	b.until(`getComputedStyle(document.querySelector("header")).display === "none" && [...document.querySelectorAll("button")].every(e => getComputedStyle(e).display === "none" || !e.getClientRects().length)`)
	b.shoot("report-on-paper")
	media("")

	t.Log("# what multicast has saved, with a sum; what failed; the receipts of the period")
	for _, r := range []struct{ name, shown string }{
		{"Savings", `//tfoot//*[text()="1 delivery"]`}, {"Failures", `//*[contains(text(), "has found anything wrong")]`}, {"Receipts", `//td[text()="herb-03"]`},
	} {
		b.do(click(`//label[.//div[text()="`+r.name+`"]]`), chromedp.WaitVisible(r.shown), chromedp.WaitVisible(`//h3[contains(., "`+r.name+`, ")]`))
		b.settled()
		b.axe("report " + r.name)
		b.shoot("report-" + strings.ToLower(r.name))
	}
	b.until(`new URLSearchParams(location.search).get("report") === "Receipts"`)
}
