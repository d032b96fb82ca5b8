package packs_test

import (
	"bytes"
	"context"
	"errors"
	"io"
	"iter"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/objects"
	"jugate/core/packs"
	"jugate/core/slabstore"
)

var now = time.Date(2026, 11, 29, 9, 0, 0, 0, time.UTC)

// slab makes a slab, told from others by a number.
func slab(n uint64, size int) (d slabstore.Digest, plain []byte) {
	plain = make([]byte, size)
	rand.NewChaCha8([32]byte{byte(n), byte(n >> 8)}).Read(plain)
	return slabstore.Sum(plain), plain
}

func frame(n uint64, size int) packs.Stored {
	d, plain := slab(n, size)
	return packs.Stored{Digest: d, Content: slabstore.Compress(nil, plain)}
}

func open(t *testing.T, s objects.Store, dir string) *packs.Packs {
	t.Helper()
	p, err := packs.Open(s, dir)
	require.NoError(t, err)
	t.Cleanup(func() { p.Close() })
	return p
}

func add(t *testing.T, p *packs.Packs, all ...packs.Stored) {
	t.Helper()
	for _, s := range all {
		_, err := p.Add(t.Context(), s)
		require.NoError(t, err)
	}
	require.NoError(t, p.Flush(t.Context()))
}

// content is a slab as it is stored, and how many came along.
func content(t *testing.T, p *packs.Packs, d slabstore.Digest) (b []byte, along int) {
	t.Helper()
	require.NoError(t, p.Fetch(t.Context(), d, func(got slabstore.Digest, content []byte) error {
		if got == d {
			b = bytes.Clone(content)
		} else {
			along++
		}
		return nil
	}))
	return b, along
}

func TestSlabsLieInPacks(t *testing.T) {
	store := objects.OpenFolder(t.TempDir())
	p := open(t, store, t.TempDir())
	require.NoError(t, p.Refresh(t.Context()))
	var all []packs.Stored
	for n := range uint64(200) {
		all = append(all, frame(n, 300_000))
	}
	add(t, p, all...)
	count, size, dead := p.Size()
	assert.Equal(t, 2, count, "60 MB are two packs")
	assert.Greater(t, size, int64(200*300_000))
	assert.Zero(t, dead)
	added, err := p.Add(t.Context(), all[7])
	require.NoError(t, err)
	assert.False(t, added)

	// Another machine, or this one without its file, learns all from the indexes.
	other := open(t, store, t.TempDir())
	assert.False(t, other.Has(all[0].Digest))
	require.NoError(t, other.Refresh(t.Context()))
	for i, s := range all {
		b, along := content(t, other, s.Digest)
		assert.True(t, bytes.Equal(s.Content, b))
		if i == 0 {
			assert.Equal(t, 12, along, "what follows within 4 MiB")
		}
	}
	seen := 0
	for s, err := range other.All() {
		require.NoError(t, err)
		assert.False(t, s.Leans)
		seen++
	}
	assert.Equal(t, len(all), seen)
}

func TestADeltaNeedsItsBase(t *testing.T) {
	p := open(t, objects.OpenFolder(t.TempDir()), t.TempDir())
	base, plain := slab(1, 100_000)
	next := append(bytes.Clone(plain), "more"...)
	delta, err := slabstore.CompressDelta(nil, next, plain, base)
	require.NoError(t, err)
	d := slabstore.Sum(next)
	_, err = p.Add(t.Context(), packs.Stored{Digest: d, Content: delta})
	assert.ErrorContains(t, err, "leans on")
	add(t, p, frame(1, 100_000), packs.Stored{Digest: d, Content: delta})
	assert.True(t, p.HasFrame(base))
	assert.False(t, p.HasFrame(d))
	for s, err := range p.All() {
		require.NoError(t, err)
		if s.Digest == d {
			assert.Equal(t, base, s.Base)
		}
	}
}

func TestWhatNobodyNeedsGoes(t *testing.T) {
	dir := t.TempDir()
	store := objects.OpenFolder(dir)
	p := open(t, store, t.TempDir())
	var first, second []packs.Stored
	for n := range uint64(20) {
		first = append(first, frame(n, 100_000))
	}
	add(t, p, first...)
	for n := uint64(20); n < 40; n++ {
		second = append(second, frame(n, 100_000))
	}
	add(t, p, second...)
	var gone []slabstore.Digest
	for _, s := range append(first[:15:15], second[:3]...) {
		gone = append(gone, s.Digest)
	}
	require.NoError(t, p.Drop(gone...))
	assert.False(t, p.Has(first[0].Digest))
	freed, err := p.Compact(t.Context(), now)
	require.NoError(t, err)
	assert.Greater(t, freed, int64(1_400_000), "the first pack is mostly of no use; the second stays as it is")
	count, _, dead := p.Size()
	assert.Equal(t, 2, count)
	assert.Greater(t, dead, int64(300_000))
	for _, s := range append(first[15:], second[3:]...) {
		b, _ := content(t, p, s.Digest)
		assert.True(t, bytes.Equal(s.Content, b))
	}
	require.NoError(t, p.Drop(second[3].Digest, second[4].Digest, second[5].Digest, second[6].Digest, second[7].Digest, second[8].Digest, second[9].Digest, second[10].Digest))
	_, err = p.Compact(t.Context(), now)
	require.NoError(t, err)
	again := open(t, store, t.TempDir())
	require.NoError(t, again.Refresh(t.Context()))
	for _, s := range append(first[15:], second[11:]...) {
		assert.True(t, again.Has(s.Digest))
	}
	for _, s := range first[:15] {
		assert.False(t, again.Has(s.Digest))
	}
}

// A cut between a pack and its index leaves a pack that nobody knows; it goes after a day, and
// not if a list just lacks its index.
func TestPacksThatACutHasLeft(t *testing.T) {
	store := objects.OpenFolder(t.TempDir())
	cut := failing{Store: store, on: func(op, name string) error {
		if op == "put" && strings.HasPrefix(name, "slabs/index/") {
			return errors.New("cut")
		}
		return nil
	}}
	p := open(t, cut, t.TempDir())
	_, err := p.Add(t.Context(), frame(1, 1000))
	require.NoError(t, err)
	require.Error(t, p.Flush(t.Context()))
	assert.False(t, p.Has(frame(1, 1000).Digest))

	whole := open(t, store, t.TempDir())
	add(t, whole, frame(2, 1000))
	liar := open(t, failing{Store: store, hide: "slabs/index/"}, t.TempDir())
	_, err = liar.Compact(t.Context(), time.Now().Add(48*time.Hour))
	require.NoError(t, err)
	other := open(t, store, t.TempDir())
	require.NoError(t, other.Refresh(t.Context()))
	assert.True(t, other.Has(frame(2, 1000).Digest), "its index is there, whatever the list says")
	freed, err := other.Compact(t.Context(), time.Now())
	require.NoError(t, err)
	assert.Zero(t, freed)
	left := 0
	for range store.List(t.Context(), "slabs/packs/") {
		left++
	}
	assert.Equal(t, 1, left, "the one without an index went, as it was two days old")
	// What failed is written by the next try.
	p2 := open(t, store, t.TempDir())
	add(t, p2, frame(1, 1000))
	assert.True(t, p2.Has(frame(1, 1000).Digest))
}

// failing is a store that fails, or lies.
type failing struct {
	objects.Store
	on   func(op, name string) error
	hide string // a prefix that lists lack
}

func (f failing) fail(op, name string) error {
	if f.on == nil {
		return nil
	}
	return f.on(op, name)
}

func (f failing) Put(ctx context.Context, name string, content []byte, when objects.Condition) (string, error) {
	if err := f.fail("put", name); err != nil {
		return "", err
	}
	return f.Store.Put(ctx, name, content, when)
}

func (f failing) Write(ctx context.Context, name string, content io.Reader) error {
	if err := f.fail("write", name); err != nil {
		return err
	}
	return f.Store.Write(ctx, name, content)
}

func (f failing) List(ctx context.Context, prefix string) iter.Seq2[objects.Object, error] {
	if f.hide != "" && strings.HasPrefix(prefix, f.hide) {
		return func(func(objects.Object, error) bool) {}
	}
	return f.Store.List(ctx, prefix)
}

func TestAListThatLiesMakesNothingBeForgotten(t *testing.T) {
	store := objects.OpenFolder(t.TempDir())
	dir := t.TempDir()
	p := open(t, store, dir)
	add(t, p, frame(1, 1000))
	require.NoError(t, p.Close())
	liar := open(t, failing{Store: store, hide: "slabs/index/"}, dir)
	require.NoError(t, liar.Refresh(t.Context()))
	assert.True(t, liar.Has(frame(1, 1000).Digest))
}

func TestAPackThatIsGoneIsForgotten(t *testing.T) {
	dir := t.TempDir()
	p := open(t, objects.OpenFolder(dir), t.TempDir())
	add(t, p, frame(1, 1000))
	add(t, p, frame(2, 1000))
	one := frame(1, 1000).Digest
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "slabs")))
	err := p.Fetch(t.Context(), one, func(slabstore.Digest, []byte) error { return nil })
	assert.ErrorIs(t, err, slabstore.ErrNotFound)
	assert.False(t, p.Has(one))
	assert.True(t, p.Has(frame(2, 1000).Digest))
	require.NoError(t, p.Refresh(t.Context()))
	assert.False(t, p.Has(frame(2, 1000).Digest))
}

func TestADamagedSlabIsMissingForEverybody(t *testing.T) {
	store := objects.OpenFolder(t.TempDir())
	p := open(t, store, t.TempDir())
	add(t, p, frame(1, 1000), frame(2, 1000))
	d := frame(1, 1000).Digest
	require.NoError(t, p.Damaged(t.Context(), d))
	assert.False(t, p.Has(d))
	other := open(t, store, t.TempDir())
	require.NoError(t, other.Refresh(t.Context()))
	assert.False(t, other.Has(d))
	add(t, other, frame(1, 1000)) // healed
	assert.True(t, other.Has(d))
	third := open(t, store, t.TempDir())
	require.NoError(t, third.Refresh(t.Context()))
	assert.True(t, third.Has(d))
}

func FuzzParseIndex(f *testing.F) {
	x := packs.Index{Pack: slabstore.Sum([]byte("a")), Size: 1000, Lines: []packs.Line{{Digest: slabstore.Sum([]byte("b")), Offset: 44, Length: 100}}}
	f.Add(x.Encode())
	f.Add(packs.Index{Size: 8}.Encode())
	f.Fuzz(func(t *testing.T, raw []byte) {
		x, err := packs.ParseIndex(raw)
		if err != nil {
			assert.ErrorIs(t, err, packs.ErrIndex)
			return
		}
		again, err := packs.ParseIndex(x.Encode())
		require.NoError(t, err)
		assert.Equal(t, x, again)
		for _, l := range x.Lines {
			assert.LessOrEqual(t, l.Offset+l.Length, x.Size)
		}
	})
}
