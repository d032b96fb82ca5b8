package image

import (
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/partition"
	"jugate/core/slabstore"
	"jugate/core/volume"
)

// version makes a manifest with one partition, and a map from a text: a letter is a
// slab with that content, "0" one of zeros, "." a stretch that is not in use, "P"
// content and behind it the zeros of a page file.
func version(text string) (*Manifest, *Map) {
	table := &partition.Table{Scheme: partition.GPT, SectorSize: 512, Sectors: 1 << 20, FirstUsable: 34, LastUsable: 1<<20 - 34, Slots: 128,
		Partitions: []partition.Partition{{Number: 1, Type: partition.EFISystem, ID: uuid.UUID{1}, First: 2048, Last: 1<<19 - 1}}}
	man := &Manifest{Format: Format, Table: table, SlabSize: SlabSize, Areas: []Area{{Partition: 1, Kind: volume.Ext, Size: table.Size(table.Partitions[0]), Needs: table.Size(table.Partitions[0])}}}
	slabs := NewMap(SlabSize)
	for i, c := range text {
		start := int64(i) * SlabSize
		s := Slab{Start: start, Extents: []volume.Extent{{Start: start, Length: 4096}}}
		switch c {
		case '.':
			continue
		case '0':
			s.Zero = true
		default:
			s.Digest = slabstore.Sum([]byte(string(c)))
		}
		slabs.Add(s)
		if c == 'P' {
			slabs.Add(Slab{Start: start, Zero: true, Extents: []volume.Extent{{Start: start + 8192, Length: 4096}}})
		}
	}
	for i := range slabs.Len() {
		s := slabs.Slab(i)
		man.UsedBytes += s.Length()
		if s.Zero {
			man.ZeroSlabs++
		}
	}
	man.Slabs, man.MapSize, man.MapDigest = slabs.Len(), int64(len(slabs.raw)), slabstore.Sum(slabs.raw)
	return man, slabs
}

func TestCompareCountsByPlaces(t *testing.T) {
	for name, c := range map[string]struct {
		a, b                             string
		same, changed, onlyA, onlyB, new int64 // in units of 4 KiB
	}{
		"the same":            {"abc0", "abc0", 4, 0, 0, 0, 0},
		"one changed":         {"abc", "axc", 2, 1, 0, 0, 1},
		"one moved":           {"ab.", ".ab", 0, 1, 1, 1, 0},
		"one more":            {"ab", "abc", 2, 0, 0, 1, 1},
		"one less":            {"abc", "a.c", 2, 0, 1, 0, 0},
		"became zeros":        {"abc", "a0c", 2, 1, 0, 0, 0},
		"nothing in common":   {"abc", "...xyz", 0, 0, 3, 3, 3},
		"empty":               {"...", "a", 0, 0, 0, 1, 1},
		"page file kept":      {"aPc", "aPc", 4, 0, 0, 0, 0},
		"page file was given": {"aPc", "abc", 2, 2, 0, 0, 1},
		"twice the same":      {"a", "axx", 1, 0, 0, 2, 1},
	} {
		aMan, a := version(c.a)
		bMan, b := version(c.b)
		got := Compare(aMan, a, bMan, b)
		require.Len(t, got.Areas, 1, name)
		d := got.Areas[0]
		assert.Equal(t, [5]int64{c.same, c.changed, c.onlyA, c.onlyB, c.new},
			[5]int64{d.Same / 4096, d.Changed / 4096, d.OnlyA / 4096, d.OnlyB / 4096, got.New / 4096}, name)
		assert.Equal(t, c.changed+c.onlyA+c.onlyB > 0, got.Different(), name)
		assert.True(t, got.SameTable)
	}
	aMan, a := version("abc")
	bMan, b := version("abc")
	bMan.Table.Partitions[0].Name = "other"
	got := Compare(aMan, a, bMan, b)
	assert.False(t, got.SameTable)
	assert.True(t, got.Different())
}

// Two records of one stretch are allowed: content, and zeros for other bytes of it.
func TestTwoRecordsOfAStretch(t *testing.T) {
	man, slabs := version("aPc")
	parsed, err := ParseMap(slabs.Bytes(), man)
	require.NoError(t, err)
	assert.Equal(t, 4, parsed.Len())
	content := Slab{Extents: []volume.Extent{{Start: 0, Length: 4096}}, Digest: slabstore.Sum([]byte("a"))}
	zeros := Slab{Zero: true, Extents: []volume.Extent{{Start: 8192, Length: 4096}}}
	overlapping := Slab{Zero: true, Extents: []volume.Extent{{Start: 4095, Length: 4096}}}
	assert.True(t, follows(content, zeros))
	assert.False(t, follows(zeros, content), "content comes first")
	assert.False(t, follows(content, content))
	assert.False(t, follows(zeros, zeros))
	assert.False(t, follows(content, overlapping), "no byte is both")
}
