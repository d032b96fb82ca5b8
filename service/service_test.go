package service_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/agent"
	"jugate/api"
	"jugate/apiclient"
	"jugate/core/hwaddr"
	"jugate/core/lease"
	"jugate/demo/golddisk"
	"jugate/records/recordstest"
	"jugate/service"
	"jugate/sim"
)

// house is a running service and its client.
type house struct {
	t       *testing.T
	data    string
	url     string
	token   string
	client  *apiclient.Client
	service *service.Service
	stop    func()
	served  <-chan error // has what Serve has returned
	agents  *lines       // what the agents have logged
}

// lines is a log that is looked at while it is written.
type lines struct {
	mu  sync.Mutex
	all strings.Builder
}

func (l *lines) Write(b []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.all.Write(b)
}

func (l *lines) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.all.String()
}

// loopback is shared by all tests. They run in parallel, except those that check what arrives by multicast, or how fast.
var loopback = service.Multicast{Interface: "lo", TTL: service.NoTTL, Groups: netip.MustParsePrefix("233.252.0.0/24"), Rate: 400_000_000}

func open(t *testing.T, data, listen string) *house {
	t.Helper()
	return openWith(t, data, listen, loopback)
}

// openIn opens a service whose clock began at an instant: what waits in an old folder has not waited for years.
func openIn(t *testing.T, data string, begin time.Time) *house {
	t.Helper()
	settle(t, data)
	ahead := time.Until(begin)
	now := func() time.Time { return time.Now().Add(ahead) }
	s, err := service.Open(t.Context(), service.Config{Data: data, Multicast: loopback, Now: now, Log: slog.New(slog.NewTextHandler(t.Output(), nil))})
	require.NoError(t, err)
	h := serve(t, s, data, "127.0.0.1:0")
	h.client.HTTP().Transport.(*http.Transport).TLSClientConfig.Time = now
	return h
}

// settle gives a new data folder its records.
func settle(t *testing.T, data string) {
	t.Helper()
	if entries, _ := os.ReadDir(data); len(entries) == 0 {
		recordstest.Put(t, data)
	}
}

func openWith(t *testing.T, data, listen string, m service.Multicast) *house {
	t.Helper()
	settle(t, data)
	s, err := service.Open(t.Context(), service.Config{Data: data, Multicast: m, Log: slog.New(slog.NewTextHandler(t.Output(), nil))})
	require.NoError(t, err)
	return serve(t, s, data, listen)
}

func serve(t *testing.T, s *service.Service, data, listen string) *house {
	t.Helper()
	listener, err := net.Listen("tcp", listen)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	var done sync.WaitGroup
	served := make(chan error, 1)
	done.Go(func() {
		err := s.Serve(ctx, listener)
		if served <- err; !errors.Is(err, lease.ErrTaken) {
			assert.NoError(t, err)
		}
	})
	h := &house{served: served, t: t, agents: &lines{}, service: s, data: data, token: s.Token(), url: "https://" + listener.Addr().String()}
	h.stop = sync.OnceFunc(func() {
		cancel()
		done.Wait()
		assert.NoError(t, s.Close())
	})
	t.Cleanup(h.stop)
	h.client, err = apiclient.New(h.url, s.Token())
	require.NoError(t, err)
	h.client, err = h.client.Trusting(s.Authority())
	require.NoError(t, err)
	return h
}

func address(n int) hwaddr.Address {
	return hwaddr.MustParse(fmt.Sprintf("00:00:5e:00:53:%02x", n))
}

// start runs an agent on a simulated workstation until the test ends, or until
// the returned function is called.
func (h *house) start(n int, disk string, loss float64, name string, groups ...string) (stop func()) {
	h.t.Helper()
	w := &sim.Workstation{Addresses: []hwaddr.Address{address(n)}, Maker: "Alder Works", Model: "A310", Serial: fmt.Sprintf("AW-%04d", n), Memory: 8 << 30, Interface: "lo", Loss: loss}
	if disk != "" {
		w.Disks = []string{disk}
	}
	return h.startMachine(w, name, groups...)
}

func (h *house) startMachine(w agent.Machine, name string, groups ...string) (stop func()) {
	h.t.Helper()
	inventory, err := w.Inventory()
	require.NoError(h.t, err)
	ref := inventory.Cards[0].Address
	nobody := h.client.WithToken("")
	ctx, cancel := context.WithCancel(context.Background())
	var done sync.WaitGroup
	a := agent.New(nobody, w, agent.Options{Certificate: h.service.Authority(), Log: slog.New(slog.NewTextHandler(io.MultiWriter(h.t.Output(), h.agents), nil)).With("agent", ref)})
	done.Go(func() { a.Run(ctx) })
	stop = sync.OnceFunc(func() { cancel(); done.Wait() })
	h.t.Cleanup(stop)
	h.eventually(func() bool { _, err := h.client.Workstation(h.t.Context(), ref); return err == nil })
	if name != "" {
		_, err := h.client.Admit(h.t.Context(), ref, api.Admission{Name: name, Groups: groups})
		require.NoError(h.t, err)
	}
	return stop
}

// eventually waits for something that other processes bring about.
func (h *house) eventually(true func() bool) {
	h.t.Helper()
	require.Eventually(h.t, true, 5*time.Minute, 20*time.Millisecond)
}

func (h *house) capture(workstation, image string) api.Errand {
	h.t.Helper()
	e, err := h.client.Capture(h.t.Context(), api.NewCapture{Workstation: workstation, Image: image})
	require.NoError(h.t, err)
	h.eventually(func() bool {
		e, err = h.client.Errand(h.t.Context(), e.ID)
		return err == nil && e.Ended != nil
	})
	return e
}

func (h *house) deliver(n api.NewDelivery) api.Delivery {
	h.t.Helper()
	d, err := h.client.Deliver(h.t.Context(), n)
	require.NoError(h.t, err)
	h.eventually(func() bool {
		d, err = h.client.Delivery(h.t.Context(), d.ID)
		return err == nil && d.Ended != nil
	})
	return d
}

func (h *house) receipts(delivery int64) map[string]api.Receipt {
	h.t.Helper()
	page, err := h.client.Receipts(h.t.Context(), apiclient.List{Filter: map[string]string{"delivery": fmt.Sprint(delivery)}})
	require.NoError(h.t, err)
	all := map[string]api.Receipt{}
	for _, r := range page.Items {
		all[r.Workstation] = r
	}
	return all
}

func gold(t *testing.T) *golddisk.Disk {
	t.Helper()
	d, err := golddisk.Build(t.Context(), golddisk.Spec{Path: filepath.Join(t.TempDir(), "gold"), Size: 36 * golddisk.MiB, ESP: 3 * golddisk.MiB, FATBits: 12, Data: 6 * golddisk.MiB})
	require.NoError(t, err)
	return d
}

func blank(t *testing.T, size int64) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "blank")
	require.NoError(t, golddisk.Blank(path, size))
	return path
}

func TestCaptureAndDeliverWithLoss(t *testing.T) {
	h := open(t, t.TempDir(), "127.0.0.1:0")
	disk := gold(t)
	h.start(1, disk.Path, 0, "desk-gold")
	e := h.capture("desk-gold", "garden-desk")
	require.EqualValues(t, "done", e.State, e.Error)
	assert.Equal(t, 1, e.Version)

	_, err := h.client.AddGroup(t.Context(), api.NewGroup{Name: "herbarium"})
	require.NoError(t, err)
	disks := map[string]string{}
	for n, loss := range []float64{0, 0.03, 0.03} {
		name := fmt.Sprintf("herb-%02d", n+1)
		disks[name] = blank(t, disk.Size+int64(n)*golddisk.MiB)
		h.start(10+n, disks[name], loss, name, "herbarium")
	}
	d := h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herbarium"}, Start: "ready:3", Rate: 40_000_000})
	assert.EqualValues(t, "finished", d.State)
	receipts := h.receipts(d.ID)
	require.Len(t, receipts, 3)
	want, err := disk.Files(t.Context())
	require.NoError(t, err)
	for name, path := range disks {
		r := receipts[name]
		assert.EqualValues(t, "delivered", r.Outcome, "%s: %s", name, r.Reason)
		assert.True(t, r.Verified)
		assert.Greater(t, r.Multicast, r.Unicast)
		got := disk.On(path)
		assert.NoError(t, got.Check(t.Context()))
		files, err := got.Files(t.Context())
		require.NoError(t, err)
		assert.Equal(t, want, files)
	}
	check, err := h.client.CheckLog(t.Context())
	require.NoError(t, err)
	assert.True(t, check.Sound)
	assert.Equal(t, 3, check.Receipts)
}
