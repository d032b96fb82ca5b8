package image

import (
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/partition"
	"jugate/core/roster"
	"jugate/core/slabstore"
	"jugate/core/volume"
)

// made is a manifest with a random map of n slabs, as Capture could make it.
func made(t *testing.T, n int, seed uint64) (*Manifest, *Map) {
	t.Helper()
	dice := rand.New(rand.NewPCG(seed, 1))
	table := &partition.Table{Scheme: partition.GPT, SectorSize: 512, Sectors: 1 << 30, FirstUsable: 34, LastUsable: 1<<30 - 34, Slots: 128, DiskID: uuid.New(),
		Partitions: []partition.Partition{{Number: 1, Type: partition.EFISystem, ID: uuid.New(), First: 2048, Last: 1<<29 - 1, Name: "EFI system"}}}
	man := &Manifest{Format: Format, Captured: time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC), Table: table, SlabSize: SlabSize,
		Areas: []Area{{Partition: 0, Size: table.GapEnd() - table.GapStart(), Kind: volume.Unknown},
			{Partition: 1, Size: table.Size(table.Partitions[0]), Needs: table.Size(table.Partitions[0]), Kind: volume.Ext}}}
	slabs := NewMap(SlabSize)
	at := int64(0)
	for range n {
		s := Slab{Area: 1, Start: at, Zero: dice.IntN(4) == 0}
		for off := int64(dice.IntN(8)) * 4096; off < SlabSize; {
			length := int64(1+dice.IntN(32)) * 4096
			length = min(length, SlabSize-off)
			s.Extents = append(s.Extents, volume.Extent{Start: at + off, Length: length})
			off += length + int64(1+dice.IntN(100))*4096
		}
		if !s.Zero {
			s.Digest = slabstore.Sum([]byte{byte(dice.IntN(50))}) // some repeat
		} else {
			man.ZeroSlabs++
		}
		man.UsedBytes += s.Length()
		slabs.Add(s)
		at += int64(1+dice.IntN(3)) * SlabSize
	}
	man.Slabs, man.MapSize, man.MapDigest = n, int64(len(slabs.raw)), slabstore.Sum(slabs.raw)
	return man, slabs
}

func TestMapsComeBackAsTheyWere(t *testing.T) {
	for n := range 40 {
		man, slabs := made(t, n*7, uint64(n))
		text, err := man.Encode()
		require.NoError(t, err)
		again, err := ParseManifest(text)
		require.NoError(t, err)
		assert.Equal(t, man, again)
		parsed, err := ParseMap(slabs.Bytes(), again)
		require.NoError(t, err)
		require.Equal(t, slabs.Len(), parsed.Len())
		for i := range slabs.Len() {
			require.Equal(t, slabs.Slab(i), parsed.Slab(i))
		}
	}
}

func TestDistinctNamesEachStoredSlabOnce(t *testing.T) {
	_, slabs := made(t, 300, 5)
	seen := map[slabstore.Digest]bool{}
	last := -1
	for i, d := range slabs.Distinct() {
		assert.Greater(t, i, last, "in the order of the disk")
		assert.False(t, seen[d])
		assert.Equal(t, d, slabs.Slab(i).Digest)
		assert.False(t, slabs.Slab(i).Zero)
		seen[d], last = true, i
	}
	for i := range slabs.Len() {
		if s := slabs.Slab(i); !s.Zero {
			assert.True(t, seen[s.Digest])
		}
	}
}

func TestEveryTruncationOfAMapIsFoundOut(t *testing.T) {
	man, slabs := made(t, 5, 3)
	raw := slabs.Bytes()
	for n := range raw {
		cut := *man
		cut.MapSize, cut.MapDigest = int64(n), slabstore.Sum(raw[:n]) // as if the digest fitted
		_, err := ParseMap(raw[:n], &cut)
		assert.ErrorIs(t, err, ErrManifest, "cut at %d of %d", n, len(raw))
	}
}

func TestMapsThatContradictTheirManifestAreRefused(t *testing.T) {
	one := Slab{Area: 1, Start: 0, Extents: []volume.Extent{{Start: 0, Length: 4096}}}
	later := Slab{Area: 1, Start: SlabSize, Extents: []volume.Extent{{Start: SlabSize, Length: 4096}}}
	for name, slabs := range map[string][]Slab{
		"out of order":           {later, one},
		"twice":                  {one, one},
		"an area that is not":    {{Area: 2, Extents: one.Extents}},
		"behind the area's end":  {{Area: 0, Start: 0, Extents: []volume.Extent{{Start: 0, Length: SlabSize}}}},
		"back to an earlier one": {one, {Area: 0, Extents: one.Extents}},
		"fewer than told":        {one},
	} {
		man, _ := made(t, 0, 1)
		m := NewMap(SlabSize)
		for _, s := range slabs {
			m.Add(s)
			man.UsedBytes += s.Length()
		}
		man.Slabs = len(slabs)
		if name == "fewer than told" {
			man.Slabs++
		}
		man.MapSize, man.MapDigest = int64(len(m.raw)), slabstore.Sum(m.raw)
		_, err := ParseMap(m.raw, man)
		assert.ErrorIs(t, err, ErrManifest, name)
	}
}

func TestFilesKeepVersionsWhole(t *testing.T) {
	files := Files{Dir: t.TempDir()}
	man, slabs := made(t, 20, 9)
	text, err := man.Encode()
	require.NoError(t, err)
	ref := roster.Ref{Image: "garden-desk", Version: 1}
	require.NoError(t, files.Save(ref, []byte("left by a commit that was cut off"), nil))
	require.NoError(t, files.Save(ref, text, slabs.Bytes()))

	got, gotSlabs, err := files.Load(ref, slabstore.Sum(text))
	require.NoError(t, err)
	assert.Equal(t, man, got)
	assert.Equal(t, slabs.Len(), gotSlabs.Len())
	entries, err := os.ReadDir(filepath.Join(files.Dir, "garden-desk"))
	require.NoError(t, err)
	assert.Len(t, entries, 1, "nothing temporary is left")

	_, _, err = files.Load(ref, slabstore.Sum([]byte("another")))
	assert.ErrorIs(t, err, ErrManifest)
	manifest, mapFile := files.Paths(ref)
	require.NoError(t, os.WriteFile(mapFile, slabs.Bytes()[:50], 0o644))
	_, _, err = files.Load(ref, slabstore.Sum(text))
	assert.ErrorIs(t, err, ErrManifest)
	require.NoError(t, os.Remove(manifest))
	_, _, err = files.Load(ref, slabstore.Sum(text))
	assert.ErrorIs(t, err, os.ErrNotExist)
}
