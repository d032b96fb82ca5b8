package service_test

import (
	"bytes"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/bucket/buckettest"
	"jugate/core/objects"
	"jugate/service"
)

func nobodyWatches(int, int) {}

// A service is copied into an object store while it works, its disk is lost, and another machine goes on
// from the copy.
func TestAServiceIsRestoredFromABackup(t *testing.T) {
	t.Parallel()
	server := buckettest.Start(t, t.TempDir())
	h, disk := two(t)
	ctx := t.Context()
	h.leaned("garden-desk@2")
	h.addStore("big", server)
	_, err := h.client.MakeBackup(ctx, api.NewBackup{Store: "folder"})
	assert.ErrorContains(t, err, "cannot go into the data folder")

	first, err := h.client.MakeBackup(ctx, api.NewBackup{Store: "big"})
	require.NoError(t, err)
	assert.Equal(t, []string{"garden-desk@1", "garden-desk@2"}, first.Listed)
	h.start(10, blank(t, disk.Size), 0, "herb-01")
	done := h.deliver(api.NewDelivery{Image: "garden-desk@2", To: []string{"herb-01"}})
	require.EqualValues(t, "delivered", h.receipts(done.ID)["herb-01"].Outcome)
	second, err := h.client.MakeBackup(ctx, api.NewBackup{Store: "big", Slabs: true})
	require.NoError(t, err)
	assert.Empty(t, second.Listed)
	assert.Less(t, second.Sent, second.Bytes, "what the first had is not sent again")
	check, err := h.client.CheckBackup(ctx, "big", "")
	require.NoError(t, err)
	assert.True(t, check.Sound, check.Faults)
	assert.Equal(t, second.ID, check.Backup.ID)

	t.Log("# what a backup needs stays in the store, whatever becomes of the version")
	_, err = h.client.RetireVersion(ctx, "garden-desk@2")
	require.NoError(t, err)
	_, err = h.client.Prune(ctx, false)
	require.NoError(t, err)
	check, err = h.client.CheckBackup(ctx, "big", second.ID)
	require.NoError(t, err)
	assert.True(t, check.Sound, check.Faults)

	t.Log("# the older one has no slabs, and tells so; the newer one brings all back")
	old := filepath.Join(t.TempDir(), "old")
	r, err := service.Restore(ctx, server.Open(nil), first.ID, old, time.Now(), nobodyWatches)
	require.NoError(t, err)
	assert.Len(t, r.Missing, 2)
	assert.Equal(t, []string{second.ID}, r.Newer)
	assert.Zero(t, r.Receipts)
	data := filepath.Join(t.TempDir(), "jugate")
	r, err = service.Restore(ctx, server.Open(nil), "", data, time.Now(), nobodyWatches)
	require.NoError(t, err)
	assert.Empty(t, r.Missing)
	assert.Equal(t, 1, r.Receipts)
	assert.Positive(t, r.Slabs)
	_, err = service.Restore(ctx, server.Open(nil), "", data, time.Now(), nobodyWatches)
	assert.ErrorContains(t, err, "is not empty")
	h.stop()

	again := open(t, data, "127.0.0.1:0")
	for _, ref := range []string{"garden-desk@1", "garden-desk@2"} {
		sound, err := again.client.VerifyVersion(ctx, ref)
		require.NoError(t, err)
		assert.True(t, sound.Sound, "%+v", sound)
	}
	log, err := again.client.CheckLog(ctx)
	require.NoError(t, err)
	assert.True(t, log.Sound, log.Detail)
	stores, err := again.client.Stores(ctx)
	require.NoError(t, err)
	assert.Len(t, stores.Items, 2, "its secret is there, sealed by the key that came back")
	check, err = again.client.CheckBackup(ctx, "big", "")
	require.NoError(t, err)
	assert.True(t, check.Sound, check.Faults)
}

// The same as one file, which can be cut off, changed, or of something else.
func TestABackupAsOneFile(t *testing.T) {
	t.Parallel()
	h, _ := two(t)
	ctx := t.Context()
	body, err := h.client.WriteBackup(ctx, true)
	require.NoError(t, err)
	whole, err := io.ReadAll(body)
	require.NoError(t, err)
	restore := func(raw []byte) (service.Restored, string, error) {
		dir := filepath.Join(t.TempDir(), "jugate")
		from, err := objects.OpenTar(bytes.NewReader(raw), int64(len(raw)))
		if err != nil {
			return service.Restored{}, dir, err
		}
		r, err := service.Restore(ctx, from, "", dir, time.Now(), nobodyWatches)
		return r, dir, err
	}
	r, dir, err := restore(whole)
	require.NoError(t, err)
	assert.Empty(t, r.Missing)
	h.stop()
	again := open(t, dir, "127.0.0.1:0")
	sound, err := again.client.VerifyVersion(ctx, "garden-desk@2")
	require.NoError(t, err)
	assert.True(t, sound.Sound)

	for _, cut := range []int{0, 700, len(whole) / 2, len(whole) - 5000} {
		_, dir, err := restore(whole[:cut])
		assert.Error(t, err, cut)
		assert.NoDirExists(t, dir)
	}
	for at := 5000; at < len(whole); at += len(whole) / 40 { // every part of it, and never a folder that is not as it was
		bad := bytes.Clone(whole)
		bad[at] ^= 0x10
		r, dir, err := restore(bad)
		if err != nil {
			continue
		}
		if len(r.Missing) > 0 {
			continue // the slab that was hit is told
		}
		_, err = os.Stat(filepath.Join(dir, "jugate.db"))
		assert.NoError(t, err)
	}
}

// Damage in a store is found by a check, and a backup that is cut off is none.
func TestABackupThatIsDamagedOrCutOff(t *testing.T) {
	t.Parallel()
	shelf := t.TempDir()
	h, _ := two(t)
	ctx := t.Context()
	_, err := h.client.AddStore(ctx, api.NewStore{Name: "shelf", Place: shelf})
	require.NoError(t, err)
	b, err := h.client.MakeBackup(ctx, api.NewBackup{Store: "shelf", Slabs: true})
	require.NoError(t, err)
	files, err := filepath.Glob(filepath.Join(shelf, "backups/files/*"))
	require.NoError(t, err)
	require.NoError(t, os.Truncate(files[0], 3))
	require.NoError(t, os.Remove(files[1]))
	packs, err := filepath.Glob(filepath.Join(shelf, "slabs/*/*"))
	require.NoError(t, err)
	for _, p := range packs {
		require.NoError(t, os.Remove(p))
	}
	check, err := h.client.CheckBackup(ctx, "shelf", b.ID)
	require.NoError(t, err)
	assert.False(t, check.Sound)
	told := strings.Join(check.Faults, "\n")
	for _, version := range []string{"garden-desk@1", "garden-desk@2"} { // which of its files were hit depends on their digests
		assert.Contains(t, told, version)
	}
	assert.GreaterOrEqual(t, len(check.Faults), 4)

	require.NoError(t, os.Remove(filepath.Join(shelf, "backups/lists", b.ID+".json"))) // as if it had been cut off before that
	page, err := h.client.Backups(ctx, "shelf")
	require.NoError(t, err)
	assert.Empty(t, page.Items)
}
