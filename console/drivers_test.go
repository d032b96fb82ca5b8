package console_test

import (
	"archive/zip"
	"os"
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/demo/madeup"
)

// zipped writes an archive of a folder that write fills.
func zipped(t *testing.T, name string, write func(dir string) error) string {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, write(dir))
	path := filepath.Join(t.TempDir(), name)
	f, err := os.Create(path)
	require.NoError(t, err)
	defer f.Close()
	z := zip.NewWriter(f)
	require.NoError(t, z.AddFS(os.DirFS(dir)))
	require.NoError(t, z.Close())
	return path
}

// The engineer sees which model lacks a driver, adds it, and has it in the boot
// environment with a click.
func TestDriversAreSeen(t *testing.T) {
	stage := openStage(t)
	_, err := stage.Prepare(t.Context())
	require.NoError(t, err)
	kernel := t.TempDir()
	require.NoError(t, madeup.WriteKernel(kernel))
	_, err = stage.Client.MakeBuild(t.Context(), api.NewBuild{Folders: []string{kernel}, Offer: true})
	require.NoError(t, err)
	b := open(t, stage)
	b.do(chromedp.Navigate(stage.URL))
	b.signIn(stage.Token)

	t.Log("# the matrix shows the model that nothing drives, open to its devices")
	row := `//tr[@data-row-key="Alder Works A520"]`
	b.do(click(`//a[text()="Drivers"]`), chromedp.WaitVisible(row), chromedp.WaitVisible(`//td[contains(., "no package of the library drives it")]`))

	t.Log("# archives are added; what is broken in them is told")
	add := func(path, says string) {
		b.do(chromedp.SetUploadFiles(`input[type="file"]`, []string{path}))
		b.until(`[...document.querySelectorAll(".ant-modal")].some(m => m.innerText.includes("` + says + `"))`)
		b.settled()
		b.do(chromedp.Evaluate[chromedp.Void](`document.querySelector(".ant-modal-close").click()`))
		b.until(`![...document.querySelectorAll(".ant-modal")].some(m => m.offsetParent)`)
		b.settled()
	}
	add(zipped(t, "makers-disc.zip", madeup.WriteINF), "left out: broken/wren.inf")
	add(zipped(t, "corvid-raid.zip", madeup.WriteModules), "added: corvid_raid 2.0.1")
	b.do(chromedp.WaitVisible(row + `//button[contains(., "Put into the boot environment")]`))
	b.do(chromedp.WaitVisible(`//td[contains(., "corvid_raid 2.0.1 would drive it")]`))
	b.settled()
	b.shoot("console-drivers")

	t.Log("# one click makes a build with the driver and offers it")
	b.do(click(row + `//button[contains(., "Put into the boot environment")]`))
	b.until(`[...document.querySelectorAll(".ant-select-selector, span")].some(e => e.innerText?.startsWith("build 2 ·"))`)
	b.until(`![...document.querySelectorAll("tr")].some(r => r.innerText.includes("Put into the boot environment"))`)
	build, err := stage.Client.Build(t.Context(), 0)
	require.NoError(t, err)
	assert.Equal(t, 2, build.Number)
	assert.Equal(t, "drivers Alder-Works-A520", build.Layers[1].Name)

	t.Log("# the library, searched and opened")
	b.do(click(`//div[@role="tab" and contains(., "Library")]`), chromedp.WaitVisible(`//b[text()="corvraid"]`))
	b.do(click(`//tr[contains(., "1.6.2.0")]//button[contains(@class, "expand")]`), chromedp.WaitVisible(`//td[contains(., "PCI\VEN_FE01&DEV_1000&SUBSYS_0001FE01")]`))
	b.settled()

	t.Log("# a set is made, and shows what it would bring")
	b.do(
		click(`//div[@role="tab" and contains(., "Sets")]`),
		click(`//button[contains(., "New set")]`),
		chromedp.WaitVisible(`#name`),
		keys(`#name`, "corvid"),
		keys(`input[placeholder="package"]`, "corvid*"),
	)
	b.settled()
	b.do(
		click(`//div[contains(@class, "ant-modal-footer")]//button[contains(@class, "ant-btn-primary")]`),
		chromedp.WaitVisible(`//b[text()="corvid"]`),
	)
	b.settled()
	b.do(click(`//tr[@data-row-key="corvid"]//button[contains(@class, "expand")]`), chromedp.WaitVisible(`//td[text()="corvid_raid 2.0.1"]`))
	b.settled()
	sets, err := stage.Client.DriverSets(t.Context())
	require.NoError(t, err)
	require.Len(t, sets.Items, 1)
	assert.Equal(t, []api.DriverRule{{Package: "corvid*"}}, sets.Items[0].Rules)
}
