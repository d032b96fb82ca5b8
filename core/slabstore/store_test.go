package slabstore_test

import (
	"bytes"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"jugate/core/slabstore"
)

func TestPutKeepsEachSlabOnce(t *testing.T) {
	store, err := slabstore.Open(t.TempDir())
	require.NoError(t, err)
	plain := bytes.Repeat([]byte("fern "), 1000)
	d, frame := slabstore.Sum(plain), slabstore.Compress(nil, plain)

	_, err = store.Get(d)
	assert.ErrorIs(t, err, slabstore.ErrNotFound)
	added, err := store.Put(d, frame)
	require.NoError(t, err)
	assert.True(t, added)
	added, err = store.Put(d, frame)
	require.NoError(t, err)
	assert.False(t, added)
	require.NoError(t, store.Flush())

	got, err := store.Get(d)
	require.NoError(t, err)
	assert.Equal(t, plain, got)
}

func TestTheStoredFileIsAnOrdinaryZstandardFrame(t *testing.T) {
	dir := t.TempDir()
	store, err := slabstore.Open(dir)
	require.NoError(t, err)
	plain := bytes.Repeat([]byte("moss "), 5000)
	d := slabstore.Sum(plain)
	_, err = store.Put(d, slabstore.Compress(nil, plain))
	require.NoError(t, err)
	out, err := exec.Command("zstd", "-dc", filepath.Join(dir, d.String()[:2], d.String()+".zst")).Output()
	require.NoError(t, err)
	assert.Equal(t, plain, out)
}

func TestPutRefusesWhatIsNotTheSlab(t *testing.T) {
	dir := t.TempDir()
	store, err := slabstore.Open(dir)
	require.NoError(t, err)
	plain := []byte("sedge")
	frame := slabstore.Compress(nil, plain)
	for name, c := range map[string]struct {
		digest slabstore.Digest
		frame  []byte
		want   error
	}{
		"other bytes": {slabstore.Sum([]byte("alder")), frame, slabstore.ErrDigest},
		"no frame":    {slabstore.Sum(plain), plain, slabstore.ErrFrame},
		"cut frame":   {slabstore.Sum(plain), frame[:len(frame)-2], slabstore.ErrFrame},
		"empty":       {slabstore.Sum(nil), nil, slabstore.ErrFrame},
		"too long":    {slabstore.Sum(nil), slabstore.Compress(nil, make([]byte, slabstore.MaxSlab+1)), slabstore.ErrFrame},
	} {
		_, err := store.Put(c.digest, c.frame)
		assert.ErrorIs(t, err, c.want, name)
		assert.False(t, store.Has(c.digest), name)
	}
	left, err := os.ReadDir(filepath.Join(dir, "new"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestGetNoticesARottenFile(t *testing.T) {
	dir := t.TempDir()
	store, err := slabstore.Open(dir)
	require.NoError(t, err)
	plain := []byte("what was captured")
	d := slabstore.Sum(plain)
	_, err = store.Put(d, slabstore.Compress(nil, plain))
	require.NoError(t, err)
	name := filepath.Join(dir, d.String()[:2], d.String()+".zst")
	require.NoError(t, os.WriteFile(name, slabstore.Compress(nil, []byte("what the disk made of it")), 0o644))
	_, err = store.Get(d)
	assert.ErrorIs(t, err, slabstore.ErrDigest)
	assert.ErrorIs(t, err, slabstore.ErrNotFound, "it counts as missing")
	assert.False(t, store.Has(d), "so that the next capture brings it")
	assert.FileExists(t, filepath.Join(dir, "damaged", d.String()+".zst"))
}

func TestADamagedSlabHeals(t *testing.T) {
	dir := t.TempDir()
	store, err := slabstore.Open(dir)
	require.NoError(t, err)
	plain := []byte("what was captured")
	d, frame := slabstore.Sum(plain), slabstore.Compress(nil, []byte("what was captured"))
	_, err = store.Put(d, frame)
	require.NoError(t, err)
	name := filepath.Join(dir, d.String()[:2], d.String()+".zst")
	require.NoError(t, os.WriteFile(name, []byte("rubbish"), 0o644))
	added, err := store.Put(d, frame)
	require.NoError(t, err)
	assert.True(t, added, "a file is not believed by its name")
	got, err := store.Get(d)
	require.NoError(t, err)
	assert.Equal(t, plain, got)
	require.NoError(t, store.Flush())
}

func TestOpenRemovesUnfinishedWrites(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "new"), 0o755))
	left := filepath.Join(dir, "new", "slab123")
	require.NoError(t, os.WriteFile(left, []byte("half"), 0o644))
	_, err := slabstore.Open(dir)
	require.NoError(t, err)
	assert.NoFileExists(t, left)
}

func TestAFullDiskIsToldAndLeavesNothing(t *testing.T) {
	dir := t.TempDir()
	if err := unix.Mount("tmpfs", dir, "tmpfs", 0, "size=256k"); err != nil {
		t.Skipf("needs root to mount a small disk: %v", err)
	}
	defer unix.Unmount(dir, unix.MNT_DETACH)
	store, err := slabstore.Open(dir)
	require.NoError(t, err)
	noise := rand.NewChaCha8([32]byte{})
	for range 8 { // of 64 KiB each: more than there is room for
		plain := make([]byte, 64<<10)
		noise.Read(plain)
		if _, err = store.Put(slabstore.Sum(plain), slabstore.Compress(nil, plain)); err != nil {
			break
		}
	}
	require.ErrorIs(t, err, slabstore.ErrFull)
	left, err := os.ReadDir(filepath.Join(dir, "new"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

func FuzzExpand(f *testing.F) {
	f.Add(slabstore.Compress(nil, []byte("seed bank")))
	f.Add([]byte{0x28, 0xB5, 0x2F, 0xFD, 0xE0, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0x7F})
	f.Fuzz(func(t *testing.T, frame []byte) {
		plain, err := slabstore.Expand(nil, frame)
		if err == nil && len(plain) > slabstore.MaxSlab {
			t.Fatalf("%d bytes out of %d", len(plain), len(frame))
		}
	})
}
