package console_test

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A stick that carries an image is made in the console, and says what it is.
func TestMediaThatCarryAnImage(t *testing.T) {
	stage := openStage(t)
	_, err := stage.Prepare(t.Context())
	require.NoError(t, err)
	offerBuild(t, stage)
	b := open(t, stage)
	b.do(chromedp.Navigate(stage.URL + "/netboot"))
	b.signIn(stage.Token)
	b.do(
		click(`//tr[@data-row-key="1"]//button[contains(., "Media")]`),
		click(`//label[contains(., "It gets an image from the stick")]`),
		chromedp.WaitVisible(`#image`),
		keys(`#image`, "garden-desk"),
		click(`//div[contains(@class, "ant-select-item-option-content") and text()="garden-desk"]`),
		chromedp.WaitVisible(`#to`),
		keys(`#to`, "herbarium"),
		click(`//div[contains(@class, "ant-select-item-option-content") and text()="herbarium-scanning (8)"]`),
		chromedp.Evaluate[chromedp.Void](`document.activeElement.blur()`),
		chromedp.Evaluate[chromedp.Void](`window.saved = undefined; URL.createObjectURL = blob => { window.saved = blob.size; return "#" }`),
	)
	b.settled()
	b.shoot("media-carry")
	b.do(click(`//div[contains(@class, "ant-modal-footer")]//button[contains(., "Make and save")]`), chromedp.WaitVisible(`//div[@role="dialog"]//b[.="jugate-media-1.img"]`))
	b.until(`window.saved > 64 * 1024 * 1024`)
	b.shoot("media-made")
	o, err := stage.Client.Outpost(t.Context(), "media-1")
	require.NoError(t, err)
	assert.True(t, o.OnMedia)
	b.do(click(`//div[@role="dialog"]//a[text()="Sites"]`), chromedp.WaitVisible(`//tr[@data-row-key="media-1"]//*[text()="on media"]`))
	b.shoot("sites-media")
}
