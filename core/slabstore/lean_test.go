package slabstore_test

import (
	"bufio"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/slabstore"
)

// put stores plain bytes.
func put(t *testing.T, s *slabstore.Store, plain []byte) slabstore.Digest {
	t.Helper()
	d := slabstore.Sum(plain)
	_, err := s.Put(d, slabstore.Compress(nil, plain))
	require.NoError(t, err)
	return d
}

// versions are slabs of which each has much of the one before.
func versions(n int) (all [][]byte) {
	plain := noise(9, 20_000)
	for i := range n {
		all = append(all, slices.Concat(plain[:i*1000], noise(byte(i), 2000), plain[i*1000:]))
	}
	return all
}

func TestASlabLeansOnAnother(t *testing.T) {
	dir := t.TempDir()
	s, err := slabstore.Open(dir)
	require.NoError(t, err)
	v := versions(3)
	a, b, c := put(t, s, v[0]), put(t, s, v[1]), put(t, s, v[2])
	other := put(t, s, noise(100, 20_000))

	leaned, saved, err := s.Lean([]slabstore.Leaning{{Slab: b, On: a}, {Slab: other, On: a}, {Slab: a, On: a}})
	require.NoError(t, err)
	assert.Equal(t, 1, leaned, "what has nothing in common stays as it is")
	assert.Greater(t, saved, int64(15_000))
	assert.NoFileExists(t, filepath.Join(dir, b.String()[:2], b.String()+".zst"))
	on, err := s.Base(b)
	require.NoError(t, err)
	assert.Equal(t, a, on)

	t.Log("# one at most is between a slab and its bytes")
	leaned, _, err = s.Lean([]slabstore.Leaning{{Slab: c, On: b}, {Slab: a, On: c}})
	require.NoError(t, err)
	assert.Zero(t, leaned)

	for i, d := range []slabstore.Digest{a, b, c} {
		got, err := s.Get(d)
		require.NoError(t, err)
		assert.Equal(t, v[i], got)
		frame, err := s.Frame(d)
		require.NoError(t, err)
		got, err = slabstore.ExpandChecked(nil, frame, d)
		require.NoError(t, err)
		assert.Equal(t, v[i], got)
	}
	again, err := s.Put(b, slabstore.Compress(nil, v[1]))
	require.NoError(t, err)
	assert.False(t, again, "it is there")

	t.Log("# what is leaned on stays")
	assert.ErrorIs(t, s.Remove(a), slabstore.ErrLeanedOn)
	settled, added, err := s.Settle([]slabstore.Digest{a, b, c})
	require.NoError(t, err)
	assert.Equal(t, 1, settled)
	assert.Equal(t, saved, added)
	require.NoError(t, s.Remove(a))
	got, err := s.Get(b)
	require.NoError(t, err)
	assert.Equal(t, v[1], got)
}

func TestASlabThatLeansOnADamagedOneHeals(t *testing.T) {
	dir := t.TempDir()
	s, err := slabstore.Open(dir)
	require.NoError(t, err)
	v := versions(2)
	a, b := put(t, s, v[0]), put(t, s, v[1])
	_, _, err = s.Lean([]slabstore.Leaning{{Slab: b, On: a}})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, a.String()[:2], a.String()+".zst"), []byte("rubbish"), 0o644))

	_, err = s.Check(b)
	assert.ErrorIs(t, err, slabstore.ErrNotFound)
	assert.FileExists(t, filepath.Join(dir, "damaged", a.String()+".zst"))
	assert.False(t, s.Has(a))
	assert.False(t, s.Has(b), "the next capture brings both")
	put(t, s, v[1])
	got, err := s.Get(b)
	require.NoError(t, err)
	assert.Equal(t, v[1], got)
	assert.NoFileExists(t, filepath.Join(dir, b.String()[:2], b.String()+".delta"))
	put(t, s, v[0])
	require.NoError(t, s.Remove(a), "nobody leans on it any more")

	t.Log("# a delta that is damaged")
	put(t, s, v[0])
	_, _, err = s.Lean([]slabstore.Leaning{{Slab: b, On: a}})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, b.String()[:2], b.String()+".delta"), []byte("rubbish"), 0o644))
	assert.False(t, s.Has(b))
	_, err = s.Get(b)
	assert.ErrorIs(t, err, slabstore.ErrNotFound)
	assert.FileExists(t, filepath.Join(dir, "damaged", b.String()+".delta"))
	put(t, s, v[1])
	assert.True(t, s.Has(b))
}

// A kill can leave a slab in both forms: it stands alone, and when it goes, what others lean on
// stays.
func TestASlabInBothForms(t *testing.T) {
	dir := t.TempDir()
	s, err := slabstore.Open(dir)
	require.NoError(t, err)
	v := versions(3)
	a, b, c := put(t, s, v[0]), put(t, s, v[1]), put(t, s, v[2])
	_, _, err = s.Lean([]slabstore.Leaning{{Slab: b, On: a}})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, c.String()[:2], c.String()+".delta"), delta(t, v[2], v[0]), 0o644))
	n := 0
	for slab, err := range s.All() {
		require.NoError(t, err)
		assert.Equal(t, slab.Digest == b, slab.Leans)
		n++
	}
	assert.Equal(t, 3, n)
	require.NoError(t, s.Remove(c))
	assert.False(t, s.Has(c))
	assert.ErrorIs(t, s.Remove(a), slabstore.ErrLeanedOn)
	got, err := s.Get(b)
	require.NoError(t, err)
	assert.Equal(t, v[1], got)
}

// Whatever comes, leans, settles and goes, in any order: what is there reads as it was put.
func TestSlabsLeanAndGoInAnyOrder(t *testing.T) {
	s, err := slabstore.Open(t.TempDir())
	require.NoError(t, err)
	v := versions(10)
	digests := make([]slabstore.Digest, len(v))
	for i := range v {
		digests[i] = slabstore.Sum(v[i])
	}
	there := map[int]bool{}
	dice := rand.New(rand.NewPCG(3, 4))
	leaned := 0
	for range 500 {
		i, j := dice.IntN(len(v)), dice.IntN(len(v))
		switch dice.IntN(4) {
		case 0:
			put(t, s, v[i])
			there[i] = true
		case 1:
			n, _, err := s.Lean([]slabstore.Leaning{{Slab: digests[i], On: digests[j]}, {Slab: digests[j], On: digests[dice.IntN(len(v))]}})
			require.NoError(t, err)
			leaned += n
		case 2:
			if there[i] {
				_, _, err := s.Settle([]slabstore.Digest{digests[i]})
				require.NoError(t, err)
			}
		case 3:
			if err := s.Remove(digests[i]); err == nil {
				delete(there, i)
			} else {
				require.ErrorIs(t, err, slabstore.ErrLeanedOn)
			}
		}
		for i := range v {
			require.Equal(t, there[i], s.Has(digests[i]))
			if there[i] {
				got, err := s.Get(digests[i])
				require.NoError(t, err)
				require.Equal(t, v[i], got)
			}
		}
	}
	assert.Greater(t, leaned, 20)
	for slab, err := range s.All() {
		require.NoError(t, err)
		if slab.Leans {
			_, err := s.Base(slab.Base)
			assert.ErrorIs(t, err, slabstore.ErrNotFound, "what is leaned on leans on nothing")
		}
	}
}

// Killed at any moment, a store that leans and settles has all that was put.
func TestAStoreThatIsKilledWhileItLeans(t *testing.T) {
	v := versions(10)
	if dir := os.Getenv("JUGATE_TEST_LEAN"); dir != "" {
		s, err := slabstore.Open(dir)
		require.NoError(t, err)
		for round := 0; ; round++ {
			for i := range v {
				d, base := slabstore.Sum(v[i]), slabstore.Sum(v[round%len(v)])
				if round%2 == 0 {
					_, _, err = s.Lean([]slabstore.Leaning{{Slab: d, On: base}})
				} else {
					_, _, err = s.Settle([]slabstore.Digest{d})
				}
				require.NoError(t, err)
				fmt.Println("step")
			}
		}
	}
	dir := t.TempDir()
	s, err := slabstore.Open(dir)
	require.NoError(t, err)
	for i := range v {
		put(t, s, v[i])
	}
	require.NoError(t, s.Flush())
	dice := rand.New(rand.NewPCG(5, 6))
	for range 20 {
		child := exec.CommandContext(t.Context(), os.Args[0], "-test.run=^TestAStoreThatIsKilledWhileItLeans$", "-test.v")
		child.Env = append(os.Environ(), "JUGATE_TEST_LEAN="+dir)
		out, err := child.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, child.Start())
		lines := bufio.NewScanner(out)
		for range 2 + dice.IntN(20) {
			require.True(t, lines.Scan())
		}
		require.NoError(t, child.Process.Kill())
		child.Wait()
		s, err := slabstore.Open(dir)
		require.NoError(t, err)
		for i := range v {
			require.True(t, s.Has(slabstore.Sum(v[i])))
			got, err := s.Get(slabstore.Sum(v[i]))
			require.NoError(t, err)
			require.Equal(t, v[i], got)
		}
	}
	n := 0
	for _, err := range s.All() {
		require.NoError(t, err)
		n++
	}
	assert.Equal(t, len(v), n, "each is there once")
}
