package console_test

import (
	"strings"
	"testing"

	"jugate/api"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// Who never opens the console gets a page of paper, or a table.
func TestReports(t *testing.T) {
	stage := prepared(t)
	ctx := t.Context()
	_, err := stage.Client.SetGroupImage(ctx, "herbarium-scanning", "garden-desk")
	require.NoError(t, err)
	_, err = stage.Client.SetAnswers(ctx, api.NewAnswers{Of: "group:seed-bank-lab", Values: map[string]any{"product_key": "AAAAA-BBBBB-CCCCC-DDDDD-EEEEE"}})
	require.NoError(t, err)
	deliver(t, stage, "garden-desk", "herb-01", "herb-02", "herb-03")
	b := signedIn(t, stage, "/reports")
	b.do(chromedp.WaitVisible(`//td[.="herb-01, herb-02, herb-03"]`), chromedp.WaitVisible(`//tr[contains(., "no image")]//span[text()="behind"]`))
	b.settled()
	b.shoot("console-reports")

	t.Log("# as a table")
	b.do(chromedp.Evaluate[chromedp.Void](`const make = URL.createObjectURL.bind(URL); URL.createObjectURL = b => { b.text().then(t => window.saved = t); return make(b) }; 0`))
	b.do(click(`//button[.="Save as CSV"]`))
	b.until(`window.saved?.includes("herbarium-scanning,garden-desk@1,false,3,garden-desk@1,false,herb-01;herb-02;herb-03")`)

	t.Log("# printed, the menu and the buttons are left out")
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

	t.Log("# those of now: drivers, and what is counted")
	for _, r := range []struct{ name, title, shown string }{
		{"Drivers", "Drivers, model by model", `//td[.="Alder Works A520"]/following-sibling::td[text()="network"]`}, {"Licences", "Licences and domains", `//tr[td[.="seed-02"]]/td[text()="…EEEEE, of the group seed-bank-lab"]`},
	} {
		b.do(click(`//label[.//div[text()="`+r.name+`"]]`), chromedp.WaitVisible(r.shown), chromedp.WaitVisible(`//h3[.="`+r.title+`"]`))
		b.settled()
		b.axe("report " + r.name)
		b.shoot("report-" + strings.ToLower(r.name))
	}
	b.do(chromedp.WaitVisible(`//tfoot//*[text()="…EEEEE: 2"]`))
}
