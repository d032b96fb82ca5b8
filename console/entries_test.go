package console_test

import (
	"bytes"
	"debug/pe"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/demo/madeup"
)

func TestABootEntryIsReleasedAndBooted(t *testing.T) {
	stage := openStage(t)
	for address, name := range map[string]string{"00:00:5e:00:53:11": "herb-01", "00:00:5e:00:53:12": "herb-02"} {
		_, err := stage.Client.CheckIn(t.Context(), api.CheckIn{Boot: "boot", AgentVersion: "test", Addresses: []string{address}, Inventory: api.Inventory{Maker: "Alder Works", Model: "A310", Firmware: "UEFI", SecureBoot: name == "herb-02", Disks: []api.Disk{}, Cards: []api.Card{}}})
		require.NoError(t, err)
		_, err = stage.Client.Admit(t.Context(), address, api.Admission{Name: name})
		require.NoError(t, err)
	}
	_, err := stage.Client.AddBootEntry(t.Context(), "memory-test", "made-up-memory-test.efi", "", bytes.NewReader(madeup.UEFIProgram(pe.IMAGE_FILE_MACHINE_AMD64)))
	require.NoError(t, err)
	b := open(t, stage)
	b.do(chromedp.Navigate(stage.URL))
	b.signIn(stage.Token)
	b.do(click(`//a[text()="Boot"]`), chromedp.WaitVisible(`//tr[@data-row-key="memory-test"]`), chromedp.WaitVisible(`//*[text()="those who may deliver, after signing in"]`))

	t.Log("# it is released for everybody")
	b.do(click(`//tr[@data-row-key="memory-test"]//button[contains(., "Settings")]`), chromedp.WaitVisible(`#title`), keys(`#title`, "Test the memory"), keys(`#released`, "everybody\r"))
	b.settled()
	b.do(click(`//div[contains(@class, "ant-modal-footer")]//button[contains(., "Keep")]`), chromedp.WaitVisible(`//tr[@data-row-key="memory-test"]//*[text()="everybody"]`))
	e, err := stage.Client.BootEntry(t.Context(), "memory-test")
	require.NoError(t, err)
	assert.Equal(t, []string{"everybody"}, e.Released)
	assert.Equal(t, "Test the memory", e.Title)

	t.Log("# what one is told can be looked at")
	b.do(click(`//tr[@data-row-key="memory-test"]//button[contains(., "Preview")]`), chromedp.WaitVisible(`#previewed`), keys(`#previewed`, "herb-01"), click(`//div[contains(@class, "ant-select-item-option-content") and text()="herb-01"]`),
		chromedp.WaitVisible(`//*[contains(text(), "started as a UEFI program")]`))
	b.do(chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll(".ant-modal-close")].at(-1).click()`))
	b.until(`[...document.querySelectorAll(".ant-modal-wrap")].every(m => m.style.display === "none")`)

	t.Log("# media of a build are made, and saved by the browser")
	offerBuild(t, stage)
	b.do(chromedp.Reload(), click(`//tr[@data-row-key="1"]//button[contains(., "Media")]`), chromedp.WaitVisible(`#address`), keys(`#address`, "192.0.2.70-192.0.2.99/24"))
	b.do(chromedp.Evaluate[chromedp.Void](`window.saved = undefined; URL.createObjectURL = blob => { window.saved = blob.size; return "#" }`), click(`//div[contains(@class, "ant-modal-footer")]//button[contains(., "Make and save")]`))
	b.until(`window.saved > 32 * 1024 * 1024`)
	media, err := stage.Client.MediaKeys(t.Context())
	require.NoError(t, err)
	require.Len(t, media.Items, 1)
	b.until(`[...document.querySelectorAll(".ant-modal-wrap")].every(m => m.style.display === "none")`)

	t.Log("# it is booted; who cannot start it is named")
	b.do(click(`//tr[@data-row-key="memory-test"]//button[contains(., "Boot")]`), chromedp.WaitVisible(`#to`), keys(`#to`, "herb-02"), click(`//div[contains(@class, "ant-select-item-option-content") and text()="herb-02"]`),
		chromedp.Evaluate[chromedp.Void](`document.activeElement.blur()`)) // the list of names closes, which lies over the button
	b.settled()
	b.do(click(`//div[contains(@class, "ant-modal-footer")]//button[contains(., "Boot it")]`), chromedp.WaitVisible(`//*[contains(text(), "herb-02:") and contains(text(), "it is not signed")]`))
	made, err := stage.Client.ChooseBootEntry(t.Context(), api.BootChoice{To: []string{"herb-01"}, When: "never"})
	require.NoError(t, err)
	assert.Equal(t, []string{"herb-01"}, made.Workstations)
}
