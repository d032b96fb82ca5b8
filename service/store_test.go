package service_test

import (
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/hwaddr"
	"jugate/core/slabstore"
	"jugate/demo/golddisk"
	"jugate/sim"
)

// two has a house with two versions of garden-desk, and the disk they are from.
func two(t *testing.T) (*house, *golddisk.Disk) {
	t.Helper()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	disk := gold(t)
	h.start(1, disk.Path, 0, "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	require.NoError(t, disk.AddFile(t.Context(), "added-later", []byte("one more label")))
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	h.leaned("garden-desk@2")
	return h, disk
}

// leaned waits until a version was held against the one before.
func (h *house) leaned(ref string) (v api.Version) {
	h.t.Helper()
	h.eventually(func() bool {
		var err error
		v, err = h.client.Version(h.t.Context(), ref)
		require.NoError(h.t, err)
		return v.Leaned != nil
	})
	return v
}

// slabs counts the files of the store.
func (h *house) slabs() int {
	names, err := filepath.Glob(filepath.Join(h.data, "slabs", "??", "*"))
	require.NoError(h.t, err)
	return len(names)
}

func TestVersionsAreComparedNotedRetiredAndRenamed(t *testing.T) {
	t.Parallel()
	h, _ := two(t)
	ctx := t.Context()
	d, err := h.client.CompareVersions(ctx, "garden-desk@1", "garden-desk@2")
	require.NoError(t, err)
	assert.True(t, d.Different)
	assert.True(t, d.SameTable)
	require.Len(t, d.Areas, 3)
	assert.Zero(t, d.Areas[1].Changed, "nothing was done to the EFI partition")
	assert.Positive(t, d.Areas[2].Changed)
	assert.Greater(t, d.Areas[2].Same, d.Areas[2].Changed/4)
	d, err = h.client.CompareVersions(ctx, "garden-desk@1", "garden-desk@1")
	require.NoError(t, err)
	assert.False(t, d.Different)

	v, err := h.client.SetNote(ctx, "garden-desk@1", "first of the season")
	require.NoError(t, err)
	assert.Equal(t, "first of the season", v.Note)

	v, err = h.client.RetireVersion(ctx, "garden-desk@1")
	require.NoError(t, err)
	assert.EqualValues(t, "retired", v.State)
	_, err = h.client.Deliver(ctx, api.NewDelivery{Image: "garden-desk@1", To: []string{"desk-gold"}})
	assert.ErrorContains(t, err, "garden-desk@1 is retired")
	v, err = h.client.ReadmitVersion(ctx, "garden-desk@1")
	require.NoError(t, err)
	assert.EqualValues(t, "in use", v.State)

	page, err := h.client.RenameImage(ctx, "garden-desk", "lab-desk")
	require.NoError(t, err)
	assert.Len(t, page.Items, 2)
	_, err = h.client.Version(ctx, "garden-desk")
	assert.True(t, apiclient.IsNotFound(err))
	v, err = h.client.Version(ctx, "lab-desk@1")
	require.NoError(t, err, "its files moved along")
	assert.Len(t, v.Areas, 3)
	_, err = h.client.RenameImage(ctx, "lab-desk", "no spaces")
	assert.Error(t, err)
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	_, err = h.client.RenameImage(ctx, "lab-desk", "garden-desk")
	assert.ErrorContains(t, err, "there is an image garden-desk already")
}

func TestVerifyFindsWhatRotted(t *testing.T) {
	t.Parallel()
	h, _ := two(t)
	v, err := h.client.VerifyVersion(t.Context(), "garden-desk@2")
	require.NoError(t, err)
	assert.True(t, v.Sound)
	assert.Equal(t, 2, v.Version)
	assert.Positive(t, v.Slabs)

	names, err := filepath.Glob(filepath.Join(h.data, "slabs", "??", "*.zst"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(names[0], slabstore.Compress(nil, []byte("what the disk made of it")), 0o640))
	require.NoError(t, os.Remove(names[1]))
	faulty := 0
	for _, ref := range []string{"garden-desk@1", "garden-desk@2"} {
		v, err = h.client.VerifyVersion(t.Context(), ref)
		require.NoError(t, err)
		faulty = max(faulty, v.Faulty)
		for _, f := range v.Faults {
			if path := filepath.Join(h.data, "slabs", f.Digest[:2], f.Digest+".zst"); path != names[0] && path != names[1] {
				assert.Contains(t, f.What, "leans on another slab")
			}
		}
	}
	assert.Positive(t, faulty)
}

func TestPruneRemovesWhatNobodyNeeds(t *testing.T) {
	t.Parallel()
	h, disk := two(t)
	ctx := t.Context()
	all := h.slabs()
	p, err := h.client.Prune(ctx, false)
	require.NoError(t, err)
	assert.Zero(t, p.Slabs, "every slab is needed")
	assert.Equal(t, all, h.slabs())

	t.Log("# slabs of an import that is under way stay, of one that ended without a version they go")
	open, err := h.client.BeginImport(ctx, api.NewImport{Image: "other"})
	require.NoError(t, err)
	plain := []byte("a slab that no version has yet")
	d := slabstore.Sum(plain)
	missing, err := open.Missing(ctx, []slabstore.Digest{d})
	require.NoError(t, err)
	require.Len(t, missing, 1)
	require.NoError(t, open.Put(ctx, d, slabstore.Compress(nil, plain)))
	p, err = h.client.Prune(ctx, false)
	require.NoError(t, err)
	assert.Zero(t, p.Slabs)
	assert.Equal(t, all+1, h.slabs())

	t.Log("# a retired version gives up what it alone has")
	_, err = h.client.SettleVersion(ctx, "garden-desk@2")
	require.NoError(t, err)
	_, err = h.client.RetireVersion(ctx, "garden-desk@1")
	require.NoError(t, err)
	dry, err := h.client.Prune(ctx, true)
	require.NoError(t, err)
	assert.True(t, dry.DryRun)
	assert.Equal(t, []string{"garden-desk@1"}, dry.Versions)
	assert.Positive(t, dry.Slabs)
	assert.Equal(t, all+1, h.slabs(), "a dry run removes nothing")
	v, err := h.client.Version(ctx, "garden-desk@1")
	require.NoError(t, err)
	assert.EqualValues(t, "retired", v.State)
	p, err = h.client.Prune(ctx, false)
	require.NoError(t, err)
	assert.Equal(t, dry.Slabs, p.Slabs)
	assert.Equal(t, dry.Bytes, p.Bytes)
	assert.Equal(t, all+1-p.Slabs, h.slabs())
	_, err = h.client.ReadmitVersion(ctx, "garden-desk@1")
	assert.ErrorContains(t, err, "was pruned")

	t.Log("# what is in use is whole, and can be delivered")
	sound, err := h.client.VerifyVersion(ctx, "garden-desk@2")
	require.NoError(t, err)
	assert.True(t, sound.Sound)
	h.start(10, blank(t, disk.Size), 0, "herb-01")
	done := h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}})
	assert.EqualValues(t, "delivered", h.receipts(done.ID)["herb-01"].Outcome)

	t.Log("# after a restart nobody counts on the import any more")
	h.stop()
	h = openAgain(t, h)
	p, err = h.client.Prune(ctx, false)
	require.NoError(t, err)
	assert.Equal(t, 1, p.Slabs)
}

// What a new version brings is stored as what differs from the one before, and whatever goes
// first, the other one is whole.
func TestAVersionIsToldByTheOneBefore(t *testing.T) {
	t.Parallel()
	for name, first := range map[string]string{"the older one goes": "garden-desk@1", "the newer one goes": "garden-desk@2"} {
		t.Run(name, func(t *testing.T) {
			h, disk := two(t)
			ctx := t.Context()
			v := h.leaned("garden-desk@2")
			require.Positive(t, v.Leaning)
			assert.Less(t, v.StoredBytes, int64(100_000), "a label was added")
			for _, ref := range []string{"garden-desk@1", "garden-desk@2"} {
				sound, err := h.client.VerifyVersion(ctx, ref)
				require.NoError(t, err)
				assert.True(t, sound.Sound, "%+v", sound)
			}

			_, err := h.client.RetireVersion(ctx, first)
			require.NoError(t, err)
			dry, err := h.client.Prune(ctx, true)
			require.NoError(t, err)
			p, err := h.client.Prune(ctx, false)
			require.NoError(t, err)
			dry.DryRun = false
			assert.Equal(t, dry, p)
			if first == "garden-desk@1" {
				assert.Positive(t, p.LeanedOn, "the newer one leans on them")
				t.Log("# it stands alone, and the rest goes")
				settled, err := h.client.SettleVersion(ctx, "garden-desk@2")
				require.NoError(t, err)
				assert.Equal(t, v.Leaning, settled.Slabs)
				assert.Equal(t, v.StoredBytes+settled.Bytes, settled.Version.StoredBytes)
				p, err = h.client.Prune(ctx, false)
				require.NoError(t, err)
				assert.Positive(t, p.Slabs)
				assert.Zero(t, p.LeanedOn)
				_, err = h.client.SettleVersion(ctx, "garden-desk@1")
				assert.ErrorContains(t, err, "garden-desk@1 was pruned")
			} else {
				assert.Equal(t, v.Leaning, p.Slabs)
				assert.Zero(t, p.LeanedOn)
			}
			left := map[string]string{"garden-desk@1": "garden-desk@2", "garden-desk@2": "garden-desk@1"}[first]
			h.start(10, blank(t, disk.Size), 0.02, "herb-01")
			done := h.deliver(api.NewDelivery{Image: left, To: []string{"herb-01"}})
			assert.EqualValues(t, "delivered", h.receipts(done.ID)["herb-01"].Outcome)
		})
	}
}

// A version that stands alone is left so, also by what others bring later and after a loss of
// the records.
func TestASettledVersionStaysSo(t *testing.T) {
	t.Parallel()
	h, disk := two(t)
	ctx := t.Context()
	settled, err := h.client.SettleVersion(ctx, "garden-desk@2")
	require.NoError(t, err)
	require.Positive(t, settled.Slabs)
	h.stop()
	for _, name := range []string{"jugate.db", "jugate.db-wal", "jugate.db-shm"} {
		os.Remove(filepath.Join(h.data, name))
	}
	h = openAgain(t, h)
	_, err = h.client.Rescan(ctx)
	require.NoError(t, err)
	v, err := h.client.Version(ctx, "garden-desk@2")
	require.NoError(t, err)
	assert.NotNil(t, v.Settled)
	assert.Zero(t, v.Leaning)

	t.Log("# the same disk under another name, and its next version")
	h.start(2, disk.Path, 0, "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "lab-desk").State)
	require.NoError(t, disk.AddFile(ctx, "added-today", []byte("and one more")))
	require.EqualValues(t, "done", h.capture("desk-gold", "lab-desk").State)
	assert.Positive(t, h.leaned("lab-desk@2").Leaning)
	v, err = h.client.Version(ctx, "garden-desk@2")
	require.NoError(t, err)
	assert.Zero(t, v.Leaning)
}

func openAgain(t *testing.T, h *house) *house {
	t.Helper()
	return open(t, h.data, "127.0.0.1:0")
}

// Captures and prunes at the same time: whatever was committed is whole.
func TestPruneBesideCaptures(t *testing.T) {
	t.Parallel()
	h, disk := two(t)
	done := make(chan struct{})
	pruned := make(chan error, 1)
	go func() {
		var last error
		for {
			select {
			case <-done:
				pruned <- last
				return
			default:
				if _, err := h.client.Prune(t.Context(), false); err != nil {
					last = err
				}
			}
		}
	}()
	for i := range 4 {
		require.NoError(t, disk.AddFile(t.Context(), "more-"+string(rune('a'+i)), make([]byte, 300_000)))
		e := h.capture("desk-gold", "garden-desk")
		require.EqualValues(t, "done", e.State, e.Error)
		_, err := h.client.RetireVersion(t.Context(), "garden-desk@"+string(rune('1'+i)))
		require.NoError(t, err)
	}
	close(done)
	require.NoError(t, <-pruned)
	v, err := h.client.VerifyVersion(t.Context(), "garden-desk")
	require.NoError(t, err)
	assert.True(t, v.Sound, "%+v", v)
}

func TestARescanBringsVersionsBack(t *testing.T) {
	t.Parallel()
	h, disk := two(t)
	before, err := h.client.Version(t.Context(), "garden-desk@2")
	require.NoError(t, err)
	h.stop()
	for _, name := range []string{"jugate.db", "jugate.db-wal", "jugate.db-shm"} {
		os.Remove(filepath.Join(h.data, name))
	}
	require.NoError(t, os.MkdirAll(filepath.Join(h.data, "images", "broken", "1"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(h.data, "images", "broken", "1", "manifest.json"), []byte("{}"), 0o644))
	h = openAgain(t, h)
	_, err = h.client.Version(t.Context(), "garden-desk@2")
	require.True(t, apiclient.IsNotFound(err))
	r, err := h.client.Rescan(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{"garden-desk@1", "garden-desk@2"}, r.Versions)
	require.Len(t, r.Broken, 1)
	assert.Contains(t, r.Broken[0], "broken@1")
	after, err := h.client.Version(t.Context(), "garden-desk@2")
	require.NoError(t, err)
	assert.Equal(t, before.Digest, after.Digest)
	assert.Equal(t, before.Workstation, after.Workstation)
	r, err = h.client.Rescan(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 2, r.Known)

	h.start(10, blank(t, disk.Size), 0, "herb-01")
	done := h.deliver(api.NewDelivery{Image: "garden-desk@2", To: []string{"herb-01"}})
	assert.EqualValues(t, "delivered", h.receipts(done.ID)["herb-01"].Outcome)
}

func twoDisks(n int, disks ...string) *sim.Workstation {
	return &sim.Workstation{Addresses: []hwaddr.Address{address(n)}, Disks: disks, Interface: "lo"}
}

// What speaks against a disk stops its capture; the reason given for going on, and
// what could not be read, stay with the version and with every receipt.
func TestACaptureInSpiteOfItAll(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	disk := gold(t)
	require.NoError(t, disk.AddFolder(t.Context(), "var"))
	require.NoError(t, disk.AddFolder(t.Context(), "var/lib"))
	require.NoError(t, disk.AddFile(t.Context(), "var/lib/agent-id", []byte("7f3a")))
	h.start(1, disk.Path, 0, "desk-gold")
	e := h.capture("desk-gold", "garden-desk")
	assert.EqualValues(t, "failed", e.State)
	assert.Contains(t, e.Error, "an agent's identity is on it (var/lib/agent-id)")

	c, err := h.client.Capture(t.Context(), api.NewCapture{Workstation: "desk-gold", Image: "garden-desk", CaptureOptions: api.CaptureOptions{Despite: "for the seed bank alone", Disk: "size:1MB-1GB"}})
	require.NoError(t, err)
	h.eventually(func() bool {
		c, err = h.client.Errand(t.Context(), c.ID)
		return err == nil && c.Ended != nil
	})
	require.EqualValues(t, "done", c.State, c.Error)
	v, err := h.client.Version(t.Context(), "garden-desk")
	require.NoError(t, err)
	assert.Equal(t, "for the seed bank alone", v.Despite)
	codes := map[string]string{}
	for _, f := range v.Findings {
		codes[f.Code] = string(f.Severity)
	}
	assert.Equal(t, "blocking", codes["agent-identity"])

	_, err = h.client.Capture(t.Context(), api.NewCapture{Workstation: "desk-gold", Image: "garden-desk", CaptureOptions: api.CaptureOptions{Disk: "sda"}})
	assert.ErrorContains(t, err, "chooses no disk")
	_, err = h.client.Deliver(t.Context(), api.NewDelivery{Image: "garden-desk", To: []string{"desk-gold"}, RestoreOptions: api.RestoreOptions{Grow: "9"}})
	assert.ErrorContains(t, err, "no partition 9 that holds anything")

	t.Log("# one of two disks is chosen by its size, and a partition of one's choice grows")
	small, large := blank(t, 1<<20), blank(t, disk.Size+40*golddisk.MiB)
	h.startMachine(twoDisks(11, small, large), "herb-01")
	d := h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}, RestoreOptions: api.RestoreOptions{Grow: "1", Disk: "size:10MB-"}})
	require.EqualValues(t, "delivered", h.receipts(d.ID)["herb-01"].Outcome, h.receipts(d.ID)["herb-01"].Reason)
	got := disk.On(large)
	got.RootStart += 40 * golddisk.MiB
	assert.NoError(t, got.VerifyTable(t.Context()))
	files, err := got.Files(t.Context())
	require.NoError(t, err)
	want, err := disk.Files(t.Context())
	require.NoError(t, err)
	assert.Equal(t, want, files, "the root volume moved whole")
}

// onWire is what a delivery has put on the wire, and what one workstation took of it.
func (h *house) onWire(d api.Delivery) (int64, api.Receipt) {
	h.t.Helper()
	d, err := h.client.Delivery(h.t.Context(), d.ID)
	require.NoError(h.t, err)
	r := h.receipts(d.ID)["herb-01"]
	require.EqualValues(h.t, "delivered", r.Outcome, r.Reason)
	require.True(h.t, r.Verified)
	return d.WireBytes, r
}

// A room that has the last version gets what differs, whatever the loss; one workstation that has
// something else at these places gets it whole.
func TestTheNextVersionCostsWhatChanged(t *testing.T) {
	for name, loss := range map[string]float64{"without loss": 0, "with loss": 0.05} {
		t.Run(name, func(t *testing.T) {
			h := open(t, t.TempDir(), "127.0.0.1:0")
			ctx := t.Context()
			disk := gold(t)
			require.NoError(t, disk.AddFile(ctx, "specimens", noise(6<<20)))
			h.start(1, disk.Path, 0, "desk-gold")
			require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
			room := blank(t, disk.Size)
			h.start(10, room, loss, "herb-01")
			whole, _ := h.onWire(h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}}))
			require.Greater(t, whole, int64(6<<20))

			const changed = 100_000
			require.NoError(t, disk.AddFile(ctx, "labels", noise(changed)))
			require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
			h.leaned("garden-desk@2")
			next, r := h.onWire(h.deliver(api.NewDelivery{Image: "garden-desk@2", To: []string{"herb-01"}, Reuse: true}))
			assert.Less(t, r.Multicast+r.Unicast, int64(changed*3/2), "of %d", whole)
			assert.Less(t, next, int64(changed*2))

			t.Log("# back again, which no delta is stored for")
			back, _ := h.onWire(h.deliver(api.NewDelivery{Image: "garden-desk@1", To: []string{"herb-01"}, Reuse: true}))
			assert.Less(t, back, int64(changed*2))

			t.Log("# somebody has worked at the machine meanwhile")
			f, err := os.OpenFile(room, os.O_RDWR, 0)
			require.NoError(t, err)
			v, err := h.client.Version(ctx, "garden-desk@1")
			require.NoError(t, err)
			root := v.Areas[len(v.Areas)-1]
			for at := root.Start; at < root.Start+root.Size; at += 512 << 10 {
				_, err = f.WriteAt([]byte("scribbled"), at)
				require.NoError(t, err)
			}
			require.NoError(t, f.Close())
			h.onWire(h.deliver(api.NewDelivery{Image: "garden-desk@2", To: []string{"herb-01"}, Reuse: true}))
		})
	}
}

func noise(n int) []byte {
	b := make([]byte, n)
	rand.NewChaCha8([32]byte{byte(n), byte(n >> 8)}).Read(b)
	return b
}
