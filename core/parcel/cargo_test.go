package parcel_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"jugate/core/parcel"
)

func TestPiecesOfPayloadsAreNumberedOnAfterTheSlabs(t *testing.T) {
	const mib = 1 << 20
	a, b, c := parcel.Payload{Digest: "a", Size: 2*mib + 1}, parcel.Payload{Digest: "b", Size: 1}, parcel.Payload{Digest: "c", Size: 2 * mib}
	cargo := parcel.NewCargo(10, []parcel.Payload{a, b, c})
	assert.Equal(t, 16, cargo.Len())
	assert.EqualValues(t, 4*mib+2, cargo.PayloadBytes())
	assert.True(t, cargo.IsSlab(9))
	assert.False(t, cargo.IsSlab(10))
	for n, want := range []parcel.Part{{a, 0, mib}, {a, mib, mib}, {a, 2 * mib, 1}, {b, 0, 1}, {c, 0, mib}, {c, mib, mib}} {
		assert.Equal(t, want, cargo.Part(10+n))
	}
	for digest, want := range map[string][2]int{"a": {10, 13}, "b": {13, 14}, "c": {14, 16}, "d": {0, 0}} {
		first, end := cargo.Numbers(digest)
		assert.Equal(t, want, [2]int{first, end}, digest)
	}
	none := parcel.NewCargo(10, nil)
	assert.Equal(t, 10, none.Len())
	assert.Zero(t, none.PayloadBytes())
}
