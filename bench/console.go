package main

import (
	"context"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/heapprofiler"
	"github.com/chromedp/chromedp"
	"golang.org/x/sync/errgroup"

	"jugate/records"
)

// A day of 10,000 workstations, in fast motion: each is switched on, works, waits, is switched off.
const consoleEvents = 20_000

// console measures the console in a headless browser on a roster of 100 workstations and on one of 10,000, and what a day of events leaves behind in it.
func console(ctx context.Context, dir string) error {
	fmt.Printf("\n%-12s %14s %14s %14s %14s %16s %12s %15s\n", "workstations", "first visit, ms", "again, ms", "all rows, ms", "in the page", "longest frame", "heap, MiB", "choose all, ms")
	for _, workstations := range []int{100, scaleWorkstations} {
		if err := consoleWith(ctx, path(dir, fmt.Sprint(workstations)), workstations); err != nil {
			return fmt.Errorf("with %d workstations: %w", workstations, err)
		}
	}
	return nil
}

func consoleWith(ctx context.Context, dir string, workstations int) error {
	data := path(dir, "data")
	if err := os.MkdirAll(data, 0o750); err != nil {
		return err
	}
	db, err := records.Open(ctx, time.Now(), path(data, "jugate.db"))
	if err != nil {
		return err
	}
	if _, err := fillRoster(ctx, db, time.Now(), workstations); err != nil {
		return err
	}
	if err := db.Close(); err != nil {
		return err
	}
	s, err := startService(ctx, data)
	if err != nil {
		return err
	}
	defer s.stop()
	b, err := openBrowser(ctx, s, data, dir)
	if err != nil {
		return err
	}
	defer b.close()

	first, err := number(b, `performance.now()`, `!!document.querySelector(".ant-table-row a")`)
	if err != nil {
		return err
	}
	if err := chromedp.Do(b.ctx, chromedp.Reload()); err != nil {
		return err
	}
	shown, err := number(b, `performance.now()`, `!!document.querySelector(".ant-table-row a")`)
	if err != nil {
		return err
	}
	whole, err := number(b, `performance.now()`, fmt.Sprintf(`document.querySelector(".foot")?.dataset.loaded === "%d"`, workstations))
	if err != nil {
		return err
	}
	rows, err := number(b, `document.querySelectorAll(".ant-table-row").length`, "true")
	if err != nil {
		return err
	}
	frame, err := chromedp.Run(b.ctx, chromedp.Evaluate[float64](scrolling, chromedp.EvalAwaitPromise))
	if err != nil {
		return fmt.Errorf("scroll: %w", err)
	}
	heap, err := b.heap()
	if err != nil {
		return err
	}
	chosen, err := chromedp.Run(b.ctx, chromedp.Evaluate[float64](fmt.Sprintf(choosing, workstations), chromedp.EvalAwaitPromise))
	if err != nil {
		return fmt.Errorf("choose all: %w", err)
	}
	fmt.Printf("%-12d %15.0f %13.0f %14.0f %14.0f %13.0f ms %12.1f %15.0f\n", workstations, first, shown, whole, rows, frame, heap, chosen)
	if workstations < scaleWorkstations {
		return nil
	}
	began := time.Now()
	group, asking := errgroup.WithContext(ctx)
	group.SetLimit(100)
	for n := range consoleEvents {
		group.Go(func() error {
			_, err := s.enter(asking, n%workstations)
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	took := time.Since(began)
	// The page has kept up when it answers, and shows what came last.
	answered := time.Now()
	if _, err := number(b, "1", "true"); err != nil {
		return err
	}
	late := time.Since(answered)
	after, err := b.heap()
	if err != nil {
		return err
	}
	fmt.Printf("\n%d workstations told of themselves in %.0f s, %.0f a second: the page answered %.0f ms after the last, its heap was %.1f MiB before and %.1f after\n",
		consoleEvents, took.Seconds(), consoleEvents/took.Seconds(), late.Seconds()*1000, heap, after)
	return nil
}

// scrolling goes through the whole list in steps of a screen, and tells the longest time between two frames in milliseconds.
const scrolling = `(async () => {
	const holder = document.querySelector(".ant-table-tbody-virtual-holder") ?? document.scrollingElement;
	let longest = 0;
	const frame = () => new Promise(r => requestAnimationFrame(r));
	let last = await frame();
	for (let step = 0; step < 200; step++) {
		holder.scrollTop = holder.scrollHeight * (step + 1) / 200;
		const now = await frame();
		longest = Math.max(longest, now - last);
		last = now;
	}
	holder.scrollTop = 0;
	await frame();
	return longest;
})()`

// choosing chooses all of the list, and tells how long it takes until the page says so, in milliseconds.
const choosing = `(async () => {
	const began = performance.now();
	document.querySelector('[aria-label="Choose all"]').click();
	const said = (%d).toLocaleString() + " chosen";
	while (!document.body.innerText.includes(said)) await new Promise(r => requestAnimationFrame(r));
	return performance.now() - began;
})()`

// page is the console on its list of workstations.
type page struct {
	ctx   context.Context
	close func()
}

// openBrowser signs in, and goes to the workstations.
func openBrowser(ctx context.Context, s *served, data, dir string) (*page, error) {
	text, err := os.ReadFile(path(data, "authority.pem"))
	if err != nil {
		return nil, err
	}
	block, _ := pem.Decode(text)
	authority, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return nil, err
	}
	key := sha256.Sum256(authority.RawSubjectPublicKeyInfo)
	chromium, err := exec.LookPath("chromium")
	if err != nil {
		return nil, err
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(chromium), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.UserDataDir(path(dir, "profile")), chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true),
		chromedp.Flag("ignore-certificate-errors-spki-list", base64.StdEncoding.EncodeToString(key[:])))
	allocated, end := chromedp.NewExecAllocator(ctx, options...)
	tab, endTab := chromedp.NewContext(allocated)
	b := &page{tab, func() { endTab(); end() }}
	secret, err := os.ReadFile(path(data, "admin.token"))
	if err != nil {
		return b, err
	}
	signIn := fmt.Sprintf(`fetch("/api/v1/session", {method: "POST", headers: {"Content-Type": "application/json"}, body: JSON.stringify({token: %q})}).then(r => r.status)`, strings.TrimSpace(string(secret)))
	for _, a := range []chromedp.Action[chromedp.Void]{
		chromedp.EmulateViewport(1280, 800),
		chromedp.Navigate(s.url + "/"),
		chromedp.WaitVisible("button[type=submit]"), // scripts and the list are fetched once, as on any morning but the first
		chromedp.Evaluate[chromedp.Void](signIn, chromedp.EvalAwaitPromise),
		chromedp.Navigate(s.url + "/workstations"),
	} {
		if err := chromedp.Do(tab, a); err != nil {
			return b, fmt.Errorf("sign in: %w", err)
		}
	}
	return b, nil
}

// number is the value of an expression in the page as soon as a condition is true there.
func number(b *page, expression, when string) (float64, error) {
	within, cancel := context.WithTimeout(b.ctx, 2*time.Minute)
	defer cancel()
	return chromedp.Run(within, chromedp.Poll[float64]("("+when+") && ("+expression+")", chromedp.WithPollingTimeout(time.Minute)))
}

// heap is what the page's scripts hold after what nobody needs was given back, in MiB.
func (b *page) heap() (float64, error) {
	if _, err := chromedp.Call(b.ctx, heapprofiler.CollectGarbage, cdp.Empty{}); err != nil {
		return 0, err
	}
	return chromedp.Run(b.ctx, chromedp.Evaluate[float64](`performance.memory.usedJSHeapSize / 1048576`))
}
