package console_test

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/core/proof"
	"jugate/demo"
)

func (b browser) signInAs(name, password string) {
	b.t.Helper()
	b.do(chromedp.WaitVisible(`#password`), keys(`#name`, name), keys(`#password`, password), click(`button[type=submit]`))
}

func TestPeopleComeInAndSeeWhatIsTheirs(t *testing.T) {
	stage := openStage(t)
	_, err := stage.Prepare(t.Context())
	require.NoError(t, err)
	b := open(t, stage)
	b.do(chromedp.Navigate(stage.URL))
	b.signInAs("ines", "not the password")
	b.do(chromedp.WaitVisible(`//*[contains(text(), "the name or the password is wrong")]`), chromedp.Reload())
	b.signInAs("ines", demo.Password)

	t.Log("# somebody is taken in, and gets a link")
	b.do(click(`//a[text()="People"]`), chromedp.WaitVisible(`//b[text()="tomas"]`))
	b.settled()
	b.shoot("people")
	b.do(click(`//button[contains(., "Take somebody in…")]`), chromedp.WaitVisible(`#person`), keys(`#person`, "rowan"), keys(`#full_name`, "Rowan Vale"),
		click(`//div[contains(@class, "ant-modal-footer")]//button[contains(., "Take in")]`), chromedp.WaitVisible(`//code[contains(text(), "/welcome#")]`))
	link, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](`[...document.querySelectorAll("code")].find(c => c.textContent.includes("/welcome#")).textContent`))
	require.NoError(t, err)
	p, err := stage.Client.Person(t.Context(), "rowan")
	require.NoError(t, err)
	assert.Equal(t, []api.Grant{{Role: "reader", On: "everything"}}, p.Grants)
	assert.False(t, p.Password)

	t.Log("# the link sets a password, once, and what rowan may not do is not shown")
	other := open(t, stage)
	other.do(chromedp.Navigate(link), chromedp.WaitVisible(`//*[contains(text(), "Welcome, rowan")]`), keys(`#password`, "short"), keys(`#again`, "shorter"), click(`button[type=submit]`),
		chromedp.WaitVisible(`//*[text()="This is another one."]`), chromedp.Reload(), chromedp.WaitVisible(`#password`), keys(`#password`, demo.Password), keys(`#again`, demo.Password), click(`button[type=submit]`),
		chromedp.WaitVisible(`//a[text()="Workstations"]`))
	other.until(`![...document.querySelectorAll("a")].some(a => a.textContent === "People")`)
	other.do(chromedp.Navigate(link), chromedp.WaitVisible(`//*[contains(text(), "this link is not good (any more)")]`))

	t.Log("# a session is ended from afar")
	b.do(click(`//div[contains(@class, "ant-modal-footer")]//button[contains(., "Done")]`), chromedp.Reload(), chromedp.WaitVisible(`//td//b[text()="rowan"]`))
	require.NoError(t, stage.Client.RemovePerson(t.Context(), "rowan"))
	other.do(chromedp.Navigate(stage.URL), chromedp.WaitVisible(`#password`))

	t.Log("# all of it is in the logbook")
	b.do(click(`//a[text()="Logbook"]`), chromedp.WaitVisible(`//td[text()="remove-person"]`), chromedp.WaitVisible(`//td[text()="person rowan"]`))
	b.settled()
	b.until(`[...document.querySelectorAll("tr")].some(r => r.innerText.includes("ines") && r.innerText.includes("add-person") && r.innerText.includes("console"))`)
	b.shoot("console-logbook")

	t.Log("# and what proves it: the signed head, a witness, and a service whose restore waits for somebody")
	keys, err := stage.Client.LogKeys(t.Context())
	require.NoError(t, err)
	private, err := proof.NewKey("alpine-house")
	require.NoError(t, err)
	alpine, err := proof.ParseKey(private)
	require.NoError(t, err)
	require.NoError(t, stage.Client.Watch(t.Context(), api.NewWatched{Name: "alpine-house", Key: alpine.Verifier()}))
	b.do(click(`//*[contains(@class, "ant-segmented-item-label") and text()="Proof"]`), chromedp.WaitVisible(`//code[contains(., "`+keys.Log+`")]`), chromedp.WaitVisible(`//b[text()="alpine-house"]`))
	b.settled()
}
