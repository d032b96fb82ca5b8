package service_test

import (
	"bufio"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/delivery"
	"jugate/core/image"
	"jugate/core/slabstore"
	"jugate/demo/golddisk"
	"jugate/service"
)

// status is the HTTP status of a call that was refused; 0 if it was not.
func status(err error) int {
	var e *apiclient.Error
	if errors.As(err, &e) {
		return e.Status
	}
	return 0
}

// ready is a house with an image, and workstations of which only the calls are there.
func (h *house) ready(n ...int) (clients map[string]*apiclient.Client) {
	h.t.Helper()
	h.start(1, gold(h.t).Path, 0, "desk-gold")
	require.EqualValues(h.t, "done", h.capture("desk-gold", "garden-desk").State)
	clients = map[string]*apiclient.Client{}
	for _, n := range n {
		name := fmt.Sprintf("herb-%02d", n)
		a := address(n).String()
		nobody := h.client.WithToken("")
		in, err := nobody.CheckIn(h.t.Context(), api.CheckIn{Boot: "boot", AgentVersion: "test", Addresses: []string{a},
			Inventory: api.Inventory{Model: "A310", Serial: fmt.Sprintf("AW-%04d", n), Disks: []api.Disk{{Model: "sample", Size: 36 * golddisk.MiB, SectorSize: 512}}, Cards: []api.Card{}}})
		require.NoError(h.t, err)
		_, err = h.client.Admit(h.t.Context(), a, api.Admission{Name: name})
		require.NoError(h.t, err)
		clients[name] = nobody.WithToken(in.Pass)
	}
	return clients
}

func TestAHostileAgent(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	clients := h.ready(2, 3, 4)
	one, other := clients["herb-02"], clients["herb-04"]
	h.start(5, build(t, 7), 0, "desk-other")
	require.EqualValues(t, "done", h.capture("desk-other", "seed-desk").State)
	d, err := h.client.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"herb-02", "herb-03"}, Start: "first"})
	require.NoError(t, err)
	standing, err := one.Standing(ctx)
	require.NoError(t, err)
	require.NotNil(t, standing.Errand)

	t.Log("# reports that cannot be")
	for name, p := range map[string]delivery.Report{
		"ended before anything":       {Phase: "ended", Verified: true},
		"more done than there is":     {Phase: "ready", Done: 2, Total: 1},
		"less than nothing":           {Phase: "ready", Done: -1, Total: 1},
		"more lost than there were":   {Phase: "ready", Packets: 1, Lost: -5},
		"a disk that runs backwards":  {Phase: "ready", DiskSpeed: -1},
		"more than an image can have": {Phase: "ready", Multicast: 1 << 62},
	} {
		_, err := one.TellProgress(ctx, d.ID, api.Progress{Report: p})
		assert.Equal(t, http.StatusUnprocessableEntity, status(err), "%s: %v", name, err)
	}
	for _, name := range []string{"herb-02", "herb-03"} {
		_, err = clients[name].TellProgress(ctx, d.ID, api.Progress{Report: delivery.Report{Phase: "ready"}})
		require.NoError(t, err)
	}

	t.Log("# slabs that are not in the version, before membership and after")
	slabs := h.mapOf("garden-desk")
	for name, ranges := range map[string][][2]int{
		"beyond": {{0, slabs.Len()}}, "far beyond": {{1 << 30, 1 << 30}}, "negative": {{-1, 3}}, "backwards": {{3, 2}}, "twice": {{0, 3}, {3, 4}}, "not in order": {{4, 5}, {0, 1}},
	} {
		assert.Equal(t, http.StatusUnprocessableEntity, status(one.TellLacking(ctx, d.ID, api.Lacking{Round: 0, Slabs: ranges})), name)
		assert.Equal(t, http.StatusForbidden, status(other.TellLacking(ctx, d.ID, api.Lacking{Round: 0, Slabs: ranges})), name)
	}
	many := make([][2]int, 100_000)
	for i := range many {
		many[i] = [2]int{0, slabs.Len() - 1}
	}
	assert.Equal(t, http.StatusForbidden, status(other.TellLacking(ctx, d.ID, api.Lacking{Slabs: many})))
	assert.Equal(t, http.StatusUnprocessableEntity, status(one.TellLacking(ctx, d.ID, api.Lacking{Slabs: many})))
	require.NoError(t, one.TellLacking(ctx, d.ID, api.Lacking{Round: 0, Slabs: [][2]int{{0, slabs.Len() - 1}}}))

	t.Log("# a member reads what is delivered to it, and nothing else")
	for _, n := range []int{-1, 0, slabs.Len(), 1 << 40} {
		_, err = one.DeliveryPiece(ctx, d.ID, n)
		assert.Equal(t, http.StatusForbidden, status(err), "piece %d: this delivery carries no payload", n)
	}
	own, foreign := stored(slabs), stored(h.mapOf("seed-desk"), slabs)
	_, err = one.DeliverySlab(ctx, d.ID, own, false)
	assert.NoError(t, err)
	_, err = one.DeliverySlab(ctx, d.ID, foreign, false)
	assert.Equal(t, http.StatusForbidden, status(err), "%v", err)
	_, err = other.DeliverySlab(ctx, d.ID, own, false)
	assert.Equal(t, http.StatusForbidden, status(err), "%v", err)
	_, err = other.DeliveryMap(ctx, d.ID)
	assert.Equal(t, http.StatusForbidden, status(err), "%v", err)

	t.Log("# who says that it is through has to prove it")
	for _, phase := range []delivery.Phase{delivery.Receiving, delivery.Checking} {
		_, err = one.TellProgress(ctx, d.ID, api.Progress{Report: delivery.Report{Phase: phase}})
		require.NoError(t, err)
	}
	_, err = one.TellProgress(ctx, d.ID, api.Progress{Report: delivery.Report{Phase: "ended", Verified: true}, Proof: make([]byte, 32)})
	require.NoError(t, err)
	h.eventually(func() bool { return h.receipts(d.ID)["herb-02"].Outcome != "" })
	receipt := h.receipts(d.ID)["herb-02"]
	assert.EqualValues(t, "failed", receipt.Outcome)
	assert.False(t, receipt.Verified)
	assert.Contains(t, receipt.Reason, "could not prove")

	t.Log("# another machine with the same hardware address does not take its place")
	in := api.CheckIn{Boot: "another", AgentVersion: "test", Addresses: []string{address(3).String()}, Inventory: api.Inventory{Model: "A310", Serial: "AW-9999", UUID: "4c4c4544-0042-3510-8031-c4c04f4e3232", Disks: []api.Disk{}, Cards: []api.Card{}}}
	_, err = h.client.WithToken("").CheckIn(ctx, in)
	assert.Equal(t, http.StatusConflict, status(err), "%v", err)
	_, err = clients["herb-03"].Standing(ctx)
	assert.NoError(t, err, "the one at work keeps its pass")
	_, err = h.client.StopDelivery(ctx, d.ID)
	require.NoError(t, err)
}

// build makes a disk that has other content than gold's.
func build(t *testing.T, seed uint64) string {
	t.Helper()
	d, err := golddisk.Build(t.Context(), golddisk.Spec{Path: filepath.Join(t.TempDir(), "other"), Size: 36 * golddisk.MiB, ESP: 3 * golddisk.MiB, FATBits: 12, Data: 6 * golddisk.MiB, Seed: seed})
	require.NoError(t, err)
	return d.Path
}

func (h *house) mapOf(ref string) *image.Map {
	h.t.Helper()
	text, err := h.client.Manifest(h.t.Context(), ref)
	require.NoError(h.t, err)
	man, err := image.ParseManifest(text)
	require.NoError(h.t, err)
	raw, err := h.client.SlabMap(h.t.Context(), ref)
	require.NoError(h.t, err)
	slabs, err := image.ParseMap(raw, man)
	require.NoError(h.t, err)
	return slabs
}

// stored is a slab of a version that is in none of the others.
func stored(m *image.Map, others ...*image.Map) slabstore.Digest {
next:
	for i := range m.Len() {
		s := m.Slab(i)
		for _, o := range others {
			if o.Has(s.Digest) {
				continue next
			}
		}
		if !s.Zero {
			return s.Digest
		}
	}
	return slabstore.Digest{}
}

func TestACaptureStoresNoMoreThanItsDisksHave(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	a := address(2).String()
	in, err := h.client.WithToken("").CheckIn(ctx, api.CheckIn{Boot: "boot", AgentVersion: "test", Addresses: []string{a}, Inventory: api.Inventory{Disks: []api.Disk{}, Cards: []api.Card{}}})
	require.NoError(t, err)
	c := h.client.WithToken(in.Pass)
	_, err = h.client.Admit(ctx, a, api.Admission{Name: "herb-02"})
	require.NoError(t, err)
	e, err := h.client.Capture(ctx, api.NewCapture{Workstation: "herb-02", Image: "garden-desk"})
	require.NoError(t, err)
	_, err = c.Standing(ctx)
	require.NoError(t, err)
	put := func() error {
		content := make([]byte, image.SlabSize)
		rand.Read(content)
		d, frame := slabstore.Sum(content), slabstore.Compress(nil, content)
		return c.PutSlab(ctx, e.ID, d, frame)
	}
	for range 60 { // MiB, which anybody may
		require.NoError(t, put())
	}
	for range 6 {
		err = put()
	}
	assert.Equal(t, http.StatusRequestEntityTooLarge, status(err), "%v", err)
}

func TestAHostileNewcomer(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	nobody := h.client.WithToken("")
	in := func(n int, name string) error {
		_, err := nobody.CheckIn(ctx, api.CheckIn{Boot: "boot", AgentVersion: "test", Addresses: []string{fmt.Sprintf("02:00:5e:00:%02x:%02x", n/256, n%256)},
			Inventory: api.Inventory{Model: name, Disks: []api.Disk{}, Cards: []api.Card{}}})
		return err
	}
	assert.Equal(t, http.StatusUnprocessableEntity, status(in(0, strings.Repeat("x", 100_000))), "a name has an end")
	assert.Equal(t, http.StatusRequestEntityTooLarge, status(in(0, strings.Repeat("x", 1<<20))))
	refused := 0
	for n := range 1200 {
		if status(in(n, "A310")) == http.StatusTooManyRequests {
			refused++
		}
	}
	assert.GreaterOrEqual(t, refused, 600)
	page, err := h.client.Workstations(ctx, apiclient.List{Limit: 1})
	require.NoError(t, err)
	assert.LessOrEqual(t, page.Total, 600)
	t.Log("# whoever was known before is not concerned")
	assert.NoError(t, in(0, "A310"))

	t.Log("# what is turned away stays away; what is forgotten comes anew")
	ref := "02:00:5e:00:00:01"
	require.NoError(t, h.client.Refuse(ctx, api.NewRefusal{Machine: ref, Note: "a stranger's"}))
	err = in(1, "A310")
	assert.Equal(t, http.StatusForbidden, status(err), "%v", err)
	require.NoError(t, h.client.Forget(ctx, "02:00:5e:00:00:02"))
	_, err = h.client.Workstation(ctx, "02:00:5e:00:00:02")
	assert.True(t, apiclient.IsNotFound(err))

	t.Log("# guessing codes is slowed for the one who guesses")
	guesser, err := nobody.CheckIn(ctx, api.CheckIn{Boot: "boot", AgentVersion: "test", Addresses: []string{"02:00:5e:00:00:03"}, Inventory: api.Inventory{Disks: []api.Disk{}, Cards: []api.Card{}}})
	require.NoError(t, err)
	var last error
	for range 20 {
		_, last = nobody.WithToken(guesser.Pass).SignIn(ctx, api.Typed{Code: "AAAA-AAAA"})
	}
	assert.Equal(t, http.StatusTooManyRequests, status(last), "%v", last)
	code, err := h.client.MakeCode(ctx, 1)
	require.NoError(t, err)
	other, err := nobody.CheckIn(ctx, api.CheckIn{Boot: "boot", AgentVersion: "test", Addresses: []string{"02:00:5e:00:00:04"}, Inventory: api.Inventory{Disks: []api.Disk{}, Cards: []api.Card{}}})
	require.NoError(t, err)
	_, err = nobody.WithToken(other.Pass).SignIn(ctx, api.Typed{Code: code.Code})
	assert.NoError(t, err, "others still can")
}

// What a browser, or whoever else has no credential, can cost.
func TestAHostileBrowser(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	var keys strings.Builder
	for i := range 4000 {
		fmt.Fprintf(&keys, `"k%d":1,`, i)
	}
	body := `{` + keys.String() + `"boot":"b"}`
	for path, most := range map[string]int{"/api/v1/session": http.StatusRequestEntityTooLarge, "/agent/v1/check-in": http.StatusUnprocessableEntity} {
		resp, err := h.client.HTTP().Post(h.url+path, "application/json", strings.NewReader(body))
		require.NoError(t, err)
		reply, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		resp.Body.Close()
		assert.Equal(t, most, resp.StatusCode, path)
		assert.Less(t, len(reply), 8<<10, path)
	}

	t.Log("# event streams have an end, and other calls go on")
	var streams []net.Conn
	defer func() {
		for _, c := range streams {
			c.Close()
		}
	}()
	served, refused := 0, 0
	trust := h.client.HTTP().Transport.(*http.Transport).TLSClientConfig.Clone()
	trust.NextProtos = nil // HTTP/1.1, a connection each
	for range 230 {
		c, err := tls.Dial("tcp", strings.TrimPrefix(h.url, "https://"), trust)
		require.NoError(t, err)
		streams = append(streams, c)
		_, err = fmt.Fprintf(c, "GET /api/v1/events HTTP/1.1\r\nHost: jugate\r\nAuthorization: Bearer %s\r\n\r\n", h.token)
		require.NoError(t, err)
		for lines := bufio.NewScanner(c); lines.Scan(); {
			if lines.Text() == "event: hello" {
				served++
				break
			}
			if lines.Text() == "retry: 30000" { // it is sent away, to come back later
				refused++
				break
			}
		}
	}
	assert.Equal(t, 200, served)
	assert.Equal(t, 30, refused)
	_, err := h.client.Health(t.Context())
	assert.NoError(t, err)

	t.Log("# what is not a page of the console says so")
	for path, want := range map[string]int{"/metrics": 401, "/health": 404, "/readyz": 200, "/workstations": 200} {
		resp, err := h.client.HTTP().Get(h.url + path)
		require.NoError(t, err)
		resp.Body.Close()
		assert.Equal(t, want, resp.StatusCode, path)
	}
}

// The disk of the records fills up while workstations receive: their receipts have a
// reserve, and slabs stop before.
func TestAFullDiskStillTakesReceipts(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	if err := unix.Mount("tmpfs", data, "tmpfs", 0, "size=128m"); err != nil {
		t.Skipf("needs root to mount a small disk: %v", err)
	}
	defer unix.Unmount(data, unix.MNT_DETACH)
	settle(t, data)
	s, err := service.Open(t.Context(), service.Config{Data: data, Multicast: loopback, KeepFree: 32 << 20, Log: slog.New(slog.NewTextHandler(t.Output(), nil))})
	require.NoError(t, err)
	h := serve(t, s, data, "127.0.0.1:0")
	defer h.stop()
	disk := gold(t)
	defer h.start(1, disk.Path, 0, "desk-gold")()
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	defer h.start(2, blank(t, disk.Size), 0, "herb-02")()
	defer h.start(3, build(t, 9), 0, "desk-other")()

	d, err := h.client.Deliver(t.Context(), api.NewDelivery{Image: "garden-desk", To: []string{"herb-02"}, Rate: 8_000_000})
	require.NoError(t, err)
	f, err := os.Create(filepath.Join(data, "somebody-elses"))
	require.NoError(t, err)
	defer f.Close()
	_, err = io.Copy(f, zeros{})
	require.ErrorIs(t, err, unix.ENOSPC)

	h.eventually(func() bool { return len(h.receipts(d.ID)) > 0 })
	r := h.receipts(d.ID)["herb-02"]
	assert.EqualValues(t, "delivered", r.Outcome, r.Reason)
	assert.True(t, r.Verified)
	check, err := h.client.CheckLog(t.Context())
	require.NoError(t, err)
	assert.True(t, check.Sound)
	e := h.capture("desk-other", "seed-desk")
	assert.EqualValues(t, "failed", e.State)
	assert.Contains(t, e.Error, "kept for the records")

	t.Log("# with room again, all is as before")
	require.NoError(t, f.Truncate(0))
	assert.EqualValues(t, "done", h.capture("desk-other", "seed-desk").State)
}

type zeros struct{}

func (zeros) Read(b []byte) (int, error) { clear(b); return len(b), nil }

func TestTonightsDeliveryDoesNotHoldTodays(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	disk := gold(t)
	h.start(1, disk.Path, 0, "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	h.start(2, blank(t, disk.Size), 0, "herb-02")
	tonight, err := h.client.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"herb-02"}, Start: "at:" + time.Now().Add(6*time.Hour).UTC().Format(time.RFC3339)})
	require.NoError(t, err)
	queue, err := h.client.Errands(ctx, apiclient.List{Filter: map[string]string{"open": "true"}})
	require.NoError(t, err)
	require.Len(t, queue.Items, 1)
	require.NotNil(t, queue.Items[0].NotBefore)
	assert.Greater(t, time.Until(*queue.Items[0].NotBefore), 5*time.Hour)

	now := h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herb-02"}})
	assert.EqualValues(t, "delivered", h.receipts(now.ID)["herb-02"].Outcome)
	waits, err := h.client.Delivery(ctx, tonight.ID)
	require.NoError(t, err)
	assert.Nil(t, waits.Ended)
	_, err = h.client.StopDelivery(ctx, tonight.ID)
	require.NoError(t, err)
}

// Two engineers at two desks: what one sets does not undo what the other does.
func TestRateAndPauseAtOnce(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	h.ready(2)
	d, err := h.client.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"herb-02"}})
	require.NoError(t, err)
	for i := range 20 {
		rate := int64(1_000_000 * (i + 1))
		both := errgroup.Group{}
		both.Go(func() error { _, err := h.client.SetDeliveryRate(ctx, d.ID, rate); return err })
		both.Go(func() error {
			if i%2 == 0 {
				_, err := h.client.PauseDelivery(ctx, d.ID)
				return err
			}
			_, err := h.client.ResumeDelivery(ctx, d.ID)
			return err
		})
		require.NoError(t, both.Wait())
		d, err = h.client.Delivery(ctx, d.ID)
		require.NoError(t, err)
		require.Equal(t, rate, d.Rate)
		require.Equal(t, i%2 == 0, d.Paused)
	}
	h.stop()
	again := openAgain(t, h)
	d, err = again.client.Delivery(ctx, d.ID)
	require.NoError(t, err)
	assert.EqualValues(t, 20_000_000, d.Rate, "as the records have it, too")
	assert.False(t, d.Paused)
}

// Channels are chosen one after the other, whoever orders at the same time.
func TestDeliveriesAtOnceHaveChannelsOfTheirOwn(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	h.ready(2, 3, 4, 5, 6, 7)
	channels := make([]string, 6)
	var all errgroup.Group
	for i := range channels {
		all.Go(func() error {
			d, err := h.client.Deliver(t.Context(), api.NewDelivery{Image: "garden-desk", To: []string{fmt.Sprintf("herb-%02d", i+2)}})
			channels[i] = d.Channel
			return err
		})
	}
	require.NoError(t, all.Wait())
	slices.Sort(channels)
	assert.Len(t, slices.Compact(channels), 6)
}
