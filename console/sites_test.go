package console_test

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/demo"
)

func TestTheSitesPage(t *testing.T) {
	stage, err := demo.Open(t.Context(), demo.Options{Story: t.Output()})
	require.NoError(t, err)
	defer stage.Close()
	require.NoError(t, stage.PlayOutpost(t.Context()))
	b := open(t, stage)
	b.do(chromedp.Navigate(stage.URL + "/sites"))
	b.signIn(stage.Token)
	b.do(chromedp.WaitVisible(`//tr[@data-row-key="alpine"]//*[text()="up"]`))

	t.Log("# another one gets its code, with the command that it is for")
	b.do(
		click(`//button[contains(., "Add an outpost")]`),
		keys(`#outpost`, "palm-house"),
		click(`//div[@role="dialog"]//button[.="Add"]`),
		chromedp.WaitVisible(`//*[contains(text(), "jugate-outpost --service `+stage.URL+` --join ")]`),
	)
	b.shoot("outpost-code")
	b.do(click(`//div[@role="dialog" and contains(., "Start this on")]//button[@aria-label="Close"]`), chromedp.WaitVisible(`//tr[@data-row-key="palm-house"]//*[text()="expected"]`))
	b.do(click(`//tr[@data-row-key="alpine"]//button[contains(@class, "expand")]`), chromedp.WaitVisible(`//*[contains(text(), "Certificate until")]`))
	b.shoot("console-sites")

	t.Log("# one that is trusted no more")
	b.do(click(`//tr[@data-row-key="alpine"]//button[.="Withdraw"]`), click(`//div[contains(@class, "popconfirm")]//button[.="Withdraw"]`), chromedp.WaitVisible(`//tr[@data-row-key="alpine"]//*[text()="withdrawn"]`))
	o, err := stage.Client.Outpost(t.Context(), "alpine")
	require.NoError(t, err)
	assert.Equal(t, "withdrawn", o.State)
}
