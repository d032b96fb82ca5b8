package console_test

import (
	"context"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"jugate/core/capture"

	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/core/image"
	"jugate/core/readiness"
	"jugate/demo"
	"jugate/demo/golddisk"
)

// The browser drives the console on the demo's stage as an engineer would. With
// JUGATE_SCREENSHOTS=DIR the pages are also written there as pictures.
func TestAnEngineersMorning(t *testing.T) {
	stage, err := demo.Open(t.Context(), demo.Options{Story: t.Output(), Rate: 25_000_000})
	require.NoError(t, err)
	defer stage.Close()
	p, err := stage.Prepare(t.Context())
	require.NoError(t, err)
	b := open(t, stage)

	t.Log("# a wrong token is refused, with where to find the right one; the right one opens the house")
	b.do(chromedp.Navigate(stage.URL))
	b.signIn("not-the-token")
	b.do(chromedp.WaitVisible(`//*[contains(text(), "the token is wrong")]`))
	b.signIn(stage.Token)
	b.do(click(`//a[text()="3 newcomers wait to be admitted"]`), chromedp.WaitVisible(`//*[contains(text(), "Newcomers (3)")]`))
	b.shoot("console-workstations")

	t.Log("# a newcomer is admitted in its row and moves to the roster")
	name := `//input[@aria-label="Name for 00:00:5e:00:53:31"]`
	b.do(
		keys(name, "kiosk-01"),
		click(name+`/ancestor::form//button[@type="submit"]`),
		chromedp.WaitVisible(`//b[text()="kiosk-01"]`),
		chromedp.WaitVisible(`//*[contains(text(), "Newcomers (2)")]`),
	)
	w, err := stage.Client.Workstation(t.Context(), "kiosk-01")
	require.NoError(t, err)
	assert.Equal(t, []string{"00:00:5e:00:53:31"}, w.Addresses)

	t.Log("# the image shows what its disk holds; another one what spoke against it, and its slabs are checked")
	importDesk(t, stage, "lab-desk", "from the lab's own machine")
	b.do(
		click(`//a[text()="Images"]`),
		chromedp.WaitVisible(`//tr[@data-row-key="garden-desk"]`),
		chromedp.WaitVisible(`//*[contains(text(), "in spite of what was found")]`),
		chromedp.WaitVisible(`//div[contains(., "an agent's identity is on it")]`),
		chromedp.WaitVisible(`//*[contains(text(), "free, ")]`),
	)
	b.until(`!document.querySelector('.ant-message-notice')`)
	b.shoot("console-images")
	more := `//tr[@data-row-key="lab-desk"]/following-sibling::tr[1]//button[@aria-label="More for @1"]`
	b.do(click(more), chromedp.WaitVisible(`//li[contains(., "Check every slab")]`))
	b.settled()
	b.do(click(`//li[contains(., "Check every slab")]`))
	b.until(`document.querySelector('.ant-modal-confirm')?.innerText.includes("lab-desk@1 is sound")`)
	b.settled()
	b.do(click(`.ant-modal-confirm-btns button`))
	b.until(`!document.querySelector('.ant-modal-confirm')`)
	b.settled()
	b.do(click(more), chromedp.WaitVisible(`//li[contains(., "Have it stand alone")]`))
	b.settled()
	b.do(click(`//li[contains(., "Have it stand alone")]`))
	b.until(`document.querySelector('.ant-message')?.innerText.includes("lab-desk@1 stands alone: no slab leaned on another one")`)
	b.do(click(more), chromedp.WaitVisible(`//li[contains(., "Retire")]`))
	b.settled()
	b.until(`[...document.querySelectorAll("li")].some(l => l.innerText === "Have it stand alone" && l.ariaDisabled === "true")`)
	b.do(click(`//li[contains(., "Retire")]`))
	b.until(`[...document.querySelectorAll(".ant-tag")].some(t => t.innerText === "retired")`)
	retired, err := stage.Client.Version(t.Context(), "lab-desk")
	require.NoError(t, err)
	assert.EqualValues(t, "retired", retired.State)

	t.Log("# a delivery is ordered from it")
	b.do(
		click(`//tr[@data-row-key="garden-desk"]//button[contains(., "Deliver")]`),
		chromedp.WaitVisible(`//div[contains(@class, "ant-modal-title") and contains(., "Deliver garden-desk")]`),
		keys(`(//div[contains(@class, "ant-modal")]//input[@role="combobox"])[1]`, p.Group),
		click(`//div[contains(@class, "ant-select-item-option") and contains(., "`+p.Group+`")]`),
		click(`//div[contains(@class, "ant-modal-title")]`), // closes the list, which lies over the button
	)
	b.until(`!document.querySelector('.ant-select-dropdown:not(.ant-select-dropdown-hidden)')`)

	t.Log("# the dialog says which disks will be overwritten before it can be confirmed")
	b.until(fmt.Sprintf(`[...document.querySelectorAll(".ant-modal-footer button")].some(b => b.innerText === "Overwrite %d disks" && !b.disabled)`, len(p.Room)))
	b.do(click(`//div[contains(@class, "ant-modal-footer")]//button[contains(@class, "ant-btn-primary")]`))

	t.Log("# the delivery is watched to its end without touching anything")
	b.do(chromedp.WaitVisible(`.delivery-sending`), chromedp.WaitVisible(`//td//*[text()="receiving"]`))
	b.do(chromedp.WaitVisible(`.delivery-finished`))
	assert.Equal(t, len(p.Room), b.count(`.delivery-finished tr[data-row-key^="herb-"]`))
	checked, err := chromedp.Run(b.ctx, chromedp.Text(`.delivery-finished .ant-table-tbody`))
	require.NoError(t, err)
	for _, name := range p.Room {
		assert.Contains(t, checked, name)
	}
	assert.NotContains(t, checked, "failed")

	t.Log("# what workstations had to do is listed, and so is what is over")
	b.do(click(`//a[text()="Errands"]`), chromedp.WaitVisible(`//*[contains(text(), "No workstation has anything to do")]`), click(`#all`))
	b.until(fmt.Sprintf(`document.querySelectorAll("tr[data-row-key]").length === %d`, len(p.Room)+1))
	b.do(click(`//a[text()="Deliveries"]`), click(`//a[text()="No. 1"]`))

	t.Log("# its page tells how it went, in words and over time")
	b.do(chromedp.WaitVisible(`//*[contains(@class, "story")]//div[contains(., "8 workstations of 8 got it")]`), chromedp.WaitVisible(`div[aria-label="How far each of 8 workstations was"] canvas`))
	b.settled()
	b.axe("a delivery that is over")
	b.shoot("console-delivery")
	b.looks("dark")
	b.settled()
	b.axe("a delivery that is over, dark")
	b.shoot("delivery-dark")
	b.looks("light")

	t.Log("# its receipts are there, and nothing was changed")
	b.do(click(`//a[text()="show"]`), chromedp.WaitVisible(`//h3[contains(., "Receipts")]`))
	b.until(fmt.Sprintf(`location.pathname === "/receipts" && document.querySelectorAll("tr[data-row-key] .ant-tag-green").length === %d`, len(p.Room))) // each of them delivered
	b.shoot("console-receipts")
	b.do(click(`//button[contains(., "Check all records")]`))
	verdict, err := chromedp.Run(b.ctx, chromedp.Poll[string](`document.querySelector('[role=dialog]')?.innerText`, chromedp.WithPollingTimeout(5*time.Minute)))
	require.NoError(t, err)
	assert.Contains(t, verdict, "8 receipts")
}

func TestNetworkBootIsSeen(t *testing.T) {
	stage := openStage(t)
	for _, name := range []string{"herb-01", "herb-02", "herb-03"} {
		address := "00:00:5e:00:53:1" + name[len(name)-1:]
		_, err := stage.Client.CheckIn(t.Context(), api.CheckIn{Boot: "boot", AgentVersion: "test", Addresses: []string{address}, Inventory: api.Inventory{Maker: "Alder Works", Model: "A310", Disks: []api.Disk{}, Cards: []api.Card{}}})
		require.NoError(t, err)
		_, err = stage.Client.Admit(t.Context(), address, api.Admission{Name: name})
		require.NoError(t, err)
	}
	b := open(t, stage)
	b.do(chromedp.Navigate(stage.URL))
	b.signIn(stage.Token)
	b.do(click(`//a[text()="Boot"]`), chromedp.WaitVisible(`//*[contains(text(), "No build of the boot environment is offered")]`))

	t.Log("# builds are made at the command line, and show up here; one is offered with a click")
	system := t.TempDir()
	for _, name := range []string{"boot/vmlinuz-6.1.0-9-amd64", "lib/modules/6.1.0-9-amd64/kernel/none"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(system, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(system, name), make([]byte, 8<<20), 0o644))
	}
	_, err := stage.Client.MakeBuild(t.Context(), api.NewBuild{Folders: []string{system}, Note: "first"})
	require.NoError(t, err)
	_, err = stage.Client.MakeBuild(t.Context(), api.NewBuild{Folders: []string{system}, Note: "with the new network cards"})
	require.NoError(t, err)
	b.do(chromedp.Reload(), click(`//tr[@data-row-key="2"]//button[contains(., "Offer")]`), chromedp.WaitVisible(`//*[contains(text(), "boot build 2 from now on?")]`))
	b.settled()
	b.do(click(`.ant-popconfirm-buttons .ant-btn-primary`), chromedp.WaitVisible(`//tr[@data-row-key="2"]//span[text()="offered"]`))

	t.Log("# machines come by; each step appears without touching anything")
	_, err = stage.Client.Capture(t.Context(), api.NewCapture{Workstation: "herb-02", Image: "garden-desk"})
	require.NoError(t, err)
	load := func(path string) {
		resp, err := http.Get(strings.Replace(stage.URL, "https:", "http:", 1) + "/boot/" + path) // as loaders do
		require.NoError(t, err)
		_, err = io.Copy(io.Discard, resp.Body)
		require.NoError(t, err)
		require.NoError(t, resp.Body.Close())
	}
	for _, m := range []struct {
		address string
		files   []string
	}{
		{"00:00:5e:00:53:11", nil}, {"00:00:5e:00:53:12", []string{"files/2/vmlinuz", "files/2/initrd"}}, {"00:00:5e:00:53:31", []string{"files/2/vmlinuz", "files/2/initrd"}},
		{"00:00:5e:00:53:13", []string{"files/99/vmlinuz"}},
	} {
		load("script/efi/y/" + m.address)
		for _, f := range m.files {
			load(f)
		}
	}
	b.do(
		chromedp.WaitVisible(`//tr[@data-row-key="00:00:5e:00:53:11"]//*[contains(text(), "Sent to its own disk (no errand)")]`),
		chromedp.WaitVisible(`//tr[@data-row-key="00:00:5e:00:53:13"]//*[contains(., "build 99 is not there any more")]`),
		click(`//tr[@data-row-key="00:00:5e:00:53:12"]//button[contains(@class, "ant-table-row-expand-icon")]`),
		chromedp.WaitVisible(`//*[contains(., "environment: an errand waits")]`),
	)
	b.until(`!document.querySelector('.ant-message-notice')`)
	b.shoot("console-netboot")

	t.Log("# a code for people at workstations")
	b.do(click(`//button[contains(., "Code for workstations")]`))
	code, err := chromedp.Run(b.ctx, chromedp.Poll[string](`document.querySelector('.ant-modal h1')?.innerText`, chromedp.WithPollingTimeout(5*time.Minute)))
	require.NoError(t, err)
	assert.Regexp(t, `^[A-Z2-9]{4}-[A-Z2-9]{4}`, code)
}

// importDesk brings in a disk that is not fit, with a reason.
func importDesk(t *testing.T, stage *demo.Stage, name, note string) {
	t.Helper()
	gold, err := golddisk.Build(t.Context(), golddisk.Spec{Path: filepath.Join(t.TempDir(), "lab"), Size: 120 * golddisk.MiB, ESP: 10 * golddisk.MiB, FATBits: 12, Root: 80 * golddisk.MiB, Data: 12 * golddisk.MiB})
	require.NoError(t, err)
	require.NoError(t, gold.AddFile(t.Context(), "agent.id", []byte("7f3a")))
	f, err := os.Open(gold.Path)
	require.NoError(t, err)
	defer f.Close()
	survey, err := capture.Look(f, gold.Size, 512, capture.LookOptions{Rules: readiness.Rules{IdentityFiles: []string{"agent.id"}}})
	require.NoError(t, err)
	into, err := stage.Client.BeginImport(t.Context(), api.NewImport{Image: name, Note: note})
	require.NoError(t, err)
	man, slabs, err := capture.Run(t.Context(), f, survey, into, capture.Options{Source: image.Source{Workstation: "file lab"}, Despite: &image.Override{Reason: "the agent is replaced next week"}})
	require.NoError(t, err)
	text, err := man.Encode()
	require.NoError(t, err)
	_, err = into.Commit(t.Context(), slabs.Bytes(), text)
	require.NoError(t, err)
}

// browser is one headless Chromium with a profile of its own.
type browser struct {
	t   *testing.T
	ctx context.Context
}

// open starts a browser that trusts the stage's authority and no other that this machine does not, and fails
// the test if a page breaks its content security policy.
func open(t *testing.T, stage *demo.Stage) browser {
	t.Helper()
	text, err := os.ReadFile(stage.Authority)
	require.NoError(t, err)
	block, _ := pem.Decode(text)
	authority, err := x509.ParseCertificate(block.Bytes)
	require.NoError(t, err)
	key := sha256.Sum256(authority.RawSubjectPublicKeyInfo)
	path, err := exec.LookPath("chromium")
	require.NoError(t, err, "the browser test needs Debian's chromium (`make setup` installs it)")
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.UserDataDir(t.TempDir()), chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true),
		chromedp.Flag("ignore-certificate-errors-spki-list", base64.StdEncoding.EncodeToString(key[:])))
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), options...)
	t.Cleanup(cancel)
	ctx, cancel = chromedp.NewContext(ctx)
	t.Cleanup(cancel)
	require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)), "start the browser")
	require.NoError(t, chromedp.Listen(ctx, func(event any) {
		if e, is := event.(*log.EventEntryAdded); is && strings.Contains(e.Entry.Text, "Content Security Policy") {
			t.Errorf("%s: %s", e.Entry.URL, e.Entry.Text)
		}
	}))
	return browser{t, ctx}
}

// openStage opens the demo's stage with a file in place of the agent, which nothing here starts,
// and closes it at the end of the test. Tests with one run beside each other: a browser that waits leaves a processor idle.
func openStage(t *testing.T) *demo.Stage {
	t.Helper()
	t.Parallel()
	agent := filepath.Join(t.TempDir(), "agent")
	require.NoError(t, os.WriteFile(agent, []byte("agent"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(filepath.Dir(agent), "jugate-outpost"), []byte("outpost"), 0o755))
	stage, err := demo.Open(t.Context(), demo.Options{Story: t.Output(), Agent: agent, BuildFrom: []string{os.TempDir()}})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, stage.Close()) })
	return stage
}

// prepared opens the demo's stage with everybody admitted and the golden disk captured.
func prepared(t *testing.T) *demo.Stage {
	t.Helper()
	stage := openStage(t)
	_, err := stage.Prepare(t.Context())
	require.NoError(t, err)
	return stage
}

// signedIn opens a browser on a page of the console.
func signedIn(t *testing.T, stage *demo.Stage, page string) browser {
	t.Helper()
	b := open(t, stage)
	b.do(chromedp.Navigate(stage.URL + page))
	b.signIn(stage.Token)
	return b
}

// deliver delivers as the golden machine was, and waits for the end.
func deliver(t *testing.T, stage *demo.Stage, image string, to ...string) {
	t.Helper()
	d, err := stage.Client.Deliver(t.Context(), api.NewDelivery{Image: image, To: to, Answers: "none"})
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		d, err = stage.Client.Delivery(t.Context(), d.ID)
		return err == nil && d.Ended != nil
	}, 5*time.Minute, 50*time.Millisecond)
}

// full is a stage on which every page has something to show.
func full(t *testing.T) *demo.Stage {
	t.Helper()
	stage := prepared(t)
	_, err := stage.Client.Deliver(t.Context(), api.NewDelivery{Image: "garden-desk", To: []string{"herbarium-scanning"}, Start: "at:2031-01-01T06:00:00Z"})
	require.NoError(t, err)
	return stage
}

// pages are all pages of the console on a full stage.
var pages = []string{"", "workstations", "workstations/herb-01", "models", "models?name=Alder+Works+A310", "walk?room=herbarium-scanning", "rooms", "rooms/herbarium-scanning", "answers", "images", "images/garden-desk", "deliveries", "deliveries/1", "orders", "errands", "receipts", "reports", "notifications", "settings", "drivers", "netboot", "sites", "stores", "people", "logbook"}

// offerBuild makes a build of files that are none, of which media can be made.
func offerBuild(t *testing.T, stage *demo.Stage) {
	t.Helper()
	system := t.TempDir()
	for _, name := range []string{"boot/vmlinuz-6.1.0-9-amd64", "lib/modules/6.1.0-9-amd64/kernel/none", "usr/lib/shim/shimx64.efi.signed", "usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(system, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(system, name), make([]byte, 1<<20), 0o644))
	}
	_, err := stage.Client.MakeBuild(t.Context(), api.NewBuild{Folders: []string{system}, Offer: true})
	require.NoError(t, err)
}

// keys types into a field. chromedp.SendKeys would do, but reads the attributes of the field while
// the page may be changing them, which the race detector sees.
func keys(field, text string) chromedp.Action[chromedp.Void] {
	return chromedp.Steps(chromedp.Focus(field, chromedp.NodeVisible), chromedp.KeyEvent(text))
}

// click clicks what a person could: it waits until nothing moves, and nothing lies over the middle of it, as a message or a page that
// is just closing may for a moment.
func click(selector string) chromedp.Action[chromedp.Void] {
	name, err := json.Marshal(selector)
	if err != nil {
		panic(err) // a string has a form in JSON
	}
	return chromedp.Steps(chromedp.WaitVisible(selector), chromedp.Poll[chromedp.Void]("("+reachable+")("+string(name)+")", chromedp.WithPollingTimeout(5*time.Minute)), chromedp.Click(selector))
}

// reachable is a function of the page that tells whether the first element of a selector, CSS or XPath, that is seen can be clicked.
const reachable = `selector => {
	const found = [];
	if (selector.startsWith("/") || selector.startsWith("(")) {
		const all = document.evaluate(selector, document, null, XPathResult.ORDERED_NODE_SNAPSHOT_TYPE, null);
		for (let i = 0; i < all.snapshotLength; i++) found.push(all.snapshotItem(i));
	} else found.push(...document.querySelectorAll(selector));
	const element = found.find(e => e.getClientRects().length);
	if (!element || !document.getAnimations().every(a => a.effect.getComputedTiming().iterations === Infinity)) return false;
	element.scrollIntoViewIfNeeded();
	const box = element.getBoundingClientRect();
	const hit = document.elementFromPoint(box.x + box.width / 2, box.y + box.height / 2);
	return !!hit && (element.contains(hit) || hit.contains(element));
}`

// do runs actions, each of which waits for what it needs, for a while at most:
// a busy machine is slow to write eight disks.
func (b browser) do(actions ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, 5*time.Minute)
	defer cancel()
	for i, a := range actions {
		if err := chromedp.Do(ctx, a); err != nil {
			b.t.Logf("picture of the failure: %s", b.picture(filepath.Join(os.TempDir(), "jugate-browser-test.png")))
			require.NoError(b.t, err, "step %d", i+1)
		}
	}
}

// until waits for a condition in the page.
func (b browser) until(condition string) {
	b.t.Helper()
	_, err := chromedp.Run(b.ctx, chromedp.Poll[bool](condition, chromedp.WithPollingTimeout(5*time.Minute)))
	require.NoError(b.t, err, condition)
}

func (b browser) signIn(token string) {
	b.t.Helper()
	field := `#token`
	b.until(`!!document.querySelector('#password, #token')`)
	b.do(
		chromedp.Evaluate[chromedp.Void](`void (document.querySelector('#password') && [...document.querySelectorAll('button')].find(b => b.textContent.includes('key of last resort')).click())`),
		chromedp.WaitVisible(field),
		chromedp.Evaluate[chromedp.Void](`document.querySelector('#token').focus(); document.querySelector('#token').select()`),
		keys(field, token),
		click(`button[type=submit]`),
	)
}

func (b browser) count(selector string) int {
	b.t.Helper()
	n, err := chromedp.Run(b.ctx, chromedp.Evaluate[int]("document.querySelectorAll(`"+selector+"`).length"))
	require.NoError(b.t, err)
	return n
}

// settled waits until nothing moves but what moves for ever.
func (b browser) settled() {
	b.t.Helper()
	b.until(`document.getAnimations().every(a => a.effect.getComputedTiming().iterations === Infinity)`)
}

func (b browser) shoot(name string) {
	b.t.Helper()
	if dir := os.Getenv("JUGATE_SCREENSHOTS"); dir != "" {
		b.until(`!document.querySelector('[class*="ant-message-notice"]')`) // what a page said before
		b.settled()
		b.picture(filepath.Join(dir, name+".png"))
	}
}

func (b browser) picture(path string) string {
	ctx, cancel := context.WithTimeout(b.ctx, 5*time.Minute)
	defer cancel()
	png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	if err != nil {
		return err.Error()
	}
	if err := os.WriteFile(path, png, 0o644); err != nil {
		return err.Error()
	}
	return path
}
