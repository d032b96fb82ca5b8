package capture

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/image"
	"jugate/core/volume"
)

func TestStretchesAreCutAtTheirBoundaries(t *testing.T) {
	for name, c := range map[string]struct {
		used []volume.Extent
		want []image.Slab
	}{
		"nothing": {nil, nil},
		"one over a boundary": {
			[]volume.Extent{{Start: image.SlabSize - 10, Length: 20}},
			[]image.Slab{
				{Area: 3, Start: 0, Extents: []volume.Extent{{Start: image.SlabSize - 10, Length: 10}}},
				{Area: 3, Start: image.SlabSize, Extents: []volume.Extent{{Start: image.SlabSize, Length: 10}}},
			}},
		"two in one, one far away": {
			[]volume.Extent{{Start: 0, Length: 5}, {Start: 100, Length: 5}, {Start: 7*image.SlabSize + 1, Length: 2}},
			[]image.Slab{
				{Area: 3, Start: 0, Extents: []volume.Extent{{Start: 0, Length: 5}, {Start: 100, Length: 5}}},
				{Area: 3, Start: 7 * image.SlabSize, Extents: []volume.Extent{{Start: 7*image.SlabSize + 1, Length: 2}}},
			}},
		"three whole ones": {
			[]volume.Extent{{Start: 0, Length: 3 * image.SlabSize}},
			[]image.Slab{
				{Area: 3, Start: 0, Extents: []volume.Extent{{Start: 0, Length: image.SlabSize}}},
				{Area: 3, Start: image.SlabSize, Extents: []volume.Extent{{Start: image.SlabSize, Length: image.SlabSize}}},
				{Area: 3, Start: 2 * image.SlabSize, Extents: []volume.Extent{{Start: 2 * image.SlabSize, Length: image.SlabSize}}},
			}},
	} {
		t.Run(name, func(t *testing.T) {
			var got []image.Slab
			for s, err := range stretches(3, func(yield func(volume.Part, error) bool) {
				for _, e := range c.used {
					if !yield(volume.Part{Extent: e}, nil) {
						return
					}
				}
			}) {
				require.NoError(t, err)
				got = append(got, s)
			}
			assert.Equal(t, c.want, got)
		})
	}
}
