package service_test

import (
	"archive/tar"
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/apiclient"
)

// oldFolder unpacks the data folder that an earlier version wrote (testdata/README.md).
func oldFolder(t *testing.T, name string) string {
	t.Helper()
	dir := t.TempDir()
	f, err := os.Open(filepath.Join("testdata", name))
	require.NoError(t, err)
	defer f.Close()
	plain, err := zstd.NewReader(f)
	require.NoError(t, err)
	defer plain.Close()
	root, err := os.OpenRoot(dir)
	require.NoError(t, err)
	defer root.Close()
	for r := tar.NewReader(plain); ; {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			return dir
		}
		require.NoError(t, err)
		name := filepath.Clean(h.Name)
		if h.FileInfo().IsDir() {
			require.NoError(t, root.MkdirAll(name, 0o755))
			continue
		}
		content, err := io.ReadAll(r)
		require.NoError(t, err)
		require.NoError(t, root.WriteFile(name, content, h.FileInfo().Mode().Perm()))
	}
}

// oldFolders is when they were written.
var oldFolders = time.Date(2026, 11, 26, 23, 30, 0, 0, time.UTC)

func TestAFolderOfAnEarlierVersionGoesOn(t *testing.T) {
	t.Parallel()
	data := oldFolder(t, "folder-0.1.0.tar.zst")
	require.NoError(t, os.Mkdir(filepath.Join(data, "drivers123"), 0o755)) // as a kill leaves it
	h := openIn(t, data, oldFolders)
	ctx := t.Context()
	assert.NoDirExists(t, filepath.Join(data, "drivers123"))

	t.Log("# the roster, with everybody's standing and address")
	want := map[string]string{"desk-gold": "admitted", "herb-01": "admitted", "herb-02": "admitted", "herb-03": "retired", "herb-04": "expected"}
	page, err := h.client.Workstations(ctx, apiclient.List{})
	require.NoError(t, err)
	assert.Equal(t, 7, page.Total)
	for _, w := range page.Items {
		if w.Name != "" {
			assert.EqualValues(t, want[w.Name], w.State, w.Name)
		}
		assert.Len(t, w.Addresses, 1)
		assert.Empty(t, w.Proposed)
	}

	t.Log("# the versions, with what was said of them; every slab is sound")
	one, err := h.client.Version(ctx, "garden-desk@1")
	require.NoError(t, err)
	assert.EqualValues(t, "retired", one.State)
	two, err := h.client.Version(ctx, "garden-desk@2")
	require.NoError(t, err)
	assert.Equal(t, "with labels", two.Note)
	for _, ref := range []string{"garden-desk@1", "garden-desk@2", "kiosk@1"} {
		check, err := h.client.VerifyVersion(ctx, ref)
		require.NoError(t, err)
		assert.True(t, check.Sound, ref)
	}

	t.Log("# the receipts, and their chain")
	chain, err := h.client.CheckLog(ctx)
	require.NoError(t, err)
	assert.True(t, chain.Sound, chain.Detail)
	assert.Equal(t, 3, chain.Receipts)
	lines, err := h.client.Lines(ctx, apiclient.List{Filter: map[string]string{"operation": "move-chains"}})
	require.NoError(t, err)
	require.Len(t, lines.Items, 1, "that they were moved is on record")
	assert.Equal(t, true, lines.Items[0].Details.(map[string]any)["sound"])
	assert.EqualValues(t, 3, lines.Items[0].Details.(map[string]any)["receipts"])
	keys, err := h.client.MediaKeys(ctx)
	require.NoError(t, err)
	require.Len(t, keys.Items, 1)
	assert.Equal(t, "the blue stick", keys.Items[0].Note)
	access, err := h.client.Recipients(ctx, "kiosk")
	require.NoError(t, err)
	assert.Equal(t, []string{"herbarium"}, access.Groups)

	t.Log("# what waited for a workstation goes on when that is switched on")
	running, err := h.client.Deliveries(ctx, apiclient.List{Filter: map[string]string{"open": "true"}})
	require.NoError(t, err)
	require.Len(t, running.Items, 1)
	h.start(7, blank(t, two.DiskBytes), 0, "")
	h.eventually(func() bool { return h.receipts(running.Items[0].ID)["herb-04"].Outcome != "" })
	assert.EqualValues(t, "delivered", h.receipts(running.Items[0].ID)["herb-04"].Outcome)

	t.Log("# and in the records nobody else can read any more")
	info, err := os.Stat(filepath.Join(data, "jugate.db"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	t.Log("# new records take everything from beside the versions")
	h.stop()
	for _, name := range []string{"jugate.db", "jugate.db-wal", "jugate.db-shm"} {
		os.Remove(filepath.Join(data, name))
	}
	h = openIn(t, data, oldFolders)
	found, err := h.client.Rescan(ctx)
	require.NoError(t, err)
	assert.Len(t, found.Versions, 3, "%v", found.Broken)
	one, err = h.client.Version(ctx, "garden-desk@1")
	require.NoError(t, err)
	assert.EqualValues(t, "retired", one.State, "it is not offered again by a loss of the records")
	two, err = h.client.Version(ctx, "garden-desk@2")
	require.NoError(t, err)
	assert.Equal(t, "with labels", two.Note)
}

func TestPrunedVersionsStayPruned(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	h := openIn(t, data, oldFolders)
	disk := gold(t)
	h.start(1, disk.Path, 0, "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	require.NoError(t, disk.AddFile(t.Context(), "labels", []byte("new label")))
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	_, err := h.client.RetireVersion(t.Context(), "garden-desk@1")
	require.NoError(t, err)
	_, err = h.client.Prune(t.Context(), false)
	require.NoError(t, err)
	h.stop()
	require.NoError(t, os.Remove(filepath.Join(data, "jugate.db")))
	h = openIn(t, data, oldFolders)
	unrecorded := func() bool {
		all, err := h.client.Diagnose(t.Context(), "")
		require.NoError(t, err)
		return slices.ContainsFunc(all.Items, func(d api.Diagnosis) bool {
			return strings.Contains(d.What, "the records do not know 2 versions in the data folder, garden-desk@1 among them")
		})
	}
	assert.True(t, unrecorded())
	_, err = h.client.Rescan(t.Context())
	require.NoError(t, err)
	assert.False(t, unrecorded())
	v, err := h.client.Version(t.Context(), "garden-desk@1")
	require.NoError(t, err)
	assert.EqualValues(t, "pruned", v.State, "its slabs are gone, and nobody must try to deliver it")
	_, err = h.client.Deliver(t.Context(), api.NewDelivery{Image: "garden-desk@1", To: []string{"desk-gold"}})
	assert.Error(t, err)
}

func TestADamagedSlabHealsWithTheNextCapture(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	h := openIn(t, data, oldFolders)
	disk := gold(t)
	h.start(1, disk.Path, 0, "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	slabs, err := filepath.Glob(filepath.Join(data, "slabs", "??", "*.zst"))
	require.NoError(t, err)
	require.NotEmpty(t, slabs)
	require.NoError(t, os.WriteFile(slabs[0], []byte("rubbish"), 0o644))

	t.Log("# a delivery that meets it fails with the reason, and sets it aside")
	h.start(2, blank(t, disk.Size), 0, "herb-01")
	d := h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}})
	r := h.receipts(d.ID)["herb-01"]
	assert.EqualValues(t, "failed", r.Outcome)
	assert.Contains(t, r.Reason, "damaged slab")
	check, err := h.client.VerifyVersion(t.Context(), "garden-desk")
	require.NoError(t, err)
	assert.False(t, check.Sound)

	t.Log("# the next capture of the same disk brings it again")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	check, err = h.client.VerifyVersion(t.Context(), "garden-desk@1")
	require.NoError(t, err)
	assert.True(t, check.Sound, "%+v", check.Faults)
	assert.EqualValues(t, "delivered", h.receipts(h.deliver(api.NewDelivery{Image: "garden-desk@1", To: []string{"herb-01"}}).ID)["herb-01"].Outcome)
}
