package outpost_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"jugate/agent"
	"jugate/api"
	"jugate/apiclient"
	"jugate/core/delivery"
	"jugate/core/hwaddr"
	"jugate/core/image"
	"jugate/core/roster"
	"jugate/core/slabstore"
	"jugate/core/version"
	"jugate/outpost"
	"jugate/records/outbox"
	"jugate/sim"
)

// stored are the slabs of garden-desk@1: how many, and how many bytes.
func (h *town) stored() (n int, bytes int64) {
	h.t.Helper()
	files := image.Files{Dir: filepath.Join(h.data, "images")}
	manifest, _ := files.Paths(roster.Ref{Image: "garden-desk", Version: 1})
	text, err := os.ReadFile(manifest)
	require.NoError(h.t, err)
	_, slabs, err := files.Load(roster.Ref{Image: "garden-desk", Version: 1}, slabstore.Sum(text))
	require.NoError(h.t, err)
	store, err := slabstore.Open(filepath.Join(h.data, "slabs"))
	require.NoError(h.t, err)
	different := map[slabstore.Digest]bool{}
	for i := range slabs.Len() {
		if s := slabs.Slab(i); !s.Zero && !different[s.Digest] {
			different[s.Digest] = true
			frame, err := store.Frame(s.Digest)
			require.NoError(h.t, err)
			bytes += int64(len(frame))
		}
	}
	return len(different), bytes
}

// site is a town with an outpost that has joined, and a captured image; at is where machines find it.
func newSite(t *testing.T) (h *town, at string, stop func()) {
	h = newTown(t)
	h.capture()
	code, err := h.client.AddOutpost(t.Context(), api.NewOutpost{Name: "alpine"})
	require.NoError(t, err)
	address, stop := h.open(code.Code)
	h.eventually(func() bool { return h.outpost().Streams != "" })
	return h, "https://" + address, stop
}

// A delivery to rooms at two sites is one: gathered and streamed at each, with one set of receipts; and each slab comes over the
// line once.
func TestADeliveryAtAnOutpost(t *testing.T) {
	h, at, _ := newSite(t)
	ctx := t.Context()
	count, stored := h.stored()
	for n, name := range []string{"alpine-01", "alpine-02", "alpine-03"} {
		h.machine(0x11+n, at, blank(t), name)
	}
	h.machine(0x21, h.client.Server(), blank(t), "herb-01")
	before := h.line.bytes.Load()
	d, err := h.client.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"alpine-01", "alpine-02", "alpine-03", "herb-01"}})
	require.NoError(t, err)
	require.Len(t, d.Parts, 1)
	assert.Equal(t, "alpine", d.Parts[0].Name)
	assert.Equal(t, 3, d.Parts[0].Members)
	for _, m := range d.Members {
		assert.Equal(t, map[bool]string{true: "", false: "alpine"}[m.Workstation == "herb-01"], m.Site, m.Workstation)
	}
	for _, r := range h.receipts(d.ID, 4) {
		assert.EqualValues(t, "delivered", r.Outcome, r.Reason)
		assert.Empty(t, r.Reason)
		if r.Workstation != "herb-01" { // which is alone where it is
			assert.GreaterOrEqual(t, r.Multicast, stored, "%s heard the stream", r.Workstation)
		}
	}
	crossed := h.line.bytes.Load() - before
	h.eventually(func() bool { return h.outpost().Slabs == count })
	assert.InDelta(t, stored, h.outpost().Fetched, 50_000, "each slab came once, and manifest and map")
	t.Logf("%d bytes of slabs, %d over the line", stored, crossed)
	assert.Less(t, float64(crossed), 1.05*float64(stored)+200_000, "and little else")
	d, err = h.client.Delivery(ctx, d.ID)
	require.NoError(t, err)
	assert.EqualValues(t, delivery.Finished, d.State)

	t.Log("# where somebody is can be said, and is told anew by the next call")
	_, err = h.client.SetSite(ctx, "herb-01", "orchid")
	assert.True(t, apiclient.IsNotFound(err), "%v", err)
	w, err := h.client.SetSite(ctx, "herb-01", "Alpine")
	require.NoError(t, err)
	assert.Equal(t, "alpine", w.Site)
	w, err = h.client.SetSite(ctx, "herb-01", "")
	require.NoError(t, err)
	assert.Empty(t, w.Site)

	t.Log("# where nobody hears the multicast they are served alone, from what the outpost holds")
	h.deaf = true
	h.machine(0x14, at, blank(t), "alpine-04")
	h.machine(0x15, at, blank(t), "alpine-05")
	for _, r := range h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"alpine-04", "alpine-05"}}) {
		assert.EqualValues(t, "delivered", r.Outcome, r.Reason)
		assert.Zero(t, r.Multicast)
	}
	assert.Equal(t, count, h.outpost().Slabs)
	assert.InDelta(t, stored, h.outpost().Fetched, 50_000, "nothing came twice")
}

// The line fails: a delivery goes on with what is there, and its receipts wait, also while the outpost is started again.
func TestTheLineFailsDuringADelivery(t *testing.T) {
	h, at, stop := newSite(t)
	ctx := t.Context()
	h.machine(0x11, at, blank(t), "alpine-01")
	h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"alpine-01"}})
	h.machine(0x12, at, blank(t), "alpine-02")
	h.machine(0x13, at, blank(t), "alpine-03")
	d, err := h.client.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"alpine-02", "alpine-03"}, Start: "at:" + time.Now().Add(4*time.Second).UTC().Format(time.RFC3339)})
	require.NoError(t, err)
	h.eventually(func() bool {
		d, err = h.client.Delivery(ctx, d.ID)
		return err == nil && d.Members[0].Phase != delivery.Awaited && d.Members[1].Phase != delivery.Awaited
	})
	h.line.set(true)

	kept, err := outbox.Open(ctx, filepath.Join(h.site, "outpost.db"))
	require.NoError(t, err)
	defer kept.Close()
	receipts := func() (n int) {
		_, items, err := kept.Items(ctx, 100)
		require.NoError(t, err)
		for _, i := range items {
			if strings.Contains(i.Body, `"receipt"`) {
				n++
			}
		}
		return n
	}
	h.eventually(func() bool { return receipts() == 2 })
	d, err = h.client.Delivery(ctx, d.ID)
	require.NoError(t, err)
	assert.Nil(t, d.Ended, "the service has heard nothing yet")
	stop()
	_, _ = h.open("")
	assert.Equal(t, 2, receipts())

	t.Log("# it is mended: nobody does anything")
	h.line.set(false)
	for _, r := range h.receipts(d.ID, 2) {
		assert.EqualValues(t, "delivered", r.Outcome, r.Reason)
		assert.Greater(t, r.Multicast, int64(1<<20))
	}
	h.eventually(func() bool { return receipts() == 0 })
}

// Whoever works for a delivery goes on after the outpost was started again.
func TestAnOutpostIsStartedAgainDuringADelivery(t *testing.T) {
	h, at, stop := newSite(t)
	ctx := t.Context()
	h.machine(0x11, at, blank(t), "alpine-01")
	h.machine(0x12, at, blank(t), "alpine-02")
	d, err := h.client.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"alpine-01", "alpine-02"}, Rate: 8_000_000})
	require.NoError(t, err)
	h.eventually(func() bool {
		d, err = h.client.Delivery(ctx, d.ID)
		return err == nil && d.State == delivery.Sending && d.Parts[0].SentSlabs > 2
	})
	assert.Greater(t, d.Parts[0].RateNow, int64(0))
	stop()
	h.listen = strings.TrimPrefix(at, "https://")
	h.open("")
	_, err = h.client.SetDeliveryRate(ctx, d.ID, 1_000_000_000)
	require.NoError(t, err)
	for _, r := range h.receipts(d.ID, 2) {
		assert.EqualValues(t, "delivered", r.Outcome, r.Reason)
	}
}

// What is stopped while an outpost is away ends when that is back, or when nothing will be heard of it any more.
func TestADeliveryIsStoppedAtAnOutpost(t *testing.T) {
	h, at, _ := newSite(t)
	ctx := t.Context()
	h.machine(0x11, at, blank(t), "alpine-01")
	order := func() api.Delivery {
		d, err := h.client.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"alpine-01"}, Start: "ready:1+at:2099-01-01T00:00:00Z"})
		require.NoError(t, err)
		h.eventually(func() bool { return h.line.bytes.Load() > 0 })
		return d
	}
	d := order()
	h.line.set(true)
	_, err := h.client.StopDelivery(ctx, d.ID)
	require.NoError(t, err)
	d, err = h.client.Delivery(ctx, d.ID)
	require.NoError(t, err)
	assert.Nil(t, d.Ended)
	assert.Equal(t, 1, d.Parts[0].Open)
	h.line.set(false)
	for _, r := range h.receipts(d.ID, 1) {
		assert.EqualValues(t, "stopped", r.Outcome)
		assert.Contains(t, r.Reason, "stopped by")
	}

	d = order()
	h.line.set(true)
	require.NoError(t, h.client.WithdrawOutpost(ctx, "alpine"))
	for _, r := range h.receipts(d.ID, 1) {
		assert.EqualValues(t, "failed", r.Outcome)
		assert.Contains(t, r.Reason, "the outpost alpine was withdrawn; what is on the disk now is not known")
	}
}

// An outpost may hand in what it likes: receipts need their proofs, are for its own workstations, and come once.
func TestWhatAnOutpostHandsInIsHeldAgainstWhatCanBe(t *testing.T) {
	h, at, stop := newSite(t)
	ctx := t.Context()
	h.machine(0x11, at, blank(t), "alpine-01")
	h.machine(0x21, h.client.Server(), blank(t), "herb-01")
	d, err := h.client.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"alpine-01", "herb-01"}, Start: "ready:2+at:2099-01-01T00:00:00Z"})
	require.NoError(t, err)
	stop()
	c, err := apiclient.ForOutpost(h.far(), h.service.Authority(), h.tls())
	require.NoError(t, err)
	work, err := c.TellOutpost(ctx, api.OutpostCalls{OutpostTells: api.OutpostTells{Links: []api.NetbootLink{}, Builds: []int{}, Streams: "198.51.100.2"}})
	require.NoError(t, err)
	require.Len(t, work.Deliveries, 1)
	require.Len(t, work.Deliveries[0].Members, 1)
	alpine := work.Deliveries[0].Members[0].ID
	herb := alpine + 1
	receipt := func(n, workstation int64, outcome delivery.Outcome) api.OutpostItem {
		return api.OutpostItem{Number: n, Delivery: d.ID, Receipt: &api.OutpostReceipt{Workstation: workstation, Outcome: outcome, Ended: time.Now(), Last: api.Progress{Report: delivery.Report{Phase: delivery.Ended}, Proof: make([]byte, 32)}}}
	}
	require.NoError(t, c.TellParts(ctx, api.OutpostParts{Parts: []api.OutpostPart{
		{Delivery: d.ID, State: "dancing"}, {Delivery: 99, State: delivery.Sending},
		{Delivery: d.ID, State: delivery.Sending, Members: []api.OutpostMemberTold{
			{Workstation: herb, Phase: delivery.Receiving}, {Workstation: alpine, Phase: delivery.Ended},
			{Workstation: alpine, Phase: delivery.Receiving, Report: &delivery.Report{Phase: delivery.Receiving, Done: 5, Total: 1}}, {Workstation: 99, Phase: delivery.Receiving}}}}}))
	d, err = h.client.Delivery(ctx, d.ID)
	require.NoError(t, err)
	for _, m := range d.Members {
		assert.NotEqual(t, delivery.Receiving, m.Phase, m.Workstation)
		assert.NotEqual(t, delivery.Ended, m.Phase, m.Workstation)
	}
	require.NoError(t, c.HandIn(ctx, api.OutpostHandsIn{Box: "a", Items: []api.OutpostItem{
		receipt(1, herb, delivery.Delivered), receipt(2, 99, delivery.Delivered), {Number: 3, Delivery: 99, Note: &api.OutpostNote{What: "nothing"}},
		{Number: 4, Delivery: d.ID, Note: &api.OutpostNote{At: time.Now(), What: "was painted"}}, receipt(5, alpine, delivery.Delivered), {Number: 6, Delivery: d.ID}}}))
	for range 2 { // the answer was lost
		require.NoError(t, c.HandIn(ctx, api.OutpostHandsIn{Box: "a", Items: []api.OutpostItem{{Number: 4, Delivery: d.ID, Note: &api.OutpostNote{At: time.Now(), What: "was painted"}}, receipt(5, alpine, delivery.Delivered)}}))
	}
	_, err = h.client.StopDelivery(ctx, d.ID)
	require.NoError(t, err)
	for _, r := range h.receipts(d.ID, 2) {
		if r.Workstation == "alpine-01" {
			assert.EqualValues(t, "failed", r.Outcome)
			assert.Contains(t, r.Reason, "could not prove that it has read the whole disk back")
		} else {
			assert.EqualValues(t, "stopped", r.Outcome)
		}
	}
	d, err = h.client.Delivery(ctx, d.ID)
	require.NoError(t, err)
	painted := 0
	for _, c := range d.Changes {
		if c.What == "was painted" {
			painted++
			assert.Equal(t, "the outpost alpine", c.By)
		}
	}
	assert.Equal(t, 1, painted)
}

// Versions are there before anybody asks for them; of the next one comes what differs, and it is streamed from there.
func TestVersionsArePlacedAheadOfTime(t *testing.T) {
	h, at, stop := newSite(t)
	ctx := t.Context()
	count, stored := h.stored()
	placed := func() (all []string) {
		for _, p := range h.outpost().Placements {
			for _, v := range p.Versions {
				if v.Slabs > 0 && v.Held == v.Slabs {
					all = append(all, fmt.Sprintf("%s@%d", v.Image, v.Version))
				}
			}
		}
		return all
	}
	for what, in := range map[string]api.NewPlacement{
		"nothing": {}, "both": {Image: "garden-desk", Group: "herbarium-scanning"}, "a version of a group": {Group: "herbarium-scanning", Version: 1}, "no such image": {Image: "orchid"},
		"no such version": {Image: "garden-desk", Version: 7}, "a version and the newest": {Image: "garden-desk", Version: 1, Newest: 2},
	} {
		_, err := h.client.PlaceImage(ctx, "alpine", in)
		assert.Error(t, err, what)
	}
	never := fmt.Sprintf("%02d:00-%02d:01", (time.Now().Hour()+12)%24, (time.Now().Hour()+12)%24)
	_, err := h.client.ChangeOutpost(ctx, "alpine", api.OutpostChange{Hours: &never})
	require.NoError(t, err)
	o, err := h.client.PlaceImage(ctx, "alpine", api.NewPlacement{Image: "garden-desk", Newest: 2})
	require.NoError(t, err)
	require.Len(t, o.Placements, 1)
	_, err = h.client.PlaceImage(ctx, "alpine", api.NewPlacement{Image: "garden-desk", Newest: 2})
	assert.True(t, apiclient.IsConflict(err), "%v", err)
	h.eventually(func() bool { p := h.outpost().Placements; return p[0].Versions[0].Slabs == count })
	assert.Zero(t, h.outpost().Slabs, "these are not the hours")
	always, rate := "", int64(400_000_000)
	_, err = h.client.ChangeOutpost(ctx, "alpine", api.OutpostChange{Hours: &always, LineRate: &rate})
	require.NoError(t, err)
	h.eventually(func() bool { return slices.Equal(placed(), []string{"garden-desk@1"}) })
	assert.Equal(t, count, h.outpost().Slabs)

	t.Log("# the next version follows by itself, by what differs")
	before := h.outpost().Fetched
	next := h.captureNext()
	h.eventually(func() bool { return slices.Equal(placed(), []string{"garden-desk@2", "garden-desk@1"}) })
	h.eventually(func() bool { return h.outpost().Fetched > before })
	t.Logf("%d bytes differ; %d came over the line, files included; version 1 has %d as stored", next, h.outpost().Fetched-before, stored)
	assert.Less(t, h.outpost().Fetched-before, 2*next+20_000)

	t.Log("# it is delivered from there, also after a start, and nothing of it comes twice")
	stop()
	h.listen = strings.TrimPrefix(at, "https://")
	h.open("")
	h.machine(0x11, at, blank(t), "alpine-01")
	h.machine(0x12, at, blank(t), "alpine-02")
	for _, r := range h.deliver(api.NewDelivery{Image: "garden-desk@2", To: []string{"alpine-01", "alpine-02"}}) {
		assert.EqualValues(t, "delivered", r.Outcome, r.Reason)
		assert.Greater(t, r.Multicast, stored/2)
	}
	assert.Less(t, h.outpost().Fetched, int64(50_000))

	t.Log("# what a group has")
	require.NoError(t, h.client.UnplaceImage(ctx, "alpine", o.Placements[0].ID))
	_, err = h.client.AddGroup(ctx, api.NewGroup{Name: "alpine-house"})
	require.NoError(t, err)
	o, err = h.client.PlaceImage(ctx, "alpine", api.NewPlacement{Group: "alpine-house"})
	require.NoError(t, err)
	assert.Empty(t, o.Placements[0].Versions)
	require.NoError(t, h.client.UnplaceImage(ctx, "alpine", o.Placements[0].ID))
	_, err = h.client.Include(ctx, "alpine-house", api.GroupMembers{Workstations: []string{"alpine-01"}})
	require.NoError(t, err)
	_, err = h.client.PlaceImage(ctx, "alpine", api.NewPlacement{Group: "alpine-house"})
	require.NoError(t, err)
	h.eventually(func() bool { return slices.Equal(placed(), []string{"garden-desk@2"}) })
}

// An outpost that is killed at any moment of a delivery loses nothing: each workstation gets its image, and one receipt.
func TestAnOutpostIsKilledAgainAndAgain(t *testing.T) {
	program := filepath.Join(t.TempDir(), "jugate-outpost")
	out, err := exec.Command("go", "build", "-o", program, "jugate/cmd/jugate-outpost").CombinedOutput()
	require.NoError(t, err, "%s", out)
	h, at, stop := newSite(t)
	ctx := t.Context()
	stop()
	address := strings.TrimPrefix(at, "https://")
	start := func() (kill func()) {
		cmd := exec.Command(program, "--data", h.site, "--listen", address)
		cmd.Stderr = t.Output()
		require.NoError(t, cmd.Start())
		kill = sync.OnceFunc(func() { cmd.Process.Kill(); cmd.Wait() })
		t.Cleanup(kill)
		return kill
	}
	kill := start()
	h.machine(0x11, at, blank(t), "alpine-01")
	h.machine(0x12, at, blank(t), "alpine-02")
	d, err := h.client.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"alpine-01", "alpine-02"}, Rate: 16_000_000})
	require.NoError(t, err)
	over := func() bool {
		d, err = h.client.Delivery(ctx, d.ID)
		require.NoError(t, err)
		return d.Ended != nil
	}
	kills, random := 0, rand.New(rand.NewPCG(7, 20))
	for kills < 12 && !over() {
		until := h.line.bytes.Load() + 500 + random.Int64N(40_000)
		h.eventually(func() bool { return h.line.bytes.Load() > until || over() })
		kill()
		kills++
		kill = start()
	}
	_, err = h.client.SetDeliveryRate(ctx, d.ID, 1_000_000_000)
	if !over() {
		require.NoError(t, err)
	}
	for _, r := range h.receipts(d.ID, 2) {
		assert.EqualValues(t, "delivered", r.Outcome, r.Reason)
	}
	t.Logf("killed %d times", kills)
	assert.Greater(t, kills, 3)
}

// A stolen disk tells nothing of slabs that are sealed, and then a sealed delivery is streamed by the outpost, too.
func TestSlabsAreSealedAtAnOutpost(t *testing.T) {
	h, at, stop := newSite(t)
	ctx := t.Context()
	count, _ := h.stored()
	held := func() int {
		for _, p := range h.outpost().Placements {
			return p.Versions[0].Held
		}
		return 0
	}
	_, err := h.client.PlaceImage(ctx, "alpine", api.NewPlacement{Image: "garden-desk"})
	require.NoError(t, err)
	h.eventually(func() bool { return held() == count })
	fetched := h.outpost().Fetched
	seal := func(yes bool) {
		_, err = h.client.ChangeOutpost(ctx, "alpine", api.OutpostChange{Sealed: &yes})
		require.NoError(t, err)
		h.eventually(func() bool { o := h.outpost(); return o.IsSealed == yes && o.Slabs == count })
	}
	names := func() (named, sealed int) {
		require.NoError(t, filepath.WalkDir(h.site, func(path string, e fs.DirEntry, err error) error {
			if filepath.Ext(path) == ".zst" {
				named++
			} else if filepath.Ext(path) == ".sealed" {
				sealed++
			}
			return err
		}))
		return named, sealed
	}
	seal(true)
	named, sealed := names()
	assert.Zero(t, named)
	assert.Equal(t, count, sealed)
	assert.Equal(t, fetched, h.outpost().Fetched, "they were sealed where they were")
	h.machine(0x11, at, blank(t), "alpine-01")
	h.machine(0x12, at, blank(t), "alpine-02")
	for _, r := range h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"alpine-01", "alpine-02"}, Sealed: true}) {
		assert.EqualValues(t, "delivered", r.Outcome, r.Reason)
		assert.Greater(t, r.Multicast, int64(8<<20), "by the outpost's stream")
	}

	t.Log("# started while nobody tells the key, it has none; with it, everything is there")
	stop()
	require.NoError(t, filepath.WalkDir(h.site, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		text, err := os.ReadFile(path)
		assert.NotContains(t, string(text), "slab_key", path)
		assert.NotContains(t, string(text), "seal_key", path)
		return err
	}))
	h.line.set(true)
	h.listen = strings.TrimPrefix(at, "https://")
	h.open("")
	h.line.set(false)
	h.eventually(func() bool { o := h.outpost(); return o.IsSealed && o.Slabs == count && o.Fetched == 0 })
	seal(false)
	named, sealed = names()
	assert.Equal(t, count, named)
	assert.Zero(t, sealed)
	assert.Zero(t, h.outpost().Fetched)
}

// An outpost whose clock is wrong gathers and writes receipts by the service's.
func TestAWrongClockDecidesNothing(t *testing.T) {
	h := newTown(t)
	ctx := t.Context()
	h.capture()
	code, err := h.client.AddOutpost(ctx, api.NewOutpost{Name: "alpine"})
	require.NoError(t, err)
	at, _ := h.open(code.Code, func(c *outpost.Config) {
		c.Now = func() time.Time { return time.Now().Add(10 * time.Hour) }
	})
	h.eventually(func() bool { return h.outpost().Streams != "" })
	h.machine(0x11, "https://"+at, blank(t), "alpine-01")
	h.machine(0x12, "https://"+at, blank(t), "alpine-02")()
	began := time.Now()
	d, err := h.client.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"alpine-01", "alpine-02"}})
	require.NoError(t, err)
	h.eventually(func() bool {
		d, err = h.client.Delivery(ctx, d.ID)
		return err == nil && slices.ContainsFunc(d.Members, func(m api.Member) bool { return m.Phase != delivery.Awaited }) // it may hear the stream of another test
	})
	assert.Equal(t, delivery.Gathering, d.State, "an hour is not over")
	c, err := apiclient.ForAgent("https://"+at, h.service.Authority())
	require.NoError(t, err)
	w := &sim.Workstation{Addresses: []hwaddr.Address{address(0x12)}, Maker: "Alder Works", Model: "A310", Serial: "AW-0018", Memory: 8 << 30, Interface: "lo", Disks: []string{blank(t)}}
	var work sync.WaitGroup
	running, stop := context.WithCancel(context.Background())
	defer work.Wait()
	defer stop()
	work.Go(func() { agent.New(c, w, agent.Options{Certificate: h.service.Authority()}).Run(running) })
	for _, r := range h.receipts(d.ID, 2) {
		assert.EqualValues(t, "delivered", r.Outcome, r.Reason)
		assert.Positive(t, r.Multicast)
		assert.False(t, r.Ended.Before(began) || r.Ended.After(time.Now()), "%v", r.Ended)
	}
}

// What many workstations ask for beside the image comes over the line once, too, and is there while that is cut.
func TestPayloadsComeOverTheLineOnce(t *testing.T) {
	t.Parallel()
	h, at, stop := newSite(t)
	ctx := t.Context()
	content := make([]byte, 3<<20)
	rand.NewChaCha8([32]byte{1}).Read(content)
	payload, err := h.client.AddPayload(ctx, "scanner.deb", "", bytes.NewReader(content))
	require.NoError(t, err)
	h.entered("alpine-01", "alpine-02", "alpine-03")
	in := func(n int, at string) *apiclient.Client {
		c, err := apiclient.ForAgent(at, h.service.Authority())
		require.NoError(t, err)
		out, err := c.CheckIn(ctx, api.CheckIn{AgentVersion: version.Program(), Boot: fmt.Sprint(rand.Uint64()), Addresses: []string{address(0x11 + n).String()}, Inventory: api.Inventory{Disks: []api.Disk{}, Cards: []api.Card{}, Devices: []api.Device{}, Serial: fmt.Sprintf("AW-%04d", 0x11+n)}})
		require.NoError(t, err)
		return c.WithToken(out.Pass)
	}
	get := func(c *apiclient.Client) []byte {
		r, err := c.PayloadContent(ctx, payload.Digest)
		require.NoError(t, err)
		defer r.Close()
		b, err := io.ReadAll(r)
		require.NoError(t, err)
		return b
	}
	before := h.line.bytes.Load()
	var all errgroup.Group
	for n := range 3 {
		c := in(n, at)
		all.Go(func() error {
			if !bytes.Equal(content, get(c)) {
				return errors.New("other bytes came")
			}
			return nil
		})
	}
	require.NoError(t, all.Wait())
	crossed := h.line.bytes.Load() - before
	assert.Less(t, crossed, int64(len(content))*11/10, "of %d bytes", len(content))

	t.Log("# whoever has no pass gets nothing, whether the line is cut or not")
	nobody, err := apiclient.ForAgent(at, h.service.Authority())
	require.NoError(t, err)
	_, err = nobody.PayloadContent(ctx, payload.Digest)
	assert.True(t, apiclient.IsUnauthorized(err), "%v", err)
	h.line.set(true)
	_, err = nobody.PayloadContent(ctx, payload.Digest)
	assert.True(t, apiclient.IsPassing(err), "%v", err)
	h.line.set(false)

	t.Log("# what is gone, or damaged, comes anew")
	folder := filepath.Join(h.site, "asked")
	kept, err := os.ReadDir(folder)
	require.NoError(t, err)
	require.Len(t, kept, 1)
	rot := bytes.Clone(content)
	rot[len(rot)/2]++
	for _, spoil := range []func() error{func() error { return os.Remove(filepath.Join(folder, kept[0].Name())) }, func() error { return os.WriteFile(filepath.Join(folder, kept[0].Name()), rot, 0o600) }} {
		stop()
		require.NoError(t, spoil())
		var address string
		address, stop = h.open("")
		assert.True(t, bytes.Equal(content, get(in(0, "https://"+address))))
	}
}
