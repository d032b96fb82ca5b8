package outpost_test

import (
	"cmp"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/agent"
	"jugate/api"
	"jugate/apiclient"
	"jugate/boot"
	"jugate/core/hwaddr"
	"jugate/core/netboot"
	"jugate/core/slabstore"
	"jugate/core/version"
	"jugate/demo/golddisk"
	"jugate/outpost"
	"jugate/records/recordstest"
	"jugate/service"
	"jugate/sim"
)

// wire is the line between a site and its service: it counts, and can be cut.
type wire struct {
	listener net.Listener
	to       string
	bytes    atomic.Int64 // towards the site
	work     sync.WaitGroup

	mu    sync.Mutex
	cut   bool
	conns map[net.Conn]bool
}

func newWire(t *testing.T, to string) *wire {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	w := &wire{listener: l, to: to, conns: map[net.Conn]bool{}}
	w.work.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			w.work.Go(func() { w.carry(c) })
		}
	})
	t.Cleanup(func() { l.Close(); w.set(true); w.work.Wait() })
	return w
}

func (w *wire) carry(c net.Conn) {
	defer c.Close()
	far, err := net.Dial("tcp", w.to)
	if err != nil {
		return
	}
	defer far.Close()
	w.mu.Lock()
	cut := w.cut
	w.conns[c], w.conns[far] = true, true
	w.mu.Unlock()
	if cut {
		return
	}
	var both sync.WaitGroup
	both.Go(func() { io.Copy(far, c); far.Close(); c.Close() })
	both.Go(func() { io.Copy(counter{c, &w.bytes}, far); far.Close(); c.Close() })
	both.Wait()
}

type counter struct {
	io.Writer
	n *atomic.Int64
}

func (c counter) Write(b []byte) (int, error) {
	n, err := c.Writer.Write(b)
	c.n.Add(int64(n))
	return n, err
}

// set cuts the line, or mends it.
func (w *wire) set(cut bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.cut = cut
	for c := range w.conns {
		if cut {
			c.Close()
		}
		delete(w.conns, c)
	}
}

// town is a service with a site behind a line.
type town struct {
	t       *testing.T
	data    string
	service *service.Service
	client  *apiclient.Client
	line    *wire
	site    string // data folder of the outpost
	gold    string // the golden disk
	listen  string // where the outpost answers, at its next start
	deaf    bool   // machines hear no multicast
	builds  int    // that were made
}

func newTown(t *testing.T) *town {
	h := &town{t: t, data: t.TempDir(), site: t.TempDir()}
	recordstest.Put(t, h.data)
	program := filepath.Join(t.TempDir(), "agent")
	require.NoError(t, os.WriteFile(program, []byte("the agent"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(filepath.Dir(program), "jugate-outpost"), []byte("the outpost"), 0o755))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	h.service, err = service.Open(t.Context(), service.Config{Version: "9.8.7", Data: h.data, BuildFrom: []string{os.TempDir()}, Netboot: service.Netboot{Agent: program},
		Multicast: service.Multicast{Interface: "lo", TTL: service.NoTTL, Groups: netip.MustParsePrefix("233.252.0.64/26")}, Log: slog.New(slog.NewTextHandler(t.Output(), nil))})
	require.NoError(t, err)
	run(t, func(ctx context.Context) error { return h.service.Serve(ctx, l) }, h.service.Close)
	h.client, err = apiclient.New("https://"+l.Addr().String(), h.service.Token())
	require.NoError(t, err)
	h.client, err = h.client.Trusting(h.service.Authority())
	require.NoError(t, err)
	h.line = newWire(t, l.Addr().String())
	return h
}

// run serves until the test or what is returned ends it.
func run(t *testing.T, serve func(context.Context) error, close func() error) (stop func()) {
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- serve(ctx) }()
	stop = sync.OnceFunc(func() {
		cancel()
		assert.NoError(t, <-ended)
		assert.NoError(t, close())
	})
	t.Cleanup(stop)
	return stop
}

func (h *town) far() string { return "https://" + h.line.listener.Addr().String() }

// open starts the outpost, and tells where it answers.
func (h *town) open(code string, change ...func(*outpost.Config)) (address string, stop func()) {
	h.t.Helper()
	c := outpost.Config{Data: h.site, Service: h.far(), Code: code, KeepFree: 1, Netboot: boot.Config{WakeBy: "lo"}, Log: slog.New(slog.NewTextHandler(h.t.Output(), nil)).With("who", "outpost")}
	for _, do := range change {
		do(&c)
	}
	o, err := outpost.Open(h.t.Context(), c)
	require.NoError(h.t, err)
	l, err := net.Listen("tcp", cmp.Or(h.listen, "127.0.0.1:0"))
	require.NoError(h.t, err)
	return l.Addr().String(), run(h.t, func(ctx context.Context) error { return o.Serve(ctx, l) }, o.Close)
}

// eventually waits for something that is bound to come.
func (h *town) eventually(true func() bool) {
	h.t.Helper()
	require.Eventually(h.t, true, 5*time.Minute, 20*time.Millisecond)
}

func (h *town) outpost() api.Outpost {
	o, err := h.client.Outpost(h.t.Context(), "alpine")
	require.NoError(h.t, err)
	return o
}

func address(n int) hwaddr.Address {
	return hwaddr.MustParse(fmt.Sprintf("00:00:5e:00:53:%02x", n))
}

// machine starts a workstation that finds the service at url, and admits it.
func (h *town) machine(n int, url, disk, name string) (stop func()) {
	h.t.Helper()
	c, err := apiclient.ForAgent(url, h.service.Authority())
	require.NoError(h.t, err)
	w := &sim.Workstation{Addresses: []hwaddr.Address{address(n)}, Maker: "Alder Works", Model: "A310", Serial: fmt.Sprintf("AW-%04d", n), Memory: 8 << 30, Interface: "lo", Loss: map[bool]float64{true: 1}[h.deaf], Disks: []string{disk}}
	a := agent.New(c, w, agent.Options{Certificate: h.service.Authority(), Log: slog.New(slog.NewTextHandler(h.t.Output(), nil)).With("agent", name)})
	ctx, cancel := context.WithCancel(context.Background())
	var done sync.WaitGroup
	done.Go(func() { a.Run(ctx) })
	stop = sync.OnceFunc(func() { cancel(); done.Wait() })
	h.t.Cleanup(stop)
	h.eventually(func() bool {
		_, err := h.client.Workstation(h.t.Context(), address(n).String())
		return err == nil
	})
	_, err = h.client.Admit(h.t.Context(), address(n).String(), api.Admission{Name: name})
	require.NoError(h.t, err)
	return stop
}

// build offers a build of a made-up system.
func (h *town) build() api.Build {
	h.builds++
	root := h.t.TempDir()
	for _, name := range []string{"boot/vmlinuz-6.1.0-test", "lib/modules/6.1.0-test/kernel/none", "usr/lib/shim/shimx64.efi.signed", "usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed"} {
		require.NoError(h.t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755))
		require.NoError(h.t, os.WriteFile(filepath.Join(root, name), []byte(strings.Repeat(name, 100*h.builds)), 0o644))
	}
	b, err := h.client.MakeBuild(h.t.Context(), api.NewBuild{Folders: []string{root}, Offer: true})
	require.NoError(h.t, err)
	return b
}

// get fetches something as firmware does.
func get(t *testing.T, url string) (status int, body string) {
	t.Helper()
	resp, err := http.Get(url)
	require.NoError(t, err)
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return resp.StatusCode, string(b)
}

func TestAnOutpostJoins(t *testing.T) {
	h := newTown(t)
	ctx := t.Context()
	_, err := outpost.Open(ctx, outpost.Config{Data: h.site})
	assert.ErrorIs(t, err, outpost.ErrNotJoined)
	code, err := h.client.AddOutpost(ctx, api.NewOutpost{Name: "alpine", Note: "across the river"})
	require.NoError(t, err)
	_, err = h.client.AddOutpost(ctx, api.NewOutpost{Name: "Alpine"})
	assert.Error(t, err, "a name has small letters")
	_, err = h.client.AddOutpost(ctx, api.NewOutpost{Name: "alpine"})
	assert.True(t, apiclient.IsConflict(err))
	assert.Equal(t, "expected", h.outpost().State)

	t.Log("# a code is told to nobody but the service that it is of")
	other := newTown(t)
	_, err = outpost.Open(ctx, outpost.Config{Data: t.TempDir(), Service: other.far(), Code: code.Code})
	assert.ErrorIs(t, err, apiclient.ErrOtherService)
	wrong := "AAAA-AAAA-AAAA" + code.Code[14:]
	_, err = outpost.Open(ctx, outpost.Config{Data: t.TempDir(), Service: h.far(), Code: wrong})
	assert.ErrorContains(t, err, "this code is not good")

	t.Log("# it is good once")
	_, stop := h.open(code.Code)
	h.eventually(func() bool { return h.outpost().State == "up" })
	_, err = outpost.Open(ctx, outpost.Config{Data: h.site})
	assert.ErrorIs(t, err, outpost.ErrInUse)
	_, err = outpost.Open(ctx, outpost.Config{Data: t.TempDir(), Service: h.far(), Code: code.Code})
	assert.ErrorContains(t, err, "this code is not good")
	stop()

	t.Log("# it knows who it is at the next start, also if the code stands there still")
	_, stop = h.open("")
	stop()
	_, stop = h.open(code.Code)
	stop()

	t.Log("# whoever is ended between the request and its answer joins by the same code")
	again, err := h.client.CodeOutpost(ctx, "alpine")
	require.NoError(t, err)
	fresh := t.TempDir()
	h.site = fresh
	_, stop = h.open(again.Code)
	stop()
	text, err := os.ReadFile(filepath.Join(fresh, "outpost.pem"))
	require.NoError(t, err)
	key, _, _ := strings.Cut(string(text), "-----BEGIN CERTIFICATE")
	require.NoError(t, os.WriteFile(filepath.Join(fresh, "outpost.pem"), []byte(key), 0o600))
	require.NoError(t, errors.Join(os.Remove(filepath.Join(fresh, "outpost.json")), os.Remove(filepath.Join(fresh, "joined-by"))))
	_, stop = h.open(again.Code)
	h.eventually(func() bool { return h.outpost().State == "up" })

	t.Log("# one of an older program is told by its version; it goes on")
	old, err := apiclient.ForOutpost(h.far(), h.service.Authority(), h.tls())
	require.NoError(t, err)
	stop()
	_, err = old.TellOutpost(ctx, api.OutpostCalls{OutpostTells: api.OutpostTells{Version: "0.1.0", Links: []api.NetbootLink{}, Builds: []int{}}, Run: "old"})
	require.NoError(t, err)
	assert.Contains(t, h.outpost().Trouble, "its program is of version 0.1.0, and the service has "+"9.8.7")
	_, stop = h.open("")
	h.eventually(func() bool { return h.outpost().Trouble == "" })

	t.Log("# one that is withdrawn is no outpost any more, at once")
	require.NoError(t, h.client.WithdrawOutpost(ctx, "alpine"))
	assert.Equal(t, "withdrawn", h.outpost().State)
	stop()
	pair := h.tls()
	c, err := apiclient.ForOutpost(h.far(), h.service.Authority(), pair)
	require.NoError(t, err)
	_, err = c.TellOutpost(ctx, api.OutpostCalls{OutpostTells: api.OutpostTells{Links: []api.NetbootLink{}, Builds: []int{}}})
	assert.True(t, apiclient.IsUnauthorized(err), "%v", err)
	require.NoError(t, h.client.RemoveOutpost(ctx, "alpine"))
	page, err := h.client.Outposts(ctx)
	require.NoError(t, err)
	assert.Empty(t, page.Items)
}

// One whose interface is not there says so, and does all the rest.
func TestAnOutpostWithoutItsInterfaceSaysSo(t *testing.T) {
	h := newTown(t)
	code, err := h.client.AddOutpost(t.Context(), api.NewOutpost{Name: "alpine"})
	require.NoError(t, err)
	h.open(code.Code, func(c *outpost.Config) {
		c.Netboot.Lenient, c.Netboot.Interfaces = true, []boot.Interface{{Name: "nowhere0", Mode: netboot.Beside}}
	})
	h.eventually(func() bool {
		all, err := h.client.Diagnose(t.Context(), "")
		require.NoError(t, err)
		return slices.ContainsFunc(all.Items, func(d api.Diagnosis) bool {
			return d.Looked == "outpost alpine" && d.State == api.Bad && strings.Contains(d.What, "nowhere0: ")
		})
	})
}

func TestMachinesBootAtAnOutpost(t *testing.T) {
	h := newTown(t)
	ctx := t.Context()
	b := h.build()
	code, err := h.client.AddOutpost(ctx, api.NewOutpost{Name: "alpine"})
	require.NoError(t, err)
	at, stop := h.open(code.Code)

	t.Log("# builds come by themselves, and are the same")
	h.eventually(func() bool { return len(h.outpost().Builds) == 1 })
	from := strings.TrimPrefix(h.client.Server(), "https://")
	for _, file := range []string{"vmlinuz", "initrd"} {
		_, want := get(t, fmt.Sprintf("http://%s/boot/files/%d/%s", from, b.Number, file))
		status, got := get(t, fmt.Sprintf("http://%s/boot/files/%d/%s", at, b.Number, file))
		assert.Equal(t, http.StatusOK, status)
		assert.Equal(t, want, got, file)
	}
	fetched := h.outpost().Fetched

	t.Log("# a newcomer gets its script, and calls the outpost")
	script := func(n int) string {
		status, text := get(t, fmt.Sprintf("http://%s/boot/script/efi/y/%s/A310", at, address(n)))
		require.Equal(t, http.StatusOK, status, text)
		return text
	}
	text := script(0x11)
	assert.Contains(t, text, "jugate.service=https://"+at)
	assert.Contains(t, text, "new here")
	h.eventually(func() bool {
		status, err := h.client.Netboot(ctx)
		require.NoError(t, err)
		return len(status.Machines) == 1 && len(status.Machines[0].Steps) > 0 && strings.HasPrefix(status.Machines[0].Steps[0].Detail, "alpine: ")
	})
	leave := h.machine(0x11, "https://"+at, blank(t), "alpine-01")
	w, err := h.client.Workstation(ctx, "alpine-01")
	require.NoError(t, err)
	assert.Equal(t, "alpine", w.Site)
	assert.Equal(t, 1, h.outpost().Callers)
	leave()
	woken, err := h.client.Wake(ctx, api.WakeUp{To: []string{"alpine-01"}})
	require.NoError(t, err)
	assert.Equal(t, []string{"the outpost alpine"}, woken.Interfaces)
	assert.Contains(t, script(0x11), "no errand")
	_, err = h.client.Check(ctx, api.NewCheck{To: []string{"alpine-01"}, CheckOptions: api.CheckOptions{Health: true}})
	require.NoError(t, err)
	first := script(0x11)
	assert.Contains(t, first, "an errand waits")

	t.Log("# the line fails: what was to be done goes on with another ticket, and everybody else boots from the disk")
	h.line.set(true)
	second := script(0x11)
	assert.Contains(t, second, "the service does not answer; as it said at ")
	assert.NotEqual(t, ticketIn(t, first), ticketIn(t, second))
	assert.Contains(t, script(0x12), "the service does not answer")
	assert.NotContains(t, script(0x12), "jugate.ticket")
	status, _ := get(t, fmt.Sprintf("http://%s/boot/files/%d/vmlinuz", at, b.Number))
	assert.Equal(t, http.StatusOK, status)

	t.Log("# also when the outpost starts while nobody answers")
	stop()
	at, _ = h.open("")
	assert.Contains(t, script(0x12), "the service does not answer")
	assert.Equal(t, fetched, h.outpost().Fetched, "nothing came twice")
	c, err := apiclient.ForAgent("https://"+at, h.service.Authority())
	require.NoError(t, err)
	_, err = c.CheckIn(ctx, api.CheckIn{AgentVersion: version.Program(), Addresses: []string{address(0x13).String()}})
	assert.True(t, apiclient.IsPassing(err), "%v", err)
	assert.ErrorContains(t, err, "does not reach its service")

	t.Log("# it is mended: nobody does anything")
	h.line.set(false)
	h.eventually(func() bool { return strings.Contains(script(0x12), "new here") })
	h.eventually(func() bool { return h.outpost().State == "up" })

	t.Log("# what cannot be held is said, and tried again")
	require.NoError(t, os.Remove(filepath.Join(h.site, "scratch")))
	next := h.build()
	h.eventually(func() bool { return h.outpost().Trouble != "" })
	require.NoError(t, os.Mkdir(filepath.Join(h.site, "scratch"), 0o700))

	t.Log("# a build that is removed goes there, too")
	h.eventually(func() bool { return len(h.outpost().Builds) == 2 })
	assert.Contains(t, script(0x12), fmt.Sprintf("/%d/vmlinuz", next.Number))
	require.NoError(t, h.client.RemoveBuild(ctx, b.Number))
	h.eventually(func() bool { return len(h.outpost().Builds) == 1 })
	t.Log("# who was at a site that is forgotten is at none")
	require.NoError(t, h.client.RemoveOutpost(ctx, "alpine"))
	w, err = h.client.Workstation(ctx, "alpine-01")
	require.NoError(t, err)
	assert.Empty(t, w.Site)
	page, err := http.Get("http://" + at + "/")
	require.NoError(t, err)
	page.Body.Close()
	assert.Equal(t, http.StatusNotFound, page.StatusCode, "an outpost has no console")
}

func ticketIn(t *testing.T, script string) string {
	t.Helper()
	_, rest, is := strings.Cut(script, "jugate.ticket=")
	require.True(t, is, script)
	return strings.TrimRight(strings.Fields(rest)[0], ";")
}

func blank(t *testing.T) string {
	path := filepath.Join(t.TempDir(), "blank")
	require.NoError(t, golddisk.Blank(path, 72<<20))
	return path
}

// gold is a golden disk.
func gold(t *testing.T) string {
	path := filepath.Join(t.TempDir(), "gold")
	_, err := golddisk.Build(t.Context(), golddisk.Spec{Path: path, Seed: 7})
	require.NoError(t, err)
	return path
}

// tls is the certificate that the outpost has had.
func (h *town) tls() func() (*tls.Certificate, error) {
	text, err := os.ReadFile(filepath.Join(h.site, "outpost.pem"))
	require.NoError(h.t, err)
	pair, err := tls.X509KeyPair(text, text)
	require.NoError(h.t, err)
	return func() (*tls.Certificate, error) { return &pair, nil }
}

// capture captures a golden disk as garden-desk@1.
func (h *town) capture() {
	h.t.Helper()
	h.gold = gold(h.t)
	h.machine(1, h.client.Server(), h.gold, "desk-gold")
	h.captureAgain()
}

func (h *town) captureAgain() {
	h.t.Helper()
	ctx := h.t.Context()
	e, err := h.client.Capture(ctx, api.NewCapture{Workstation: "desk-gold", Image: "garden-desk"})
	require.NoError(h.t, err)
	h.eventually(func() bool { e, err = h.client.Errand(ctx, e.ID); return err == nil && e.Ended != nil })
	require.Empty(h.t, e.Error)
}

// captureNext captures the next version, in which so many bytes in one place are others.
func (h *town) captureNext() (bytes int64) {
	h.t.Helper()
	const block = 64 << 10
	f, err := os.OpenFile(h.gold, os.O_RDWR, 0)
	require.NoError(h.t, err)
	defer f.Close()
	b := make([]byte, block)
	for at := int64(60 << 20); at > 0; at -= block { // files lie at the end of what is in use
		_, err := f.ReadAt(b, at)
		require.NoError(h.t, err)
		if !slices.Contains(b[:256], 0) {
			rand.Read(b)
			_, err = f.WriteAt(b, at)
			require.NoError(h.t, err)
			h.captureAgain()
			return block
		}
	}
	require.Fail(h.t, "nothing on the disk looks like a file")
	return 0
}

// deliver returns the receipts of a delivery.
func (h *town) deliver(n api.NewDelivery) []api.Receipt {
	h.t.Helper()
	d, err := h.client.Deliver(h.t.Context(), n)
	require.NoError(h.t, err)
	return h.receipts(d.ID, len(n.To))
}

// receipts waits for the end of a delivery, and returns its receipts.
func (h *town) receipts(delivery int64, count int) []api.Receipt {
	h.t.Helper()
	ctx := h.t.Context()
	h.eventually(func() bool { d, err := h.client.Delivery(ctx, delivery); return err == nil && d.Ended != nil })
	page, err := h.client.Receipts(ctx, apiclient.List{Filter: map[string]string{"delivery": fmt.Sprint(delivery)}})
	require.NoError(h.t, err)
	require.Len(h.t, page.Items, count)
	return page.Items
}

// What is on the disk is bounded; what cannot be kept is served all the same.
func TestAnOutpostWithALittleRoom(t *testing.T) {
	h := newTown(t)
	ctx := t.Context()
	h.capture()
	code, err := h.client.AddOutpost(ctx, api.NewOutpost{Name: "alpine"})
	require.NoError(t, err)
	_, stop := h.open(code.Code)
	stop()
	const bound = 3 << 20
	for what, c := range map[string]struct {
		change func(*outpost.Config)
		atMost int64
	}{
		"a bound":     {func(c *outpost.Config) { c.Slabs = bound }, bound},
		"a full disk": {func(c *outpost.Config) { c.KeepFree = 1 << 60 }, 0},
	} {
		t.Run(what, func(t *testing.T) {
			at, stop := h.open("", c.change)
			defer stop()
			n := 0x11 + len(what)
			leave := h.machine(n, "https://"+at, blank(t), fmt.Sprintf("alpine-%d", n))
			defer leave()
			for _, r := range h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{fmt.Sprintf("alpine-%d", n)}}) {
				assert.EqualValues(t, "delivered", r.Outcome, r.Reason)
			}
			h.eventually(func() bool { return h.outpost().Fetched > 1<<20 })
			assert.LessOrEqual(t, h.outpost().Bytes, c.atMost)
		})
	}
}

// A sealed delivery goes through an outpost as it is, and nothing of it stays there.
func TestASealedDeliveryPassesThrough(t *testing.T) {
	h := newTown(t)
	ctx := t.Context()
	h.capture()
	code, err := h.client.AddOutpost(ctx, api.NewOutpost{Name: "alpine"})
	require.NoError(t, err)
	at, _ := h.open(code.Code)
	h.machine(0x11, "https://"+at, blank(t), "alpine-01")
	for _, r := range h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"alpine-01"}, Sealed: true}) {
		assert.EqualValues(t, "delivered", r.Outcome, r.Reason)
	}
	assert.Zero(t, h.outpost().Slabs)
	assert.Zero(t, h.outpost().Fetched)
}

// A pass is good with its agent's key alone, and which key that is an outpost alone may say.
func TestWhatIsSaidOfAnAgentIsBelievedOfAnOutpostAlone(t *testing.T) {
	h := newTown(t)
	ctx := t.Context()
	code, err := h.client.AddOutpost(ctx, api.NewOutpost{Name: "alpine"})
	require.NoError(t, err)
	at, _ := h.open(code.Code)
	holder := func() (*tls.Certificate, string) {
		_, key, err := ed25519.GenerateKey(rand.Reader)
		require.NoError(t, err)
		c, err := apiclient.CertificateOf(key)
		require.NoError(t, err)
		leaf, err := x509.ParseCertificate(c.Certificate[0])
		require.NoError(t, err)
		return c, slabstore.Sum(leaf.RawSubjectPublicKeyInfo).String()
	}
	own, key := holder()
	stranger, _ := holder()
	c, err := apiclient.ForHolder("https://"+at, h.service.Authority(), own)
	require.NoError(t, err)
	in, err := c.CheckIn(ctx, api.CheckIn{AgentVersion: version.Program(), Boot: "one", Addresses: []string{address(0x11).String()},
		Inventory: api.Inventory{Serial: "AW-1", Disks: []api.Disk{}, Cards: []api.Card{{Address: address(0x11).String()}}}})
	require.NoError(t, err)
	require.NoError(t, c.WithToken(in.Pass).TellActivity(ctx, api.Activity{Text: "here"}))
	for where, url := range map[string]string{"to the outpost": "https://" + at, "to the service": h.client.Server()} {
		for what, by := range map[string]*tls.Certificate{"with a key of its own": stranger, "without one": nil} {
			other, err := apiclient.ForHolder(url, h.service.Authority(), by)
			require.NoError(t, err)
			if by == nil {
				other.HTTP().Transport.(*http.Transport).TLSClientConfig.GetClientCertificate = nil
			}
			req, err := http.NewRequestWithContext(ctx, http.MethodPost, url+"/agent/v1/activity", strings.NewReader(`{"text":"not me"}`))
			require.NoError(t, err)
			req.Header = http.Header{"Authorization": {"Bearer " + in.Pass}, "Content-Type": {"application/json"}, api.AgentKeyHeader: {key}, api.AgentAtHeader: {"192.0.2.77"}}
			resp, err := other.HTTP().Do(req)
			require.NoError(t, err)
			resp.Body.Close()
			assert.Equal(t, http.StatusUnauthorized, resp.StatusCode, "%s %s", where, what)
		}
	}
}
