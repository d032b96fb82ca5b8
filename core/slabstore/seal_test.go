package slabstore_test

import (
	"bytes"
	"crypto/rand"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/slabstore"
)

func key() []byte {
	k := make([]byte, slabstore.KeySize)
	rand.Read(k)
	return k
}

func TestASealedStoreTellsNothingWithoutItsKey(t *testing.T) {
	dir, k := t.TempDir(), key()
	store, err := slabstore.OpenSealed(dir, k)
	require.NoError(t, err)
	want := map[slabstore.Digest][]byte{}
	for _, plant := range []string{"fern ", "moss ", "sedge "} {
		plain := bytes.Repeat([]byte(plant), 3000)
		d := slabstore.Sum(plain)
		want[d] = plain
		added, err := store.Put(d, slabstore.Compress(nil, plain))
		require.NoError(t, err)
		assert.True(t, added)
	}
	require.NoError(t, store.Flush())
	require.NoError(t, filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		text, err := os.ReadFile(path)
		for d, plain := range want {
			assert.NotContains(t, path, d.String())
			assert.False(t, bytes.Contains(text, d[:]) || bytes.Contains(text, plain[:6]) || bytes.Contains(text, slabstore.Compress(nil, plain)[:16]))
		}
		return err
	}))

	t.Log("# with it, it is a store like another")
	store, err = slabstore.OpenSealed(dir, k)
	require.NoError(t, err)
	seen := 0
	for s, err := range store.All() {
		require.NoError(t, err)
		assert.Contains(t, want, s.Digest)
		seen++
	}
	assert.Equal(t, len(want), seen)
	for d, plain := range want {
		got, err := store.Get(d)
		require.NoError(t, err)
		assert.Equal(t, plain, got)
		frame, err := store.Frame(d)
		require.NoError(t, err)
		assert.Equal(t, slabstore.Compress(nil, plain), frame)
	}
	_, _, err = store.Lean(nil)
	assert.ErrorIs(t, err, slabstore.ErrSealed)

	t.Log("# with another one there is nothing, and what is there can go")
	other, err := slabstore.OpenSealed(dir, key())
	require.NoError(t, err)
	for d := range want {
		assert.False(t, other.Has(d))
		_, err := other.Get(d)
		assert.ErrorIs(t, err, slabstore.ErrNotFound)
	}
	for range other.All() {
		assert.Fail(t, "a slab of another key")
	}
	removed, err := other.Purge()
	require.NoError(t, err)
	assert.Equal(t, len(want), removed)
	_, err = slabstore.OpenSealed(dir, k[1:])
	assert.Error(t, err)
}

// Whatever is changed of a file, or put in its place, is noticed.
func TestASealedSlabThatIsDamagedIsMissing(t *testing.T) {
	dir := t.TempDir()
	store, err := slabstore.OpenSealed(dir, key())
	require.NoError(t, err)
	plain := bytes.Repeat([]byte("fern "), 3000)
	d, frame := slabstore.Sum(plain), slabstore.Compress(nil, plain)
	one := slabstore.Sum([]byte("moss"))
	_, err = store.Put(one, slabstore.Compress(nil, []byte("moss")))
	require.NoError(t, err)
	files := func() (all []string) {
		require.NoError(t, filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
			if strings.HasSuffix(path, ".sealed") && !strings.Contains(path, "damaged") {
				all = append(all, path)
			}
			return err
		}))
		return all
	}
	other := files()[0]
	for _, read := range []func(slabstore.Digest) ([]byte, error){store.Get, store.Frame} {
		for _, at := range []int{0, 20, 59, 70, -1} {
			_, err := store.Put(d, frame)
			require.NoError(t, err)
			path := slices.DeleteFunc(files(), func(p string) bool { return p == other })[0]
			b, err := os.ReadFile(path)
			require.NoError(t, err)
			b[(at+len(b))%len(b)] ^= 1
			require.NoError(t, os.WriteFile(path, b, 0o600))
			_, err = read(d)
			assert.ErrorIs(t, err, slabstore.ErrNotFound)
			assert.False(t, store.Has(d))
		}
		_, err := store.Put(d, frame)
		require.NoError(t, err)
		path := slices.DeleteFunc(files(), func(p string) bool { return p == other })[0]
		b, err := os.ReadFile(other)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(path, b, 0o600))
		_, err = read(d)
		assert.ErrorIs(t, err, slabstore.ErrNotFound, "another slab in its place")
	}
}
