package parcel_test

import (
	"bytes"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/parcel"
)

func TestParcels(t *testing.T) {
	content := []byte("the frame of a slab")
	key := bytes.Repeat([]byte{7}, parcel.KeySize)
	seal, err := parcel.NewSeal(key, 5)
	require.NoError(t, err)
	for _, label := range []parcel.Label{parcel.Slab(70_000), parcel.PieceOfMap(70_000)} {
		got, inside, err := parcel.Open(parcel.Pack(label, content))
		require.NoError(t, err)
		assert.Equal(t, label, got)
		assert.Equal(t, content, inside)

		sealed := seal.Pack(label, content, [parcel.NonceSize]byte{1})
		assert.NotContains(t, string(sealed), string(content))
		got, err = parcel.Peek(sealed[:parcel.HeadSize])
		require.NoError(t, err, "what it has can be seen from outside")
		assert.Equal(t, label, got)
		got, inside, err = seal.Open(sealed)
		require.NoError(t, err)
		assert.Equal(t, label, got)
		assert.Equal(t, content, inside)
	}
}

func TestThePiecesOfAMapAreTheMap(t *testing.T) {
	for _, size := range []int{0, 1, 1 << 20, 1<<20 + 1, 3<<20 - 1} {
		slabMap := make([]byte, size)
		rand.NewChaCha8([32]byte{}).Read(slabMap)
		var joined []byte
		for n := range parcel.Pieces(int64(size)) {
			joined = append(joined, parcel.Piece(slabMap, n)...)
		}
		assert.True(t, bytes.Equal(slabMap, joined), "%d bytes", size)
		assert.Empty(t, parcel.Piece(slabMap, parcel.Pieces(int64(size))))
	}
}

func TestForeignParcelsAreRefused(t *testing.T) {
	frame := []byte("the frame of a slab")
	key := bytes.Repeat([]byte{7}, parcel.KeySize)
	seal, err := parcel.NewSeal(key, 5)
	require.NoError(t, err)
	otherSession, err := parcel.NewSeal(key, 6)
	require.NoError(t, err)
	otherKey, err := parcel.NewSeal(bytes.Repeat([]byte{8}, parcel.KeySize), 5)
	require.NoError(t, err)
	sealed := seal.Pack(parcel.Slab(3), frame, [parcel.NonceSize]byte{1})
	for name, open := range map[string]func() (parcel.Label, []byte, error){
		"without the key":      func() (parcel.Label, []byte, error) { return parcel.Open(sealed) },
		"of another delivery":  func() (parcel.Label, []byte, error) { return otherSession.Open(sealed) },
		"with another key":     func() (parcel.Label, []byte, error) { return otherKey.Open(sealed) },
		"open where sealed":    func() (parcel.Label, []byte, error) { return seal.Open(parcel.Pack(parcel.Slab(3), frame)) },
		"another slab's place": func() (parcel.Label, []byte, error) { b := bytes.Clone(sealed); b[11]++; return seal.Open(b) },
		"a piece of the map":   func() (parcel.Label, []byte, error) { b := bytes.Clone(sealed); b[4] |= 2; return seal.Open(b) },
		"too long":             func() (parcel.Label, []byte, error) { return parcel.Open(make([]byte, parcel.MaxSize+1)) },
	} {
		_, _, err := open()
		assert.ErrorIs(t, err, parcel.ErrParcel, name)
	}
	for n := range sealed {
		_, _, err := seal.Open(sealed[:n])
		require.ErrorIs(t, err, parcel.ErrParcel, "cut off at %d", n)
	}
	_, err = parcel.NewSeal(key[:16], 5)
	assert.Error(t, err)
}

func FuzzOpen(f *testing.F) {
	seal, err := parcel.NewSeal(bytes.Repeat([]byte{7}, parcel.KeySize), 5)
	require.NoError(f, err)
	f.Add(parcel.Pack(parcel.Slab(1), []byte("frame")))
	f.Add(seal.Pack(parcel.PieceOfMap(1), []byte("frame"), [parcel.NonceSize]byte{}))
	f.Fuzz(func(t *testing.T, b []byte) {
		if label, content, err := parcel.Open(b); err == nil {
			assert.Equal(t, b, parcel.Pack(label, content))
		}
		seal.Open(b)
	})
}
