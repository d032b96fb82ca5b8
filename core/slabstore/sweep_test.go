package slabstore_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/slabstore"
)

func TestAllGoesThroughTheStore(t *testing.T) {
	dir := t.TempDir()
	store, err := slabstore.Open(dir)
	require.NoError(t, err)
	want := map[slabstore.Digest]int64{}
	for i := range 300 {
		plain := []byte{byte(i), byte(i >> 8), 'l', 'e', 'a', 'f'}
		frame := slabstore.Compress(nil, plain)
		want[slabstore.Sum(plain)] = int64(len(frame))
		_, err := store.Put(slabstore.Sum(plain), frame)
		require.NoError(t, err)
	}
	// What is not the store's own is passed over.
	require.NoError(t, os.WriteFile(filepath.Join(dir, "notes"), []byte("x"), 0o644))
	var some slabstore.Digest
	for d := range want {
		some = d
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, some.String()[:2], "notes.zst"), []byte("x"), 0o644))

	got := map[slabstore.Digest]int64{}
	last := ""
	for s, err := range store.All() {
		require.NoError(t, err)
		assert.Less(t, last, s.Digest.String(), "in order")
		last = s.Digest.String()
		got[s.Digest] = s.Size
	}
	assert.Equal(t, want, got)

	require.NoError(t, store.Remove(some))
	require.NoError(t, store.Remove(some), "what is gone is no error")
	assert.False(t, store.Has(some))
	n := 0
	for range store.All() {
		n++
	}
	assert.Equal(t, 299, n)
	for range store.All() {
		break // whoever has seen enough may stop
	}
}
