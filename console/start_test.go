package console_test

import (
	"os"
	"testing"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/apiclient"
)

// looks has the reader's system be light or dark.
func (b browser) looks(how string) {
	b.t.Helper()
	_, err := chromedp.Call(b.ctx, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: how}}})
	require.NoError(b.t, err)
}

// axe looks at the page that is open, by the rules of WCAG 2.2 AA, and says what breaks them.
func (b browser) axe(page string) {
	b.t.Helper()
	script, err := os.ReadFile("node_modules/axe-core/axe.min.js")
	require.NoError(b.t, err, "make console installs it")
	_, err = chromedp.Run(b.ctx, chromedp.Evaluate[chromedp.Void](string(script)+";0"))
	require.NoError(b.t, err)
	var broken []string
	broken, err = chromedp.Run(b.ctx, chromedp.Evaluate[[]string](`axe.run(document, {runOnly: {type: "tag", values: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"]}}).then(r => r.violations.flatMap(v => v.nodes.slice(0, 4).map(n => v.id + " (" + v.impact + "): " + v.help + ": " + n.html.slice(0, 160))))`, awaited))
	require.NoError(b.t, err)
	for _, line := range broken {
		b.t.Errorf("%s: %s", page, line)
	}
}

// awaited has an expression that is a promise be waited for.
func awaited(p *runtime.EvaluateParams) { p.AwaitPromise = new(true) }

// Every page can be used by who hears it, or sees little.
func TestPagesAreAccessible(t *testing.T) {
	stage := full(t)
	b := open(t, stage)
	b.do(chromedp.Navigate(stage.URL), chromedp.WaitVisible(`#name`))
	b.axe("sign in")
	b.signIn(stage.Token)
	for _, how := range []string{"light", "dark"} {
		b.looks(how)
		for _, page := range pages {
			b.do(chromedp.Navigate(stage.URL+"/"+page), chromedp.WaitVisible(`//h3`))
			b.settled()
			b.axe(how + " /" + page)
		}
	}
}

// The first page says what needs somebody, and where that is mended.
func TestTheFirstPage(t *testing.T) {
	stage := prepared(t)
	_, err := stage.Client.AddOutpost(t.Context(), api.NewOutpost{Name: "alpine"})
	require.NoError(t, err)
	_, err = stage.Client.AddStore(t.Context(), api.NewStore{Name: "big", Place: t.TempDir()})
	require.NoError(t, err)
	_, err = stage.Client.Deliver(t.Context(), api.NewDelivery{Image: "garden-desk", To: []string{"herbarium-scanning"}, Start: "at:2031-01-01T06:00:00Z"})
	require.NoError(t, err)
	b := signedIn(t, stage, "/")
	b.do(
		chromedp.WaitVisible(`//a[text()="3 newcomers wait to be admitted"]`),
		chromedp.WaitVisible(`//a[text()="outpost alpine"]`),
		chromedp.WaitVisible(`//*[contains(text(), "start jugate-outpost there with its code")]`),
		chromedp.WaitVisible(`//a[contains(., "garden-desk@1")]`),
	)
	b.settled()
	b.shoot("console-now")
	b.looks("dark")
	b.until(`getComputedStyle(document.querySelector(".ant-layout")).backgroundColor === "rgb(0, 0, 0)"`)
	b.shoot("now-dark")

	b.looks("light")

	t.Log("# the doctor says what is wrong, and what to do about it; what is well is folded away")
	b.do(click(`//button[.="Ask the doctor"]`), chromedp.WaitVisible(`//div[@role="dialog"]//b[text()="outpost alpine"]`), chromedp.WaitVisible(`//div[@role="dialog"]//*[contains(text(), "start jugate-outpost there with its code")]`))
	assert.Zero(t, b.count(`div[role="dialog"] .ant-badge-status-success`))
	b.do(click(`//div[@role="dialog"]//*[contains(text(), "things are well")]`), chromedp.WaitVisible(`//div[@role="dialog"]//b[text()="records"]`))
	b.settled()
	b.axe("what the doctor says")
	b.shoot("doctor")
	b.do(click(`//div[@role="dialog"]//button[.="Look again"]`), chromedp.WaitVisible(`//div[@role="dialog"]//b[text()="outpost alpine"]`), click(`//div[@role="dialog"]//button[.="Close"]`))
	b.closed()

	t.Log("# a part is begun anew, after it was said what that means")
	b.do(click(`//button[@aria-label="Begin anew: store big"]`), chromedp.WaitVisible(`//*[contains(text(), "what is in it is looked up")]`))
	b.settled()
	b.axe("a part that is begun anew")
	b.do(click(`//div[contains(@class, "popconfirm")]//button[.="Begin anew"]`), chromedp.WaitVisible(`//*[contains(text(), "store big: 0 versions")]`))

	t.Log("# it follows what happens")
	page, err := stage.Client.Workstations(t.Context(), apiclient.List{Filter: map[string]string{"state": "newcomer"}})
	require.NoError(t, err)
	for _, w := range page.Items {
		_, err = stage.Client.Admit(t.Context(), w.Addresses[0], api.Admission{Name: "kiosk-" + w.Addresses[0][15:]})
		require.NoError(t, err)
	}
	b.do(chromedp.WaitNotPresent(`//a[contains(text(), "newcomers wait")]`), click(`//a[text()="backups"]`), chromedp.WaitVisible(`//h3[text()="Stores and backups"]`), click(`//a[contains(., "Jugate")]`), chromedp.WaitVisible(`//h3[text()="Now"]`))
}
