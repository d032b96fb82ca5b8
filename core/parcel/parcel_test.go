package parcel_test

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/parcel"
)

func TestParcels(t *testing.T) {
	frame := []byte("the frame of a slab")
	slab, got, err := parcel.Open(parcel.Pack(70_000, frame))
	require.NoError(t, err)
	assert.Equal(t, 70_000, slab)
	assert.Equal(t, frame, got)

	key := bytes.Repeat([]byte{7}, parcel.KeySize)
	seal, err := parcel.NewSeal(key, 5)
	require.NoError(t, err)
	sealed := seal.Pack(70_000, frame, [parcel.NonceSize]byte{1})
	assert.NotContains(t, string(sealed), string(frame))
	slab, err = parcel.Peek(sealed[:parcel.HeadSize])
	require.NoError(t, err, "which slab it is can be seen from outside")
	assert.Equal(t, 70_000, slab)
	slab, got, err = seal.Open(sealed)
	require.NoError(t, err)
	assert.Equal(t, 70_000, slab)
	assert.Equal(t, frame, got)
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
	sealed := seal.Pack(3, frame, [parcel.NonceSize]byte{1})
	for name, open := range map[string]func() (int, []byte, error){
		"without the key":      func() (int, []byte, error) { return parcel.Open(sealed) },
		"of another delivery":  func() (int, []byte, error) { return otherSession.Open(sealed) },
		"with another key":     func() (int, []byte, error) { return otherKey.Open(sealed) },
		"open where sealed":    func() (int, []byte, error) { return seal.Open(parcel.Pack(3, frame)) },
		"another slab's place": func() (int, []byte, error) { b := bytes.Clone(sealed); b[11]++; return seal.Open(b) },
		"too long":             func() (int, []byte, error) { return parcel.Open(make([]byte, parcel.MaxSize+1)) },
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
	f.Add(parcel.Pack(1, []byte("frame")))
	f.Add(seal.Pack(1, []byte("frame"), [parcel.NonceSize]byte{}))
	f.Fuzz(func(t *testing.T, b []byte) {
		if slab, frame, err := parcel.Open(b); err == nil {
			assert.Equal(t, b[:12], parcel.Pack(slab, frame)[:12])
		}
		seal.Open(b)
	})
}
