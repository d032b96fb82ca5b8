package outpost_test

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
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

	"jugate/agent"
	"jugate/api"
	"jugate/apiclient"
	"jugate/core/environment"
	"jugate/core/hwaddr"
	"jugate/outpost"
	"jugate/sim"
)

// media makes media, and unpacks what is on them by mtools: the volume for data becomes the outpost's data folder.
func (h *town) media(in api.NewMedia) environment.Settings {
	h.t.Helper()
	path := filepath.Join(h.t.TempDir(), "stick.img")
	f, err := os.Create(path)
	require.NoError(h.t, err)
	in.Service = h.far()
	made, err := h.client.MakeMedia(h.t.Context(), 0, in, f)
	require.NoError(h.t, err)
	assert.Equal(h.t, cmp.Or(in.Outpost, "media-1"), made.Outpost)
	require.NoError(h.t, f.Close())
	var table struct {
		Table struct {
			Partitions []struct{ Start int64 }
		} `json:"partitiontable"`
	}
	require.NoError(h.t, json.Unmarshal(h.tool("sfdisk", "--json", path), &table))
	require.Len(h.t, table.Table.Partitions, 2)
	volume := func(n int) string { return fmt.Sprintf("%s@@%d", path, table.Table.Partitions[n].Start*512) }
	h.site = h.t.TempDir()
	h.tool("mcopy", "-s", "-n", "-Q", "-i", volume(1), "::*", h.site)
	layer := filepath.Join(h.t.TempDir(), "settings")
	h.tool("mcopy", "-i", volume(0), "::jugate/settings", layer)
	var set environment.Settings
	require.NoError(h.t, json.Unmarshal(h.tool("sh", "-c", "zstd -qdc "+layer+" | cpio -i --quiet --to-stdout "+environment.SettingsFile), &set))
	return set
}

func (h *town) tool(name string, args ...string) []byte {
	h.t.Helper()
	cmd := exec.Command(name, args...)
	cmd.Env = append(os.Environ(), "MTOOLS_SKIP_CHECK=1", "PATH="+os.Getenv("PATH")+":/usr/sbin:/sbin")
	var said bytes.Buffer
	cmd.Stderr = &said
	out, err := cmd.Output()
	require.NoError(h.t, err, "%s: %s", name, said.String())
	return out
}

// farRoom is a town with an image, a build and workstations in its roster.
func farRoom(t *testing.T, names ...string) *town {
	h := newTown(t)
	h.capture()
	h.build()
	h.entered(names...)
	return h
}

// started is a workstation that was started from media, or from the outpost on them.
type started struct {
	disk string
	mu   sync.Mutex
	said []string
	stop func()
}

func (s *started) say(text string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.said = append(s.said, text)
}

func (s *started) says(text string) func() bool {
	return func() bool {
		s.mu.Lock()
		defer s.mu.Unlock()
		return slices.ContainsFunc(s.said, func(line string) bool { return strings.Contains(line, text) })
	}
}

// start starts a machine whose agent has a ticket, and finds the outpost at url.
func (h *town) start(n int, url, ticket string) *started {
	h.t.Helper()
	return h.startOn(blank(h.t), n, url, ticket)
}

func (h *town) startOn(disk string, n int, url, ticket string) *started {
	h.t.Helper()
	c, err := apiclient.ForAgent(url, h.service.Authority())
	require.NoError(h.t, err)
	s := &started{disk: disk}
	w := &sim.Workstation{Addresses: []hwaddr.Address{address(n)}, Maker: "Alder Works", Model: "A310", Serial: fmt.Sprintf("AW-%04d", n), Memory: 8 << 30, Interface: "lo", Disks: []string{s.disk}}
	a := agent.New(c, w, agent.Options{Certificate: h.service.Authority(), Ticket: ticket, Log: slog.New(slog.NewTextHandler(h.t.Output(), nil)).With("agent", n), Show: func(now agent.Status) { s.say(now.Text) }})
	ctx, cancel := context.WithCancel(context.Background())
	var done sync.WaitGroup
	done.Go(func() { s.say(a.Run(ctx).Error()) })
	s.stop = sync.OnceFunc(func() { cancel(); done.Wait() })
	h.t.Cleanup(s.stop)
	return s
}

// entered has workstations be in the roster.
func (h *town) entered(names ...string) {
	for i, name := range names {
		h.machine(0x11+i, h.client.Server(), blank(h.t), name)()
	}
}

// A stick for a room without any network: it carries the image, the order and the proofs' beginnings, and receipts are handed in
// when it finds its service again.
func TestMediaDeliverWithoutANetwork(t *testing.T) {
	t.Parallel()
	h, ctx := farRoom(t, "alpine-01", "alpine-02"), t.Context()
	_, err := h.client.AddPayload(ctx, "leaf.png", "", strings.NewReader("a leaf"))
	require.NoError(t, err)
	_, err = h.client.SetAnswers(ctx, api.NewAnswers{Of: "alpine-02", Values: map[string]any{"payloads": []any{map[string]any{"name": "leaf.png"}}}})
	require.NoError(t, err)
	set := h.media(api.NewMedia{Outpost: "stick-1", Deliver: &api.NewDelivery{Image: "garden-desk", To: []string{"alpine-01", "alpine-02"}}})
	require.NotNil(t, set.Outpost)
	assert.True(t, set.Outpost.Alone)
	page, err := h.client.Deliveries(ctx, apiclient.List{})
	require.NoError(t, err)
	require.Len(t, page.Items, 1)
	d := page.Items[0]

	t.Log("# who is on the network does not get it from there")
	onNetwork := h.start(0x11, h.client.Server(), "")
	h.eventually(onNetwork.says("waiting for an errand"))
	onNetwork.stop()

	h.line.set(true)
	at, stop := h.open("", func(c *outpost.Config) { c.Service = "" })
	t.Log("# who has not started from the media is not let in, and who is not meant neither")
	stranger := h.start(0x11, "https://"+at, "some ticket")
	h.eventually(stranger.says("start this one over the network from this outpost, or from its media"))
	stranger.stop()
	other := h.start(0x19, "https://"+at, set.Key)
	h.eventually(other.says("carry nothing for this workstation; what they carry is for alpine-01, alpine-02"))
	other.stop()

	first := h.start(0x11, "https://"+at, set.Key)
	h.eventually(first.says("on its disk is garden-desk@1"))
	first.stop()
	stop()
	t.Log("# the stick goes on to the next machine")
	at, stop = h.open("", func(c *outpost.Config) { c.Service = "" })
	second := h.start(0x12, "https://"+at, set.Key)
	h.eventually(second.says("on its disk is garden-desk@1"))
	second.stop()
	stop()
	now, err := h.client.Delivery(ctx, d.ID)
	require.NoError(t, err)
	assert.EqualValues(t, "gathering", now.State, "nobody has heard of it")

	t.Log("# it finds its service, and hands in what was done")
	h.line.set(false)
	_, stop = h.open("", func(c *outpost.Config) { c.Service = "" })
	for _, r := range h.receipts(d.ID, 2) {
		assert.EqualValues(t, "delivered", r.Outcome, r.Reason)
		assert.True(t, r.Verified)
		assert.Contains(t, r.Reason, "is served by the media that it was started from")
		assert.Equal(t, r.Workstation == "alpine-02", strings.Contains(r.Remark, "brought leaf.png"), r.Remark)
	}
	h.eventually(func() bool {
		now, err := h.client.Delivery(ctx, d.ID)
		return err == nil && now.State.Over()
	})
	stop()

	t.Log("# nobody gets it twice")
	h.line.set(true)
	at, _ = h.open("", func(c *outpost.Config) { c.Service = "" })
	again := h.start(0x11, "https://"+at, set.Key)
	h.eventually(again.says("waiting for an errand; on its disk is garden-desk@1"))
}

// A stick for a room with a network and no line: the machine that is started from it is the outpost of the others.
func TestMediaAreTheOutpostOfTheirRoom(t *testing.T) {
	h := newTown(t)
	ctx := t.Context()
	h.capture()
	b := h.build()
	h.entered("alpine-01", "alpine-02", "alpine-03")
	set := h.media(api.NewMedia{Outpost: "alpine", Netboot: "beside", Note: "in the Alpine house", Deliver: &api.NewDelivery{Image: "garden-desk", To: []string{"alpine-01", "alpine-02"}, Start: "all"}})
	assert.False(t, set.Outpost.Alone)
	assert.True(t, h.outpost().OnMedia)
	h.line.set(true)
	at, stop := h.open("", func(c *outpost.Config) { c.Service, c.SlabFolder = "", t.TempDir() })

	t.Log("# who is to get something boots from it, and nobody else")
	script := func(n int) string {
		status, text := get(t, fmt.Sprintf("http://%s/boot/script/efi/y/%s/A310", at, address(n)))
		require.Equal(t, http.StatusOK, status, text)
		return text
	}
	text := script(0x12)
	assert.Contains(t, text, "jugate.service=https://"+at)
	assert.Contains(t, text, "garden-desk@1 is here for it")
	assert.NotContains(t, script(0x13), "jugate.ticket")
	status, _ := get(t, fmt.Sprintf("http://%s/boot/files/%d/vmlinuz", at, b.Number))
	assert.Equal(t, http.StatusOK, status)

	t.Log("# the stream waits for all whom it is for")
	first := h.start(0x11, "https://"+at, set.Key)
	h.eventually(first.says("waiting for the others"))
	second := h.start(0x12, "https://"+at, ticketIn(t, text))
	h.eventually(second.says("on its disk is garden-desk@1"))
	h.eventually(first.says("on its disk is garden-desk@1"))
	assert.NotContains(t, script(0x12), "jugate.ticket", "it has its image")
	first.stop()
	second.stop()

	t.Log("# another outpost would have joined by a code; this one is told what others are, once there is a line")
	h.line.set(false)
	h.eventually(func() bool { return h.outpost().State == "up" })
	d, err := h.client.Deliveries(ctx, apiclient.List{})
	require.NoError(t, err)
	for _, r := range h.receipts(d.Items[0].ID, 2) {
		assert.EqualValues(t, "delivered", r.Outcome, r.Reason)
		assert.NotZero(t, r.Multicast, "%s heard the stream", r.Workstation)
	}
	third := h.start(0x13, "https://"+at, "")
	h.eventually(third.says("waiting for an errand"))
	for _, r := range h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"alpine-03"}}) {
		assert.EqualValues(t, "delivered", r.Outcome, r.Reason)
	}
	third.stop()
	stop()
}

// A stick is pulled in the middle, and the clock of the machine is years off: it goes on where it ended, and nobody believes the
// clock.
func TestMediaThatArePulled(t *testing.T) {
	t.Parallel()
	h, ctx := farRoom(t, "alpine-01"), t.Context()
	set := h.media(api.NewMedia{Deliver: &api.NewDelivery{Image: "garden-desk", To: []string{"alpine-01"}}})
	h.line.set(true)
	wrong := func(c *outpost.Config) {
		c.Service, c.Now = "", func() time.Time { return time.Now().AddDate(-25, 0, 0) }
	}
	at, stop := h.open("", wrong)
	first := h.start(0x11, "https://"+at, set.Key)
	h.eventually(first.says("fetching what is missing"))
	stop()
	first.stop()
	at, stop = h.open("", wrong)
	again := h.startOn(first.disk, 0x11, "https://"+at, set.Key)
	h.eventually(again.says("on its disk is garden-desk@1"))
	again.stop()
	stop()
	h.line.set(false)
	require.NoError(t, outpost.HandIn(ctx, outpost.Config{Data: h.site}, io.Discard))
	d, err := h.client.Deliveries(ctx, apiclient.List{})
	require.NoError(t, err)
	r := h.receipts(d.Items[0].ID, 1)[0]
	assert.EqualValues(t, "delivered", r.Outcome, r.Reason)
	assert.WithinDuration(t, time.Now(), r.Ended, time.Hour)
}

// Where there is a line after all, the service gives the errand itself, and hears how far it is; and the line may go and come.
func TestMediaWithALine(t *testing.T) {
	t.Parallel()
	h, ctx := farRoom(t, "alpine-01", "alpine-02"), t.Context()
	set := h.media(api.NewMedia{Deliver: &api.NewDelivery{Image: "garden-desk", To: []string{"alpine-01", "alpine-02"}}})
	d, err := h.client.Deliveries(ctx, apiclient.List{})
	require.NoError(t, err)
	at, _ := h.open("", func(c *outpost.Config) { c.Service = "" })
	first := h.start(0x11, "https://"+at, set.Key)
	h.eventually(first.says("on its disk is garden-desk@1"))
	first.stop()
	h.eventually(func() bool {
		page, err := h.client.Receipts(ctx, apiclient.List{})
		return err == nil && len(page.Items) == 1 && page.Items[0].Outcome == "delivered"
	})
	w, err := h.client.Workstation(ctx, "alpine-01")
	require.NoError(t, err)
	assert.Equal(t, "media-1", w.Site)

	t.Log("# it checks in while there is none, and goes on when there is one")
	h.line.set(true)
	second := h.start(0x12, "https://"+at, set.Key)
	h.eventually(second.says("fetching what is missing"))
	h.line.set(false)
	h.receipts(d.Items[0].ID, 2)
	h.eventually(second.says("on its disk is garden-desk@1"))
	second.stop()
}

// Copies of a stick work side by side, and each hands in its own.
func TestCopiesOfMedia(t *testing.T) {
	t.Parallel()
	h, ctx := farRoom(t, "alpine-01", "alpine-02"), t.Context()
	set := h.media(api.NewMedia{Deliver: &api.NewDelivery{Image: "garden-desk", To: []string{"alpine-01", "alpine-02"}}})
	one, two := h.site, t.TempDir()
	require.NoError(t, os.CopyFS(two, os.DirFS(one)))
	h.line.set(true)
	for n, folder := range []string{one, two} {
		h.site = folder
		at, stop := h.open("", func(c *outpost.Config) { c.Service = "" })
		m := h.start(0x11+n, "https://"+at, set.Key)
		h.eventually(m.says("on its disk is garden-desk@1"))
		m.stop()
		stop()
	}
	var said strings.Builder
	assert.ErrorIs(t, outpost.HandIn(ctx, outpost.Config{Data: one}, &said), apiclient.ErrAway)
	h.line.set(false)
	for range 2 { // the second time there is nothing left
		for _, folder := range []string{one, two} {
			require.NoError(t, outpost.HandIn(ctx, outpost.Config{Data: folder}, &said))
		}
	}
	assert.Regexp(t, `media-1: [1-9]\d* receipts and notes were handed in\n.*media-1: [1-9]\d* receipts and notes were handed in\nmedia-1: 0 .*\nmedia-1: 0 `, said.String())
	d, err := h.client.Deliveries(ctx, apiclient.List{})
	require.NoError(t, err)
	names := []string{}
	for _, r := range h.receipts(d.Items[0].ID, 2) {
		assert.EqualValues(t, "delivered", r.Outcome, r.Reason)
		names = append(names, r.Workstation)
	}
	assert.ElementsMatch(t, []string{"alpine-01", "alpine-02"}, names)
}

// What could not be done at a workstation is said where the stick is made, and leaves nothing behind.
func TestMediaThatCannotBeMade(t *testing.T) {
	t.Parallel()
	h, ctx := farRoom(t, "alpine-01"), t.Context()
	refused := func(in api.NewMedia, why string) {
		t.Helper()
		in.Service = h.far()
		_, err := h.client.MakeMedia(ctx, 0, in, io.Discard)
		assert.ErrorContains(t, err, why)
	}
	before, err := h.client.MediaKeys(ctx)
	require.NoError(t, err)
	to := []string{"alpine-01"}
	refused(api.NewMedia{Outpost: "alpine"}, "has to carry a delivery")
	refused(api.NewMedia{Deliver: &api.NewDelivery{Image: "nothing", To: to}}, "nothing")
	refused(api.NewMedia{Deliver: &api.NewDelivery{Image: "garden-desk", To: []string{"palm-01"}}}, "palm-01")
	refused(api.NewMedia{Deliver: &api.NewDelivery{Image: "garden-desk", To: to, Sealed: true}}, "cannot be sealed on the wire")
	refused(api.NewMedia{Netboot: "whole", Address: "198.51.100.1/24"}, "needs to be told which")
	refused(api.NewMedia{Netboot: "beside", Pools: []string{"198.51.100.100-198.51.100.150/24"}}, "only an outpost of mode whole gives addresses")
	refused(api.NewMedia{Netboot: "whole", Address: "198.51.100.1/24", Pools: []string{"everything"}}, "everything")
	refused(api.NewMedia{Deliver: &api.NewDelivery{Image: "garden-desk", To: to}, Room: 1 << 30}, "only media that answer network boot")
	_, err = h.client.AddOutpost(ctx, api.NewOutpost{Name: "alpine"})
	require.NoError(t, err)
	refused(api.NewMedia{Outpost: "alpine", Deliver: &api.NewDelivery{Image: "garden-desk", To: to}}, "there is an outpost alpine already")

	t.Log("# a slab that is damaged")
	slabs, err := filepath.Glob(filepath.Join(h.data, "slabs", "??", "*.zst"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(slabs[0], []byte("rot"), 0o600))
	refused(api.NewMedia{Deliver: &api.NewDelivery{Image: "garden-desk", To: to}}, "a slab of garden-desk@1")

	page, err := h.client.Outposts(ctx)
	require.NoError(t, err)
	assert.Len(t, page.Items, 1)
	d, err := h.client.Deliveries(ctx, apiclient.List{})
	require.NoError(t, err)
	assert.Empty(t, d.Items)
	keys, err := h.client.MediaKeys(ctx)
	require.NoError(t, err)
	assert.Equal(t, before.Items, keys.Items)
	if nobody, err := h.client.Receipts(ctx, apiclient.List{}); assert.NoError(t, err) {
		assert.Empty(t, nobody.Items)
	}
}
