package service_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"jugate/agent"
	"jugate/api"
	"jugate/apiclient"
	unfinished "jugate/core/disk"
	"jugate/core/hwaddr"
	"jugate/core/slabstore"
	"jugate/demo/golddisk"
	"jugate/service"
	"jugate/sim"
)

func TestASecondServiceOnTheSameFolderIsRefused(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	open(t, data, "127.0.0.1:0")
	_, err := service.Open(t.Context(), service.Config{Data: data})
	require.ErrorIs(t, err, service.ErrInUse)
	assert.ErrorContains(t, err, fmt.Sprintf("process %d", os.Getpid()))
}

func TestProblemsAreToldAsProblemDetails(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	for name, c := range map[string]struct {
		method, path, token, body string
		status                    int
		detail                    string
	}{
		"no token":          {"GET", "/api/v1/images", "", "", 401, "sign in first"},
		"wrong token":       {"GET", "/api/v1/images", "wrong", "", 401, "the token is wrong"},
		"unknown image":     {"GET", "/api/v1/versions/nothing", "right", "", 404, "there is no image nothing"},
		"unknown path":      {"GET", "/api/v1/nothing", "right", "", 404, "/api/v1/nothing"},
		"bad sort":          {"GET", "/api/v1/workstations?sort=secret", "right", "", 422, "cannot be sorted"},
		"a filter misspelt": {"GET", "/api/v1/workstations?groop=herbarium", "right", "", 422, "no parameter groop"},
		"bad limit":         {"GET", "/api/v1/workstations?limit=100000", "right", "", 422, ""},
		"empty order":       {"POST", "/api/v1/deliveries", "right", `{"image":"x","to":[]}`, 422, ""},
		"no JSON":           {"POST", "/api/v1/deliveries", "right", `{`, 400, ""},
		"agent, no pass":    {"GET", "/agent/v1/standing", "right", "", 401, "check in again"},
		"agent, no address": {"POST", "/agent/v1/check-in", "", `{"agent_version":"1","boot":"b","hardware_addresses":["zz"],"inventory":{"maker":"","model":"","serial":"","memory":0,"disks":[],"network_cards":[]}}`, 422, "not a hardware address"},
	} {
		t.Run(name, func(t *testing.T) {
			req, err := http.NewRequest(c.method, h.url+c.path, strings.NewReader(c.body))
			require.NoError(t, err)
			if c.token == "right" {
				c.token = h.token
			}
			if c.token != "" {
				req.Header.Set("Authorization", "Bearer "+c.token)
			}
			req.Header.Set("Content-Type", "application/json")
			resp, err := h.client.HTTP().Do(req)
			require.NoError(t, err)
			defer resp.Body.Close()
			assert.Equal(t, c.status, resp.StatusCode)
			assert.Equal(t, "application/problem+json", resp.Header.Get("Content-Type"))
			var body bytes.Buffer
			_, err = body.ReadFrom(resp.Body)
			require.NoError(t, err)
			assert.Contains(t, body.String(), c.detail)
			assert.NotContains(t, body.String(), h.token)
		})
	}
}

func TestACaptureThatCannotBeDoneSaysWhy(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	disk := gold(t)
	sound, err := os.ReadFile(disk.Path)
	require.NoError(t, err)
	file := func(content []byte) string {
		path := filepath.Join(t.TempDir(), "disk")
		require.NoError(t, os.WriteFile(path, content, 0o644))
		return path
	}
	broken := bytes.Clone(sound)
	broken[512+40] ^= 1
	broken[len(broken)-512+40] ^= 1
	unclean := bytes.Clone(sound)
	unclean[disk.RootStart+1024+0x3A] = 0
	n := 0
	for name, c := range map[string]struct {
		disks []string
		want  string
	}{
		"no disk":       {nil, "has no disk"},
		"two disks":     {[]string{file(nil), file(nil)}, "has 2 disks"},
		"empty disk":    {[]string{file(nil)}, "the disk has only 0 bytes"},
		"blank disk":    {[]string{file(make([]byte, 1<<20))}, "there is nothing on it"},
		"truncated":     {[]string{file(sound[:len(sound)/2])}, "partition table is damaged"},
		"broken table":  {[]string{file(broken)}, "partition table is damaged"},
		"unclean":       {[]string{file(unclean)}, "shut down cleanly"},
		"disk vanished": {[]string{filepath.Join(t.TempDir(), "gone")}, "no such file"},
	} {
		n++
		t.Run(name, func(t *testing.T) {
			w := &sim.Workstation{Addresses: []hwaddr.Address{address(n)}, Disks: c.disks}
			if name == "disk vanished" {
				require.NoError(t, os.WriteFile(c.disks[0], sound, 0o644))
			}
			h.startMachine(w, fmt.Sprintf("desk-%d", n))
			if name == "disk vanished" {
				require.NoError(t, os.Remove(c.disks[0]))
			}
			e := h.capture(fmt.Sprintf("desk-%d", n), "garden-desk")
			assert.EqualValues(t, "failed", e.State)
			assert.Contains(t, e.Error, c.want)
		})
	}
	_, err = h.client.Version(t.Context(), "garden-desk")
	assert.True(t, apiclient.IsNotFound(err), "no half version: %v", err)
}

func TestAFullStoreLeavesNoVersion(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	slabs := filepath.Join(data, "slabs")
	require.NoError(t, os.MkdirAll(slabs, 0o755))
	if err := unix.Mount("tmpfs", slabs, "tmpfs", 0, "size=4m"); err != nil {
		t.Skipf("needs root to mount a small disk: %v", err)
	}
	defer unix.Unmount(slabs, unix.MNT_DETACH)
	h := open(t, data, "127.0.0.1:0")
	h.start(1, gold(t).Path, 0, "desk-gold")
	e := h.capture("desk-gold", "garden-desk")
	assert.EqualValues(t, "failed", e.State)
	assert.Contains(t, e.Error, "store is full")
	_, err := h.client.Version(t.Context(), "garden-desk")
	assert.True(t, apiclient.IsNotFound(err))

	t.Log("# with room made, the same order works")
	require.NoError(t, unix.Mount("", slabs, "", unix.MS_REMOUNT, "size=64m"))
	e = h.capture("desk-gold", "garden-desk")
	assert.EqualValues(t, "done", e.State, e.Error)
	assert.Equal(t, 1, e.Version)
}

func TestWhoCannotReceiveGetsAReceiptThatSaysSo(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	disk := gold(t)
	h.start(1, disk.Path, 0, "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	shrinks := blank(t, disk.Size)
	h.start(2, shrinks, 0, "too-small")
	h.start(4, blank(t, disk.Size), 0, "good")
	h.startMachine(&failing{sim.Workstation{Addresses: []hwaddr.Address{address(5)}, Disks: []string{blank(t, disk.Size)}, Interface: "lo"}}, "bad-disk")
	require.NoError(t, os.Truncate(shrinks, 20*golddisk.MiB), "another disk than the one that was seen")

	d := h.deliver(api.NewDelivery{Image: "garden-desk@1", To: []string{"too-small", "good", "bad-disk"}})
	assert.EqualValues(t, "finished", d.State)
	receipts := h.receipts(d.ID)
	v, err := h.client.Version(t.Context(), "garden-desk@1")
	require.NoError(t, err)
	for name, want := range map[string]string{
		"too-small": fmt.Sprintf("it has %d bytes and needs %d", 20*golddisk.MiB, v.NeedBytes),
		"bad-disk":  "the disk is on fire",
	} {
		assert.EqualValues(t, "failed", receipts[name].Outcome, name)
		assert.False(t, receipts[name].Verified)
		assert.Contains(t, receipts[name].Reason, want)
	}
	assert.EqualValues(t, "delivered", receipts["good"].Outcome)
}

// failing is a workstation whose disk takes some writes and then no more.
type failing struct{ sim.Workstation }

func (f *failing) OpenDisk(i int) (agent.Disk, error) {
	d, err := f.Workstation.OpenDisk(i)
	b := &burning{Disk: d}
	b.left.Store(10)
	return b, err
}

type burning struct {
	agent.Disk
	left atomic.Int64
}

func (b *burning) WriteAt(p []byte, off int64) (int, error) {
	if b.left.Add(-1) < 0 {
		return 0, errors.New("the disk is on fire")
	}
	return b.Disk.WriteAt(p, off)
}

func TestWithoutAnyMulticastEverythingIsMended(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	disk := gold(t)
	h.start(1, disk.Path, 0, "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	target := blank(t, disk.Size)
	h.start(2, target, 0.9999999, "deaf")
	d := h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"deaf"}})
	r := h.receipts(d.ID)["deaf"]
	assert.EqualValues(t, "delivered", r.Outcome, r.Reason)
	assert.Zero(t, r.Multicast)
	assert.Positive(t, r.Unicast)
	assert.NoError(t, disk.On(target).Check(t.Context()))
}

func TestTheAgentWaitsForAServiceThatIsAway(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	h := open(t, data, "127.0.0.1:0")
	listen := strings.TrimPrefix(h.url, "https://")
	disk := gold(t)
	h.start(1, disk.Path, 0, "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)

	t.Log("# the service goes away and comes back with another pass for everyone")
	h.stop()
	back := open(t, data, listen)
	require.NoError(t, disk.AddFile(t.Context(), "written-meanwhile", []byte("new label")))
	e := back.capture("desk-gold", "garden-desk")
	assert.EqualValues(t, "done", e.State, e.Error)
	assert.Equal(t, 2, e.Version)
	v, err := back.client.Version(t.Context(), "garden-desk@2")
	require.NoError(t, err)
	assert.LessOrEqual(t, v.NewSlabs, 6, "just what changed was stored")
	assert.Positive(t, v.NewSlabs)
}

// slow is a delivery that takes long enough to be interfered with.
func slow(t *testing.T, h *house, to ...string) api.Delivery {
	t.Helper()
	d, err := h.client.Deliver(t.Context(), api.NewDelivery{Image: "garden-desk", To: to, Rate: 4_000_000})
	require.NoError(t, err)
	h.eventually(func() bool {
		now, err := h.client.Delivery(t.Context(), d.ID)
		return err == nil && now.State == "sending" && len(now.Members) > 0 && now.Members[0].Multicast > 0
	})
	return d
}

func TestAStoppedDeliveryLeavesNoBootableDiskAndTrueReceipts(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	disk := gold(t)
	h.start(1, disk.Path, 0, "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	target := blank(t, disk.Size)
	h.start(2, target, 0, "herb-01")
	require.EqualValues(t, "finished", h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}}).State)

	d := slow(t, h, "herb-01")
	_, err := h.client.StopDelivery(t.Context(), d.ID)
	require.NoError(t, err)
	h.eventually(func() bool {
		now, err := h.client.Delivery(t.Context(), d.ID)
		return err == nil && now.State == "stopped"
	})
	r := h.receipts(d.ID)["herb-01"]
	assert.EqualValues(t, "stopped", r.Outcome)
	assert.Equal(t, "stopped by the administrator", r.Reason)
	assert.False(t, r.Verified)
	f, err := os.Open(target)
	require.NoError(t, err)
	defer f.Close()
	mark, err := unfinished.ReadMark(f)
	require.NoError(t, err)
	assert.NotNil(t, mark, "the disk says that it is unfinished, and has no table")

	t.Log("# and the workstation is there for the next one")
	assert.EqualValues(t, "delivered", h.receipts(h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}}).ID)["herb-01"].Outcome)
}

func TestAServiceThatEndsInADeliveryGoesOnWithIt(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	h := open(t, data, "127.0.0.1:0")
	listen := strings.TrimPrefix(h.url, "https://")
	disk := gold(t)
	h.start(1, disk.Path, 0, "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	target := blank(t, disk.Size)
	h.start(2, target, 0, "herb-01")
	running := slow(t, h, "herb-01")
	off := &sim.Workstation{Addresses: []hwaddr.Address{address(3)}, Disks: []string{blank(t, disk.Size)}, Interface: "lo"}
	h.startMachine(off, "herb-02")()
	gathering, err := h.client.Deliver(t.Context(), api.NewDelivery{Image: "garden-desk", To: []string{"herb-02"}})
	require.NoError(t, err)
	h.stop()

	back := open(t, data, listen)
	r := back.receipts(running.ID)["herb-01"]
	back.eventually(func() bool { r = back.receipts(running.ID)["herb-01"]; return r.Outcome != "" })
	assert.EqualValues(t, "delivered", r.Outcome, r.Reason)
	assert.NoError(t, disk.On(target).Check(t.Context()))
	done, err := back.client.Delivery(t.Context(), running.ID)
	require.NoError(t, err)
	require.NotEmpty(t, done.Changes)
	assert.Equal(t, "goes on after a restart", done.Changes[0].What)

	t.Log("# what was only gathering goes on when its workstation is switched on")
	back.startMachine(off, "")
	back.eventually(func() bool { return back.receipts(gathering.ID)["herb-02"].Outcome == "delivered" })
}

func TestAnAgentDoesOnlyWhatItWasAsked(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	nobody := h.client.WithToken("")
	checkIn := func(n int) *apiclient.Client {
		in, err := nobody.CheckIn(t.Context(), api.CheckIn{Boot: "boot", Addresses: []string{address(n).String()}, Inventory: api.Inventory{Disks: []api.Disk{}, Cards: []api.Card{}}})
		require.NoError(t, err)
		return nobody.WithToken(in.Pass)
	}
	one, two := checkIn(1), checkIn(2)
	_, err := h.client.Admit(t.Context(), address(1).String(), api.Admission{Name: "herb-01"})
	require.NoError(t, err)
	e, err := h.client.Capture(t.Context(), api.NewCapture{Workstation: "herb-01", Image: "garden-desk"})
	require.NoError(t, err)
	plain := []byte("a slab")
	d, frame := slabstore.Sum(plain), slabstore.Compress(nil, plain)

	assert.ErrorContains(t, one.PutSlab(t.Context(), e.ID, d, frame), "is waiting", "it has not asked for its errand")
	now, err := one.Standing(t.Context())
	require.NoError(t, err)
	require.Equal(t, e.ID, now.Errand.ID)
	assert.ErrorContains(t, two.PutSlab(t.Context(), e.ID, d, frame), "newcomer", "that has no part in anything")
	_, err = h.client.Admit(t.Context(), address(2).String(), api.Admission{Name: "herb-02"})
	require.NoError(t, err)
	assert.ErrorContains(t, two.PutSlab(t.Context(), e.ID, d, frame), "not a capture of this workstation")
	assert.ErrorContains(t, one.PutSlab(t.Context(), e.ID, slabstore.Sum(nil), frame), "digest does not match")
	_, err = one.Commit(t.Context(), e.ID, []byte("{}"))
	assert.ErrorContains(t, err, "manifest is damaged")
	_, err = two.DeliveryManifest(t.Context(), 1)
	assert.Error(t, err)
	_, err = one.WithToken(h.token).Standing(t.Context())
	assert.True(t, apiclient.IsUnauthorized(err), "the key of last resort is not a pass")
	_, err = h.client.WithToken("").Workstations(t.Context(), apiclient.List{})
	assert.True(t, apiclient.IsUnauthorized(err))

	t.Log("# a second check-in takes the first one's pass away")
	checkIn(1)
	_, err = one.Standing(t.Context())
	assert.True(t, apiclient.IsUnauthorized(err))
}

func TestEventsTellOfANewcomer(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	seen := make(chan string, 100)
	go h.client.Events(ctx, 0, func(kind string, data []byte) error { seen <- kind; return nil })
	require.Equal(t, "hello", <-seen)
	h.start(1, blank(t, golddisk.MiB), 0, "herb-01")
	require.Equal(t, "workstation", <-seen)
}

func TestListenerErrorsAreNotHidden(t *testing.T) {
	t.Parallel()
	s, err := service.Open(t.Context(), service.Config{Data: t.TempDir()})
	require.NoError(t, err)
	defer s.Close()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	require.NoError(t, listener.Close())
	assert.Error(t, s.Serve(t.Context(), listener))
}
