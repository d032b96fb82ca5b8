package slabstore_test

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/fault"
	"jugate/core/slabstore"
)

// elsewhere is a store of slabs in memory.
type elsewhere struct {
	has     map[slabstore.Digest][]byte
	along   []slabstore.Digest // come with every slab
	damaged []slabstore.Digest
	away    error
	asked   int
}

func (e *elsewhere) Has(d slabstore.Digest) bool { return e.has[d] != nil }

func (e *elsewhere) Fetch(_ context.Context, d slabstore.Digest, use func(slabstore.Digest, []byte) error) error {
	if e.asked++; e.away != nil {
		return e.away
	}
	for _, d := range append([]slabstore.Digest{d}, e.along...) {
		if err := use(d, e.has[d]); err != nil {
			return err
		}
	}
	return nil
}

func (e *elsewhere) Damaged(_ context.Context, d slabstore.Digest) error {
	e.damaged = append(e.damaged, d)
	delete(e.has, d)
	return nil
}

func front(t *testing.T, behind ...slabstore.Behind) (*slabstore.Front, string) {
	t.Helper()
	dir := t.TempDir()
	folder, err := slabstore.Open(dir)
	require.NoError(t, err)
	f := slabstore.NewFront(t.Context(), folder)
	f.SetBehind(behind)
	return f, dir
}

func made(texts ...string) (e *elsewhere, digests []slabstore.Digest) {
	e = &elsewhere{has: map[slabstore.Digest][]byte{}}
	for _, text := range texts {
		d := slabstore.Sum([]byte(text))
		e.has[d], digests = slabstore.Compress(nil, []byte(text)), append(digests, d)
	}
	return e, digests
}

func TestWhatIsElsewhereIsReadOnce(t *testing.T) {
	e, d := made("Draba alpina", "Silene acaulis")
	e.along = d[1:]
	f, _ := front(t, e)
	assert.True(t, f.Has(d[0]))
	assert.False(t, f.Fast().Has(d[0]))
	plain, err := f.Get(d[0])
	require.NoError(t, err)
	assert.Equal(t, "Draba alpina", string(plain))
	frame, err := f.Frame(d[1])
	require.NoError(t, err)
	plain, err = slabstore.ExpandChecked(nil, frame, d[1])
	require.NoError(t, err)
	assert.Equal(t, "Silene acaulis", string(plain))
	assert.Equal(t, 1, e.asked, "the second came along with the first")

	added, err := f.Put(d[0], e.has[d[0]])
	require.NoError(t, err)
	assert.False(t, added)
	_, err = f.Get(slabstore.Sum([]byte("none")))
	assert.ErrorIs(t, err, slabstore.ErrNotFound)
}

func TestADeltaElsewhereIsReadWithItsBase(t *testing.T) {
	before := bytes.Repeat([]byte("Draba alpina "), 5000)
	after := append(bytes.Clone(before), "found again"...)
	e, d := made(string(before))
	delta, err := slabstore.CompressDelta(nil, after, before, d[0])
	require.NoError(t, err)
	of := slabstore.Sum(after)
	e.has[of] = delta
	f, _ := front(t, e)
	size, err := f.Check(of)
	require.NoError(t, err)
	assert.Equal(t, int64(len(delta)), size)
	assert.False(t, f.Fast().Has(of), "what is only checked does not stay")
	plain, err := f.Get(of)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(after, plain))
	assert.False(t, f.Leans(of), "it stands alone in the folder")
}

// A slab that a store gives back damaged is read from the next one, and is missing in the first
// from then on; one that nobody has whole is missing.
func TestDamagedBytesFromElsewhere(t *testing.T) {
	bad, d := made("Draba alpina")
	bad.has[d[0]] = slabstore.Compress(nil, []byte("Draba nivalis"))
	good, _ := made("Draba alpina")
	f, _ := front(t, bad, good)
	plain, err := f.Get(d[0])
	require.NoError(t, err)
	assert.Equal(t, "Draba alpina", string(plain))
	assert.Equal(t, d, bad.damaged)
	assert.Equal(t, 2, bad.asked, "a line can damage bytes, too")

	worse, d := made("Silene acaulis")
	worse.has[d[0]] = []byte("no frame")
	f, _ = front(t, worse)
	_, err = f.Frame(d[0])
	assert.ErrorIs(t, err, slabstore.ErrNotFound)
	assert.ErrorContains(t, err, "damaged")
	assert.False(t, f.Has(d[0]))
}

func TestAStoreThatIsAwayLosesNothing(t *testing.T) {
	e, d := made("Draba alpina")
	e.away = fault.Unreachable.Errorf("no answer")
	f, _ := front(t, e)
	_, err := f.Get(d[0])
	assert.ErrorIs(t, err, fault.Unreachable)
	assert.NotErrorIs(t, err, slabstore.ErrNotFound)
	assert.Empty(t, e.damaged)
	assert.True(t, f.Has(d[0]))
	e.away = nil
	_, err = f.Get(d[0])
	assert.NoError(t, err)
}

// What is read from elsewhere is not synced: after a loss of power it may be torn, and is read again.
func TestATornSlabIsReadAgain(t *testing.T) {
	e, d := made("Draba alpina")
	f, dir := front(t, e)
	_, err := f.Get(d[0])
	require.NoError(t, err)
	path := filepath.Join(dir, d[0].String()[:2], d[0].String()+".zst")
	require.NoError(t, os.Truncate(path, 0))
	plain, err := f.Get(d[0])
	require.NoError(t, err)
	assert.Equal(t, "Draba alpina", string(plain))
	assert.Equal(t, 2, e.asked)
}

func TestTheFolderIsKeptWithinItsBound(t *testing.T) {
	e, d := made("Draba alpina", "Silene acaulis", "Saxifraga cernua")
	f, dir := front(t, e)
	var size int64
	for i, one := range d {
		_, err := f.Get(one)
		require.NoError(t, err)
		path := filepath.Join(dir, one.String()[:2], one.String()+".zst")
		info, err := os.Stat(path)
		require.NoError(t, err)
		size = max(size, info.Size())
		used := time.Date(2026, 11, 20+i, 9, 0, 0, 0, time.UTC)
		require.NoError(t, os.Chtimes(path, used, used))
	}
	own, err := f.Put(slabstore.Sum([]byte("mine alone")), slabstore.Compress(nil, []byte("mine alone")))
	require.NoError(t, err)
	assert.True(t, own)
	removed, _, left, err := f.Trim(2*size, func(one slabstore.Digest) bool { return one != d[0] })
	require.NoError(t, err)
	assert.Zero(t, removed, "the first is not counted, as it may not go")
	assert.Positive(t, left)
	removed, _, _, err = f.Trim(size, func(one slabstore.Digest) bool { return one != d[0] })
	require.NoError(t, err)
	assert.Equal(t, 1, removed)
	assert.False(t, f.Fast().Has(d[1]), "used before the third")
	assert.True(t, f.Fast().Has(d[2]))
	removed, _, left, err = f.Trim(0, func(slabstore.Digest) bool { return true })
	require.NoError(t, err)
	assert.Equal(t, 2, removed)
	assert.Zero(t, left)
	assert.True(t, f.Fast().Has(slabstore.Sum([]byte("mine alone"))), "it is nowhere else")
}
