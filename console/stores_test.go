package console_test

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/bucket/buckettest"
	"jugate/demo"
)

// A store is added, versions go there, a backup is made, and a copy of the service is kept.
func TestTheStoresPage(t *testing.T) {
	server := buckettest.Start(t, t.TempDir())
	stage, err := demo.Open(t.Context(), demo.Options{Story: t.Output()})
	require.NoError(t, err)
	defer stage.Close()
	importDesk(t, stage, "lab-desk", "from the lab's own machine")
	b := open(t, stage)
	b.do(chromedp.Navigate(stage.URL + "/stores"))
	b.signIn(stage.Token)
	b.do(
		chromedp.WaitVisible(`//*[contains(text(), "A backup needs a store outside the data folder")]`),
		click(`//button[contains(., "Add a store")]`),
		keys(`#store`, "big"),
		keys(`#place`, server.URL),
		keys(`#key_id`, buckettest.Key),
		keys(`#key_secret`, "wrong"),
		click(`//div[@role="dialog"]//button[.="Try and add it"]`),
		chromedp.WaitVisible(`//*[contains(text(), "cannot be relied on as a store")]`),
		click(`//div[@role="dialog"]//button[.="Cancel"]`),
		chromedp.WaitNotPresent(`//div[@role="dialog"]`),
		click(`//button[contains(., "Add a store")]`),
		keys(`#store`, "big"),
		keys(`#place`, server.URL),
		keys(`#key_id`, buckettest.Key),
		keys(`#key_secret`, buckettest.Secret),
		click(`//div[@role="dialog"]//button[.="Try and add it"]`),
		chromedp.WaitVisible(`//tr[@data-row-key="big"]//*[text()="ready"]`),
		click(`//tr[@data-row-key="big"]//button[.="Use"]`),
		chromedp.WaitVisible(`//tr[@data-row-key="big"]//*[text()="new versions go there"]`),
	)

	t.Log("# versions are moved there")
	b.do(
		click(`//tr[@data-row-key="big"]//button[.="Move all here…"]`),
		click(`//div[contains(@class, "popconfirm")]//button[.="Move"]`),
		chromedp.WaitVisible(`//tr[@data-row-key="big"]/td[5][contains(., "in 1 pack")]`),
		chromedp.WaitVisible(`//tr[@data-row-key="big"]/td[3][.="1"]`),
	)
	v, err := stage.Client.Version(t.Context(), "lab-desk@1")
	require.NoError(t, err)
	assert.Equal(t, "big", v.Store)

	t.Log("# a backup, and when others are made")
	b.do(
		click(`//button[.="Make one…"]`),
		click(`//div[@role="dialog"]//button[.="Make it"]`),
		chromedp.WaitVisible(`//td[text()="there"]`),
		click(`//button[.="When…"]`),
		click(`//div[@role="dialog"]//button[.="Change"]`),
		chromedp.WaitVisible(`//*[contains(text(), "Every day at 02:00 into big")]`),
		click(`//tr[.//td[text()="there"]]//button[.="Check"]`),
		chromedp.WaitVisible(`//*[contains(@class, "confirm-title") and contains(., "The backup is sound")]`),
		click(`//*[contains(@class, "confirm-btns")]//button`),
	)
	due, err := stage.Client.BackupSchedule(t.Context())
	require.NoError(t, err)
	assert.Equal(t, api.BackupSchedule{Store: "big", At: "02:00", Keep: 14}, due.BackupSchedule)

	t.Log("# another machine could become the service")
	b.do(
		click(`//button[.="Keep a copy…"]`),
		click(`//div[contains(@class, "popconfirm")]//button[.="Keep a copy"]`),
		chromedp.WaitVisible(`//*[text()="The service is"]`),
		chromedp.WaitNotPresent(`//*[text()="not yet"]`),
	)
	b.shoot("console-stores")
	copied, err := stage.Client.Standby(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "big", copied.Store)
	b.do(
		click(`//tr[@data-row-key="big"]//button[.="Check"]`),
		chromedp.WaitVisible(`//*[contains(@class, "confirm-title") and contains(., "big is sound")]`),
		click(`//*[contains(@class, "confirm-btns")]//button`),
	)
}
