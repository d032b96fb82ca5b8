package capture

import (
	"bytes"
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/image"
	"jugate/core/volume"
)

// worn is a disk that cannot read a stretch, and counts requests.
type worn struct {
	*bytes.Reader
	bad      volume.Extent
	requests int
}

func (w *worn) ReadAt(b []byte, off int64) (int, error) {
	w.requests++
	if off < w.bad.End() && off+int64(len(b)) > w.bad.Start {
		return 0, errors.New("input/output error")
	}
	return w.Reader.ReadAt(b, off)
}

func TestExtentsThatLieNearEachOtherAreReadTogether(t *testing.T) {
	content := make([]byte, image.SlabSize)
	for i := range content {
		content[i] = byte(i / 4096)
	}
	extents := []volume.Extent{{Start: 0, Length: 4096}, {Start: 8192, Length: 4096}, {Start: 40960, Length: 8192}, {Start: 512 << 10, Length: 4096}}
	var want []byte
	for _, e := range extents {
		want = append(want, content[e.Start:e.End()]...)
	}
	for name, c := range map[string]struct {
		bad      volume.Extent
		requests int
	}{
		"all is well":                     {volume.Extent{}, 2},
		"what nobody uses cannot be read": {volume.Extent{Start: 20480, Length: 512}, 1 + 1 + 1 + 1 + 1 + 1},
	} {
		t.Run(name, func(t *testing.T) {
			disk := &worn{Reader: bytes.NewReader(content), bad: c.bad}
			cap := &capture{disk: disk, survey: &Survey{starts: []int64{0}}, gathering: make(chan []byte, 1)}
			cap.gathering <- nil
			p := &piece{slab: image.Slab{Extents: extents}}
			require.NoError(t, cap.readSlab(p))
			assert.Equal(t, want, p.plain)
			assert.LessOrEqual(t, disk.requests, c.requests)
		})
	}
}

func TestWhatCannotBeReadIsListedInTheOrderOfTheDisk(t *testing.T) {
	c := &capture{}
	for _, u := range []image.Unreadable{{Partition: 2, Start: 512, Length: 512}, {Partition: 1, Start: 4096, Length: 512}, {Partition: 1, Start: 4608, Length: 512},
		{Partition: 2, Start: 1024, Length: 512}, {Partition: 2, Start: 0, Length: 512}} { // readers are not in step
		require.NoError(t, c.cannotRead(u))
	}
	assert.Equal(t, []image.Unreadable{{Partition: 1, Start: 4096, Length: 1024}, {Partition: 2, Start: 0, Length: 1536}}, c.unread())
}
