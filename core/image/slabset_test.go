package image

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func setOf(t *testing.T, ranges ...SlabRange) *SlabSet {
	s, err := ParseRanges(ranges, 1<<24)
	require.NoError(t, err)
	return s
}

func TestRangesOfSlabs(t *testing.T) {
	for _, r := range []SlabRange{{-1, 3}, {3, 2}, {0, 1 << 24}} {
		_, err := ParseRanges([]SlabRange{r}, 1<<24)
		assert.ErrorIs(t, err, ErrRange)
	}
	for _, all := range [][]SlabRange{{{0, 3}, {3, 4}}, {{4, 5}, {0, 1}}, {{0, 3}, {0, 3}}} {
		_, err := ParseRanges(all, 100)
		assert.ErrorIs(t, err, ErrRange, "in order and apart from each other, so that their number bounds the work")
	}
	s := setOf(t, SlabRange{0, 0}, SlabRange{62, 66}, SlabRange{500, 500})
	assert.Equal(t, 7, s.Len())
	assert.True(t, s.Has(64))
	assert.False(t, s.Has(67))
	assert.False(t, s.Has(10_000))
	again, err := ParseRanges(s.Ranges(), 1<<24)
	require.NoError(t, err)
	assert.Equal(t, s.Ranges(), again.Ranges())
	assert.Equal(t, []SlabRange{{0, 0}, {64, 66}}, s.Without(setOf(t, SlabRange{62, 63}, SlabRange{500, 600})).Ranges())
	assert.Equal(t, []SlabRange{}, (&SlabSet{}).Ranges())
	t.Log("# what is taken out is out, and what never was in stays out")
	s.Remove(64)
	s.Remove(10_000)
	assert.Equal(t, []SlabRange{{0, 0}, {62, 63}, {65, 66}, {500, 500}}, s.Ranges())
	assert.Equal(t, []SlabRange{{62, 62}, {500, 500}}, s.Both(setOf(t, SlabRange{60, 62}, SlabRange{64, 64}, SlabRange{400, 600})).Ranges())
	assert.Equal(t, []SlabRange{{0, 0}, {3, 3}, {62, 62}}, InTwo([]*SlabSet{s, setOf(t, SlabRange{0, 5}), setOf(t, SlabRange{3, 3}), setOf(t, SlabRange{62, 62})}).Ranges())
}
