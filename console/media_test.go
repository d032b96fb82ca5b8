package console_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
)

// A stick that carries an image is made in the console, and says what it is.
func TestMediaThatCarryAnImage(t *testing.T) {
	stage := openStage(t)
	_, err := stage.Prepare(t.Context())
	require.NoError(t, err)
	system := t.TempDir()
	for _, name := range []string{"boot/vmlinuz-6.1.0-9-amd64", "lib/modules/6.1.0-9-amd64/kernel/none", "usr/lib/shim/shimx64.efi.signed", "usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(system, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(system, name), make([]byte, 1<<20), 0o644))
	}
	_, err = stage.Client.MakeBuild(t.Context(), api.NewBuild{Folders: []string{system}, Offer: true})
	require.NoError(t, err)
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
