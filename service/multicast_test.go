package service_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/hwaddr"
	"jugate/demo/golddisk"
	"jugate/service"
	"jugate/sim"
)

// room is a service with a captured image and a way to put workstations into it.
type room struct {
	*house
	disk  *golddisk.Disk
	disks map[string]string
}

func newRoom(t *testing.T) *room {
	r := &room{house: open(t, t.TempDir(), "127.0.0.1:0"), disk: gold(t), disks: map[string]string{}}
	r.start(1, r.disk.Path, 0, "desk-gold")
	require.EqualValues(t, "done", r.capture("desk-gold", "garden-desk").State)
	return r
}

// put starts a workstation with a blank disk; change makes it special.
func (r *room) put(n int, name string, change func(*sim.Workstation)) (stop func(), w *sim.Workstation) {
	if r.disks[name] == "" {
		r.disks[name] = blank(r.t, r.disk.Size)
	}
	w = &sim.Workstation{Addresses: []hwaddr.Address{address(n)}, Disks: []string{r.disks[name]}, Interface: "lo"}
	if change != nil {
		change(w)
	}
	return r.startMachine(w, name), w
}

// right holds the disks of these workstations against the golden one.
func (r *room) right(names ...string) {
	r.t.Helper()
	want, err := r.disk.Files(r.t.Context())
	require.NoError(r.t, err)
	for _, name := range names {
		got := r.disk.On(r.disks[name])
		assert.NoError(r.t, got.Check(r.t.Context()), name)
		files, err := got.Files(r.t.Context())
		require.NoError(r.t, err)
		assert.Equal(r.t, want, files, name)
	}
}

// until waits until a delivery is as it should be.
func (r *room) until(id int64, as func(api.Delivery) bool) (d api.Delivery) {
	r.t.Helper()
	r.eventually(func() bool {
		var err error
		d, err = r.client.Delivery(r.t.Context(), id)
		require.NoError(r.t, err)
		return as(d)
	})
	return d
}

func over(d api.Delivery) bool { return d.Ended != nil }

func (r *room) said(d api.Delivery) (all []string) {
	for _, c := range d.Changes {
		all = append(all, c.What)
	}
	return all
}

// requests has the workstations that are started from now on come through a gate, which
// counts who fetches alone what has this in its path.
func (h *house) requests(of string) *atomic.Int32 {
	to, err := url.Parse(h.client.Server())
	require.NoError(h.t, err)
	var n atomic.Int32
	proxy := httputil.NewSingleHostReverseProxy(to)
	proxy.Transport = h.client.HTTP().Transport
	gate := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if strings.Contains(q.URL.Path, of) {
			n.Add(1)
		}
		proxy.ServeHTTP(w, q)
	}))
	h.t.Cleanup(gate.Close)
	h.client, err = apiclient.New(gate.URL, h.token)
	require.NoError(h.t, err)
	h.client, err = h.client.Trusting(h.service.Authority())
	require.NoError(h.t, err)
	return &n
}

func TestTheSlabMapComesInTheStream(t *testing.T) {
	for _, sealed := range []bool{false, true} {
		r := newRoom(t)
		fetched := r.requests("/map")
		names := []string{"herb-01", "herb-02", "herb-03"}
		for n, name := range names {
			r.put(2+n, name, nil)
		}
		d := r.deliver(api.NewDelivery{Image: "garden-desk", To: names, Rate: 200_000_000, Sealed: sealed})
		assert.EqualValues(t, "finished", d.State)
		assert.Zero(t, fetched.Load(), "nobody had to fetch it alone")
		r.right(names...)
		t.Log("# who has much of the image already needs the map before it is ready, and one alone fetches it")
		r.deliver(api.NewDelivery{Image: "garden-desk", To: names, Rate: 200_000_000, Sealed: sealed, Reuse: true})
		assert.EqualValues(t, 3, fetched.Load())
		r.deliver(api.NewDelivery{Image: "garden-desk", To: names[:1], Rate: 200_000_000, Sealed: sealed})
		assert.EqualValues(t, 4, fetched.Load())
	}
}

func TestWhoMissesTheSlabMapFetchesIt(t *testing.T) {
	r := newRoom(t)
	fetched := r.requests("/map")
	r.put(2, "herb-01", nil)
	r.put(3, "herb-02", func(w *sim.Workstation) { w.Loss = 1 })
	names := []string{"herb-01", "herb-02"}
	d := r.deliver(api.NewDelivery{Image: "garden-desk", To: names, Rate: 8_000_000})
	for name, receipt := range r.receipts(d.ID) {
		assert.EqualValues(t, "delivered", receipt.Outcome, "%s: %s", name, receipt.Reason)
	}
	assert.EqualValues(t, 1, fetched.Load())
	r.right(names...)
}

func TestOneThatDragsIsSetAsideAndServedAlone(t *testing.T) {
	r := newRoom(t)
	r.put(2, "herb-01", nil)
	r.put(3, "herb-02", nil)
	r.put(4, "herb-03", func(w *sim.Workstation) { w.Loss = 0.3 })
	r.put(5, "herb-04", func(w *sim.Workstation) { w.Loss = 1 })
	d, err := r.client.Deliver(t.Context(), api.NewDelivery{Image: "garden-desk", To: []string{"herb-01", "herb-02", "herb-03", "herb-04"}, Rate: 4_000_000})
	require.NoError(t, err)
	d = r.until(d.ID, over)
	receipts := r.receipts(d.ID)
	for name, reason := range map[string]string{"herb-01": "", "herb-02": "", "herb-03": `^served alone: loses [23]\d % of packets$`, "herb-04": "^served alone: hears nothing of the multicast$"} {
		assert.EqualValues(t, "delivered", receipts[name].Outcome, "%s: %s", name, receipts[name].Reason)
		if reason == "" {
			assert.Empty(t, receipts[name].Reason)
			assert.Zero(t, receipts[name].Unicast)
		} else {
			assert.Regexp(t, reason, receipts[name].Reason)
			assert.Positive(t, receipts[name].Unicast)
		}
	}
	assert.Zero(t, receipts["herb-04"].Multicast)
	r.right("herb-01", "herb-02", "herb-03", "herb-04")
	assert.Contains(t, r.said(d), "herb-04 set aside: hears nothing of the multicast")

	t.Log("# who would have held the others back finds out why")
	var checks api.Page[api.Check]
	r.eventually(func() bool {
		checks, err = r.client.Checks(t.Context(), apiclient.List{Sort: "workstation"})
		return err == nil && len(checks.Items) == 2
	})
	assert.Equal(t, []string{"herb-03", "herb-04"}, []string{checks.Items[0].Workstation, checks.Items[1].Workstation})
	assert.Equal(t, fmt.Sprintf("delivery %d, which set it aside: hears nothing of the multicast", d.ID), checks.Items[1].OrderedBy)
	assert.Contains(t, strings.Join(found(checks.Items[1]), " "), "no multicast is heard")
}

func TestANetworkWithoutMulticastIsServedByUnicast(t *testing.T) {
	r := newRoom(t)
	deaf := func(w *sim.Workstation) { w.Loss = 1 }
	r.put(2, "herb-01", deaf)
	r.put(3, "herb-02", deaf)
	d, err := r.client.Deliver(t.Context(), api.NewDelivery{Image: "garden-desk", To: []string{"herb-01", "herb-02"}, Rate: 4_000_000})
	require.NoError(t, err)
	d = r.until(d.ID, over)
	assert.Contains(t, r.said(d), "the network carries no multicast to these workstations; all are served by unicast")
	for _, receipt := range r.receipts(d.ID) {
		assert.EqualValues(t, "delivered", receipt.Outcome)
		assert.Zero(t, receipt.Multicast)
	}
	r.right("herb-01", "herb-02")
	errands, err := r.client.Errands(t.Context(), apiclient.List{Filter: map[string]string{"open": "true"}})
	require.NoError(t, err)
	assert.Empty(t, errands.Items, "nobody held anybody back")
}

func TestAWorkstationSwitchedOffAndOnGoesOnWhereItStopped(t *testing.T) {
	r := newRoom(t)
	stop, _ := r.put(2, "herb-01", nil)
	r.put(3, "herb-02", nil)
	d, err := r.client.Deliver(t.Context(), api.NewDelivery{Image: "garden-desk", To: []string{"herb-01", "herb-02"}, Rate: 16_000_000})
	require.NoError(t, err)
	r.until(d.ID, func(d api.Delivery) bool { return d.Members[0].Done > d.Members[0].Total/4 })
	stop()
	w := &sim.Workstation{Addresses: []hwaddr.Address{address(2)}, Disks: []string{r.disks["herb-01"]}, Interface: "lo"}
	r.startMachine(w, "")
	d = r.until(d.ID, over)
	receipts := r.receipts(d.ID)
	assert.EqualValues(t, "delivered", receipts["herb-01"].Outcome, receipts["herb-01"].Reason)
	assert.Less(t, receipts["herb-01"].Multicast+receipts["herb-01"].Unicast, receipts["herb-02"].Multicast+receipts["herb-02"].Unicast,
		"what it had before did not come again")
	r.right("herb-01", "herb-02")
}

func TestOnlyWhatDiffersIsSentAgain(t *testing.T) {
	r := newRoom(t)
	r.put(2, "herb-01", nil)
	r.put(3, "herb-02", nil)
	to := []string{"herb-01", "herb-02"}
	r.deliver(api.NewDelivery{Image: "garden-desk", To: to})
	t.Log("# somebody changes a few bytes on one of them")
	f, err := os.OpenFile(r.disks["herb-02"], os.O_RDWR, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte("scribbled over"), 1<<20+100) // the boot sector of its first volume
	require.NoError(t, err)
	require.NoError(t, f.Close())
	again := r.deliver(api.NewDelivery{Image: "garden-desk", To: to, Reuse: true})
	require.EqualValues(t, "finished", again.State)
	receipts := r.receipts(again.ID)
	for name, receipt := range receipts {
		assert.True(t, receipt.Verified, name)
	}
	assert.Zero(t, receipts["herb-01"].Multicast+receipts["herb-01"].Unicast)
	assert.Positive(t, receipts["herb-02"].Multicast+receipts["herb-02"].Unicast)
	assert.Positive(t, again.WireBytes, "the last bytes of the stream count, too")
	assert.NotContains(t, r.agents.String(), "delivery failed", "no workstation is given an errand that it has done")
	r.right(to...)
}

func TestASealedDelivery(t *testing.T) {
	r := newRoom(t)
	r.put(2, "herb-01", func(w *sim.Workstation) { w.Loss = 0.02 })
	_, w := r.put(3, "herb-02", func(w *sim.Workstation) { w.Loss = 1 })
	d := r.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herb-01", "herb-02"}, Rate: 8_000_000, Sealed: true, WhenDone: "power-off"})
	assert.EqualValues(t, "finished", d.State)
	assert.True(t, d.Sealed)
	receipts := r.receipts(d.ID)
	assert.EqualValues(t, "delivered", receipts["herb-01"].Outcome, receipts["herb-01"].Reason)
	assert.EqualValues(t, "delivered", receipts["herb-02"].Outcome, "and by unicast: %s", receipts["herb-02"].Reason)
	r.right("herb-01", "herb-02")
	r.eventually(func() bool { return w.Left() == "power-off" })
}

func TestADeliveryIsPausedSpedUpAndExtended(t *testing.T) {
	r := newRoom(t)
	r.put(2, "herb-01", nil)
	r.put(3, "herb-02", nil)
	d, err := r.client.Deliver(t.Context(), api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}, Rate: 4_000_000})
	require.NoError(t, err)
	r.until(d.ID, func(d api.Delivery) bool { return d.State == "sending" && d.WireBytes > 100_000 })
	d, err = r.client.PauseDelivery(t.Context(), d.ID)
	require.NoError(t, err)
	assert.True(t, d.Paused)
	d = r.until(d.ID, func(d api.Delivery) bool { return d.RateNow == 0 })
	before := r.until(d.ID, func(now api.Delivery) bool {
		still := now.WireBytes == d.WireBytes
		d = now
		return still
	}).WireBytes
	d, err = r.client.ExtendDelivery(t.Context(), d.ID, api.MoreTargets{To: []string{"herb-02", "herb-01"}})
	require.NoError(t, err)
	require.Len(t, d.Members, 2)
	_, err = r.client.ExtendDelivery(t.Context(), d.ID, api.MoreTargets{To: []string{"herb-02"}})
	assert.ErrorContains(t, err, "goes to herb-02 already")
	r.until(d.ID, func(d api.Delivery) bool { return d.Members[1].Phase == "ready" || d.Members[1].Phase == "receiving" })
	d, err = r.client.SetDeliveryRate(t.Context(), d.ID, 200_000_000)
	require.NoError(t, err)
	assert.EqualValues(t, 200_000_000, d.Rate)
	assert.Less(t, d.WireBytes-before, int64(100_000), "nothing but the sender's signs of life")
	_, err = r.client.ResumeDelivery(t.Context(), d.ID)
	require.NoError(t, err)
	d = r.until(d.ID, over)
	assert.Equal(t, []string{"paused", "extended by herb-02 herb-01", "rate set to 200 Mbit/s", "resumed"}, r.said(d)[:4])
	for _, c := range d.Changes[:4] {
		assert.Equal(t, "the administrator", c.By)
	}
	assert.EqualValues(t, "delivered", r.receipts(d.ID)["herb-02"].Outcome)
	r.right("herb-01", "herb-02")
	_, err = r.client.PauseDelivery(t.Context(), d.ID)
	assert.ErrorContains(t, err, "is finished already")
}

func TestItStartsAtTheLatestWithWhoeverIsReady(t *testing.T) {
	r := newRoom(t)
	r.put(2, "herb-01", nil)
	r.put(3, "herb-02", nil)
	stop, _ := r.put(4, "herb-03", nil)
	stop()
	soon := time.Now().Add(time.Second)
	d := r.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herb-01", "herb-02", "herb-03"}, Start: "all", AtLatest: &soon})
	receipts := r.receipts(d.ID)
	assert.EqualValues(t, "delivered", receipts["herb-01"].Outcome)
	assert.EqualValues(t, "delivered", receipts["herb-02"].Outcome)
	assert.EqualValues(t, "absent", receipts["herb-03"].Outcome)
}

// Two deliveries at once go to different groups and share what the network may
// carry.
func TestSeveralDeliveriesShareTheCeiling(t *testing.T) {
	shared := loopback
	shared.Ceiling = 8_000_000
	r := &room{house: openWith(t, t.TempDir(), "127.0.0.1:0", shared), disk: gold(t), disks: map[string]string{}}
	r.start(1, r.disk.Path, 0, "desk-gold")
	require.EqualValues(t, "done", r.capture("desk-gold", "garden-desk").State)
	var orders []api.Delivery
	for n, name := range []string{"herb-01", "herb-02"} {
		r.put(2+n, name, nil)
	}
	for _, name := range []string{"herb-01", "herb-02"} {
		d, err := r.client.Deliver(t.Context(), api.NewDelivery{Image: "garden-desk", To: []string{name}, Rate: 100_000_000})
		require.NoError(t, err)
		orders = append(orders, d)
	}
	assert.NotEqual(t, orders[0].Channel, orders[1].Channel)
	r.eventually(func() bool {
		one, err := r.client.Delivery(t.Context(), orders[0].ID)
		require.NoError(t, err)
		two, err := r.client.Delivery(t.Context(), orders[1].ID)
		require.NoError(t, err)
		require.LessOrEqual(t, max(one.RateNow, two.RateNow), shared.Ceiling)
		return one.RateNow == shared.Ceiling/2 && two.RateNow == shared.Ceiling/2
	})
	for _, d := range orders {
		r.until(d.ID, over)
	}
	r.right("herb-01", "herb-02")
}

func TestAWrongInterfaceIsNamedAtTheStart(t *testing.T) {
	_, err := service.Open(t.Context(), service.Config{Data: t.TempDir(), Multicast: service.Multicast{Interface: "nowhere0"}})
	assert.ErrorContains(t, err, `"nowhere0"`)
}
