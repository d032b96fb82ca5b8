package agent

import (
	"bytes"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"

	"jugate/core/parcel"
)

func TestPiecesBecomeTheSlabMapInAnyOrder(t *testing.T) {
	slabMap := make([]byte, 3<<20+5)
	rand.NewChaCha8([32]byte{}).Read(slabMap)
	p := newPieces(int64(len(slabMap)))
	for _, n := range []int{2, 0, 3} {
		assert.Nil(t, p.whole())
		assert.True(t, p.lacks(n))
		p.put(n, parcel.Piece(slabMap, n))
		assert.False(t, p.lacks(n))
	}
	t.Log("# what cannot be the piece that it says it is counts as not come")
	p.put(1, slabMap[:5])
	assert.True(t, p.lacks(1))
	assert.False(t, p.lacks(4), "there is none")
	p.put(4, nil)
	p.put(1, parcel.Piece(slabMap, 1))
	assert.True(t, bytes.Equal(slabMap, p.whole()))
	t.Log("# and one that comes again changes nothing that is lacking")
	p.put(1, parcel.Piece(slabMap, 1))
	assert.True(t, bytes.Equal(slabMap, p.whole()))
}
