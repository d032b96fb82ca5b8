package image_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/image"
	"jugate/core/slabstore"
	"jugate/core/volume"
)

// mapOf has a slab of one extent at each of some stretches; the text is its content, and none
// is zeros.
func mapOf(at map[int64]string) *image.Map {
	m := image.NewMap(image.SlabSize)
	for n := range int64(20) {
		if text, there := at[n]; there {
			m.Add(image.Slab{Start: n * image.SlabSize, Extents: []volume.Extent{{Start: n * image.SlabSize, Length: 4096}}, Zero: text == "", Digest: slabstore.Sum([]byte(text))})
		}
	}
	return m
}

func TestBasesAreWhatLayAtTheSamePlaces(t *testing.T) {
	before := mapOf(map[int64]string{0: "fern", 1: "moss", 2: "sedge", 4: "", 5: "alder", 7: "birch", 8: "hazel"})
	after := mapOf(map[int64]string{0: "fern", 1: "moss, pressed", 3: "rush", 4: "reed", 5: "", 7: "moss, pressed", 8: "hazel, in leaf"})
	bases := image.Bases(before, after, 10)
	require.Equal(t, 2, bases.Len(), "what stays, what was or is zeros, and what comes twice does not count")
	assert.Equal(t, before.Slab(1), bases.Slab(0))
	assert.Equal(t, before.Slab(6), bases.Slab(1))
	assert.Equal(t, map[int]int{1: 0, 6: 1}, image.Replaced(after, bases))
	assert.Equal(t, 1, image.Bases(before, after, 1).Len())

	man := &image.Manifest{SlabSize: image.SlabSize, Areas: []image.Area{{Size: 9 * image.SlabSize}}}
	got, err := image.ParseBases(bases.Bytes(), man)
	require.NoError(t, err)
	assert.Equal(t, bases.Bytes(), got.Bytes())
	for name, raw := range map[string][]byte{
		"nothing": nil, "cut off": bases.Bytes()[:len(bases.Bytes())-1], "zeros": mapOf(map[int64]string{1: ""}).Bytes(), "beyond the partition": mapOf(map[int64]string{9: "oak"}).Bytes(),
	} {
		_, err := image.ParseBases(raw, man)
		assert.ErrorIs(t, err, image.ErrManifest, name)
	}
}

func FuzzParseBases(f *testing.F) {
	man := &image.Manifest{SlabSize: image.SlabSize, Areas: []image.Area{{Size: 10 * image.SlabSize}}}
	m := image.NewMap(image.SlabSize)
	m.Add(image.Slab{Start: image.SlabSize, Extents: []volume.Extent{{Start: image.SlabSize + 512, Length: 1024}}, Digest: slabstore.Sum(nil)})
	f.Add(m.Bytes())
	f.Add([]byte("JUGMAP1\n"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		bases, err := image.ParseBases(raw, man)
		if err == nil {
			image.Replaced(bases, bases)
		}
	})
}
