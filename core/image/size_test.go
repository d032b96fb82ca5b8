package image_test

import (
	"encoding/binary"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"

	"jugate/core/image"
	"jugate/core/slabstore"
	"jugate/core/volume"
)

// TestAMapIsSmall counts what a workstation holds for many slabs, all of
// them different.
func TestAMapIsSmall(t *testing.T) {
	const slabs = 1 << 18
	held := func() int64 {
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return int64(m.HeapAlloc)
	}
	before := held()
	m := image.NewMap(image.SlabSize)
	for i := range slabs {
		at := int64(i) * image.SlabSize
		m.Add(image.Slab{Start: at, Extents: []volume.Extent{{Start: at, Length: image.SlabSize}},
			Digest: slabstore.Sum(binary.BigEndian.AppendUint64(nil, uint64(i)))})
	}
	lacking := &image.SlabSet{}
	for i := range m.Distinct() {
		lacking.Add(i)
	}
	assert.Equal(t, slabs, lacking.Len())
	each := float64(held()-before) / slabs
	t.Logf("%.1f bytes a slab", each)
	assert.Less(t, each, 64.0, "the records, where each begins, and the index of digests")
	runtime.KeepAlive(m)
	runtime.KeepAlive(lacking)
}
