package console_test

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
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

	t.Log("# how its line may be used, and what it holds ahead of time")
	_, err = stage.Client.AddGroup(t.Context(), api.NewGroup{Name: "alpine-house"})
	require.NoError(t, err)
	b.do(
		click(`//button[.="Change…"]`),
		keys(`#mbit`, "20"),
		keys(`#hours`, "20:00-06:00"),
		click(`//div[@role="dialog"]//button[.="Change"]`),
		chromedp.WaitVisible(`//*[contains(text(), "from 20:00 to 06:00 there")]`),
		click(`//button[.="Place an image…"]`),
		click(`//label[contains(., "Every image of a group")]`),
		keys(`#group`, "alpine-house"),
		click(`//div[@role="dialog"]//button[.="Place"]`),
		chromedp.WaitVisible(`//td[text()="the newest of every image of alpine-house"]`),
	)
	b.shoot("console-sites")
	o, err := stage.Client.Outpost(t.Context(), "alpine")
	require.NoError(t, err)
	assert.Equal(t, api.OutpostSettings{LineRate: 20_000_000, Hours: "20:00-06:00", SignIn: 24}, o.OutpostSettings)
	b.do(click(`//button[.="End"]`), click(`//div[contains(@class, "popconfirm")]//button[.="End it"]`), chromedp.WaitNotPresent(`//td[text()="the newest of every image of alpine-house"]`))

	t.Log("# one that is trusted no more")
	b.do(click(`//tr[@data-row-key="alpine"]//button[.="Withdraw"]`), click(`//div[contains(@class, "popconfirm")]//button[.="Withdraw"]`), chromedp.WaitVisible(`//tr[@data-row-key="alpine"]//*[text()="withdrawn"]`))
	o, err = stage.Client.Outpost(t.Context(), "alpine")
	require.NoError(t, err)
	assert.Equal(t, "withdrawn", o.State)
}
