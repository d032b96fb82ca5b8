package leaning_test

import (
	"context"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/image"
	"jugate/core/leaning"
	"jugate/core/slabstore"
	"jugate/core/volume"
)

func noise(seed uint64, n int) []byte {
	b := make([]byte, n)
	rand.NewChaCha8([32]byte{byte(seed), byte(seed >> 8)}).Read(b)
	return b
}

// line is a line of versions of one disk of some slabs.
type line struct {
	t     *testing.T
	store *slabstore.Store
	dir   string
	disk  [][]byte // the content of each stretch
}

func newLine(t *testing.T) *line {
	dir := t.TempDir()
	store, err := slabstore.Open(filepath.Join(dir, "slabs"))
	require.NoError(t, err)
	l := &line{t: t, store: store, dir: dir}
	for i := range 12 {
		l.disk = append(l.disk, noise(uint64(i), 40_000))
	}
	return l
}

// version stores what the disk has now.
func (l *line) version(number int) leaning.Version {
	m := image.NewMap(image.SlabSize)
	for i, plain := range l.disk {
		d := slabstore.Sum(plain)
		if !l.store.Has(d) {
			_, err := l.store.Put(d, slabstore.Compress(nil, plain))
			require.NoError(l.t, err)
		}
		m.Add(image.Slab{Start: int64(i) * image.SlabSize, Extents: []volume.Extent{{Start: int64(i) * image.SlabSize, Length: int64(len(plain))}}, Digest: d})
	}
	return leaning.Version{Slabs: m, Sketches: filepath.Join(l.dir, "sketches-"+strconv.Itoa(number))}
}

// holds checks that a version reads as the disk was.
func (l *line) holds(v leaning.Version, disk [][]byte) {
	for i := range v.Slabs.Len() {
		got, err := l.store.Get(v.Slabs.Slab(i).Digest)
		require.NoError(l.t, err)
		require.Equal(l.t, disk[i], got)
	}
}

// size is how many bytes the store has.
func (l *line) size() (n int64) {
	for s, err := range l.store.All() {
		require.NoError(l.t, err)
		n += s.Size
	}
	return n
}

func TestWhatChangedIsWhatIsStored(t *testing.T) {
	l := newLine(t)
	first := l.version(1)
	before := l.size()
	was := slices.Clone(l.disk)
	l.disk[3] = slices.Concat(was[3][:10_000], noise(50, 500), was[3][10_500:]) // overwritten at its place
	l.disk[5] = slices.Concat(noise(51, 700), was[8][:30_000])                  // a file that was written anew elsewhere
	l.disk[6] = noise(52, 40_000)                                               // nothing that was there
	second := l.version(2)
	done, err := leaning.Run(t.Context(), l.store, first, second, nil)
	require.NoError(t, err)
	assert.Equal(t, 2, done.Slabs)
	assert.Less(t, l.size()-before, int64(42_500), "40,000 bytes are like nothing, and 1,200 are new elsewhere")
	for i, base := range map[int]int{3: 3, 5: 8} {
		on, err := l.store.Base(slabstore.Sum(l.disk[i]))
		require.NoError(t, err)
		assert.Equal(t, slabstore.Sum(was[base]), on)
	}
	l.holds(first, was)
	l.holds(second, l.disk)

	t.Log("# again changes nothing; what is to stay stays")
	done, err = leaning.Run(t.Context(), l.store, first, second, nil)
	require.NoError(t, err)
	assert.Zero(t, done)
	l.disk[0] = slices.Concat(was[0][:20_000], noise(53, 500))
	third := l.version(3)
	done, err = leaning.Run(t.Context(), l.store, second, third, func(slabstore.Digest) bool { return true })
	require.NoError(t, err)
	assert.Zero(t, done)
}

// counting counts which slabs are read.
type counting struct {
	*slabstore.Store
	read map[slabstore.Digest]int
}

func (c counting) Get(d slabstore.Digest) ([]byte, error) {
	c.read[d]++
	return c.Store.Get(d)
}

func TestSketchesAreKeptAndMadeAnew(t *testing.T) {
	l := newLine(t)
	first := l.version(1)
	l.disk[3] = slices.Concat(l.disk[3][:10_000], noise(50, 500))
	second := l.version(2)
	_, err := leaning.Run(t.Context(), l.store, first, second, nil)
	require.NoError(t, err)
	kept, err := os.ReadFile(second.Sketches)
	require.NoError(t, err)

	l.disk[4] = slices.Concat(l.disk[4][:10_000], noise(51, 500))
	third := l.version(3)
	c := counting{l.store, map[slabstore.Digest]int{}}
	_, err = leaning.Run(t.Context(), c, second, third, nil)
	require.NoError(t, err)
	assert.Equal(t, map[slabstore.Digest]int{slabstore.Sum(l.disk[4]): 1}, c.read, "only what is new is read for its sketch")

	for name, broken := range map[string][]byte{"gone": nil, "cut off": kept[:len(kept)-1], "something else": make([]byte, len(kept))} {
		require.NoError(t, os.Remove(second.Sketches))
		if broken != nil {
			require.NoError(t, os.WriteFile(second.Sketches, broken, 0o644))
		}
		_, err = leaning.Run(t.Context(), l.store, second, third, nil)
		require.NoError(t, err, name)
		again, err := os.ReadFile(second.Sketches)
		require.NoError(t, err)
		assert.Equal(t, kept, again, name)
	}
}

// Ten versions, each of which changes a little, and go in any order.
func TestTenVersionsThatGoInAnyOrder(t *testing.T) {
	dice := rand.New(rand.NewPCG(1, 2))
	for range 4 {
		l := newLine(t)
		var versions []leaning.Version
		var disks [][][]byte
		for n := range 10 {
			for range 3 {
				i, at := dice.IntN(len(l.disk)), dice.IntN(30_000)
				l.disk[i] = slices.Concat(l.disk[i][:at], noise(dice.Uint64(), 800), l.disk[(i+dice.IntN(2))%len(l.disk)][at+800:])
			}
			versions, disks = append(versions, l.version(n+1)), append(disks, slices.Clone(l.disk))
			if n > 0 {
				_, err := leaning.Run(t.Context(), l.store, versions[n-1], versions[n], nil)
				require.NoError(t, err)
			}
		}
		left := []int{0, 1, 2, 3, 4, 5, 6, 7, 8, 9}
		dice.Shuffle(len(left), func(i, j int) { left[i], left[j] = left[j], left[i] })
		for ; len(left) > 0; left = left[1:] {
			needed := map[slabstore.Digest]bool{}
			for _, n := range left {
				l.holds(versions[n], disks[n])
				for _, d := range versions[n].Slabs.Distinct() {
					needed[d] = true
				}
			}
			if dice.IntN(3) == 0 {
				var all []slabstore.Digest
				for _, d := range versions[left[0]].Slabs.Distinct() {
					all = append(all, d)
				}
				_, _, err := l.store.Settle(all)
				require.NoError(t, err)
			}
			for s, err := range l.store.All() {
				require.NoError(t, err)
				if !needed[s.Digest] {
					if err := l.store.Remove(s.Digest); err != nil {
						require.ErrorIs(t, err, slabstore.ErrLeanedOn)
					}
				}
			}
		}
	}
}

func TestItEndsWhenItIsToldTo(t *testing.T) {
	l := newLine(t)
	first := l.version(1)
	l.disk[3] = noise(50, 40_000)
	second := l.version(2)
	ctx, stop := context.WithCancel(t.Context())
	stop()
	_, err := leaning.Run(ctx, l.store, first, second, nil)
	assert.ErrorIs(t, err, context.Canceled)
	assert.NoFileExists(t, second.Sketches)
}
