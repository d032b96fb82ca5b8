package console_test

import (
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/demo"
)

// The dialog says what stays on each disk, and refuses what cannot stay there; the page of a workstation shows what is on its disk.
func TestADeliveryLeavesPeoplesFiles(t *testing.T) {
	stage, err := demo.Open(t.Context(), demo.Options{Story: t.Output(), Rate: 100_000_000})
	require.NoError(t, err)
	defer stage.Close()
	p, err := stage.Prepare(t.Context())
	require.NoError(t, err)
	b := open(t, stage)
	b.do(chromedp.Navigate(stage.URL))
	b.signIn(stage.Token)

	t.Log("# two of the larger disks have room for them since the last delivery")
	d, err := stage.Client.Deliver(t.Context(), api.NewDelivery{Image: p.Version.Image, To: p.Room[6:], RestoreOptions: api.RestoreOptions{Sizes: []string{"DATA=rest"}}})
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		d, err = stage.Client.Delivery(t.Context(), d.ID)
		return err == nil && d.Ended != nil
	}, 5*time.Minute, 100*time.Millisecond)
	b.do(
		click(`//a[text()="Images"]`),
		click(`//tr[@data-row-key="garden-desk"]//button[contains(., "Deliver")]`),
		keys(`(//div[contains(@class, "ant-modal")]//input[@role="combobox"])[1]`, p.Room[6]),
		click(`//div[contains(@class, "ant-select-item-option") and contains(., "`+p.Room[6]+`")]`),
		keys(`(//div[contains(@class, "ant-modal")]//input[@role="combobox"])[1]`, p.Room[7]),
		click(`//div[contains(@class, "ant-select-item-option") and contains(., "`+p.Room[7]+`")]`),
		click(`//div[contains(@class, "ant-modal-title")]`),
		click(`//span[contains(text(), "Partitions: what stays")]`),
		keys(`#keep`, "label=DATA,"),
		chromedp.WaitVisible(`//td[contains(., "partition 3 (DATA)")]`),
	)
	b.settled()
	b.shoot("console-deliver")

	t.Log("# one without such a partition is named before anything is written")
	b.do(
		keys(`(//div[contains(@class, "ant-modal")]//input[@role="combobox"])[1]`, p.Room[0]),
		click(`//div[contains(@class, "ant-select-item-option") and contains(., "`+p.Room[0]+`")]`),
		chromedp.WaitVisible(`//li[contains(., "`+p.Room[0]+`: there is no partition label=DATA: the disk has no partition table")]`),
	)
	assert.Equal(t, 1, b.count(`.ant-modal-footer .ant-btn-primary[disabled]`))
}
