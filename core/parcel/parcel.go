// Package parcel is a slab on its way to a group: its frame with a head that says
// which slab it is, so that a receiver needs nothing else to place it. A parcel
// can be sealed, so that only who has the delivery's key can open it.
//
//	b := parcel.Pack(slab, frame)
//	slab, frame, err := parcel.Open(b)
//
//	seal, err := parcel.NewSeal(key, session)
//	b := seal.Pack(slab, frame, nonce)
//	slab, frame, err := seal.Open(b)
package parcel

import (
	"crypto/aes"
	"crypto/cipher"
	"encoding/binary"
	"errors"
	"fmt"

	"jugate/core/slabstore"
)

// Layout of a parcel, numbers in network byte order:
//
//	0   4   "JGP1"
//	4   1   1 if sealed, else 0
//	5   3   zero
//	8   4   slab: its number in the version's slab map
//	12  12  nonce, if sealed
//	…       the frame, or its ciphertext and the 16 bytes of the tag
//
// The seal is AES-256-GCM; what stands before the ciphertext, and the delivery's
// session in four bytes, are authenticated with it.
const (
	magic      = "JGP1"
	HeadSize   = 12 // bytes that tell which slab a parcel has
	NonceSize  = 12 // bytes
	KeySize    = 32 // bytes
	tagSize    = 16
	maxFrame   = slabstore.MaxSlab + slabstore.MaxSlab/1024 + 64
	MaxSize    = HeadSize + NonceSize + maxFrame + tagSize // bytes of the longest parcel
	sealedFlag = 1
)

// ErrParcel says that bytes are no parcel, or not one of this delivery.
var ErrParcel = errors.New("not a parcel of this delivery")

func head(slab int, flags byte) []byte {
	b := append(make([]byte, 0, HeadSize+NonceSize), magic...)
	b = append(b, flags, 0, 0, 0)
	return binary.BigEndian.AppendUint32(b, uint32(slab))
}

// Peek tells which slab a parcel has from its first bytes.
func Peek(first []byte) (slab int, err error) {
	if len(first) < HeadSize || string(first[:4]) != magic || first[4] > sealedFlag || first[5]|first[6]|first[7] != 0 {
		return 0, ErrParcel
	}
	return int(binary.BigEndian.Uint32(first[8:])), nil
}

// Pack makes an open parcel.
func Pack(slab int, frame []byte) []byte { return append(head(slab, 0), frame...) }

// Open reads an open parcel; the frame stays in b. Errors wrap ErrParcel.
func Open(b []byte) (slab int, frame []byte, err error) {
	slab, err = Peek(b)
	switch {
	case err != nil:
		return 0, nil, err
	case b[4] == sealedFlag:
		return 0, nil, fmt.Errorf("%w: it is sealed", ErrParcel)
	case len(b)-HeadSize > maxFrame:
		return 0, nil, fmt.Errorf("%w: a frame of %d bytes", ErrParcel, len(b)-HeadSize)
	}
	return slab, b[HeadSize:], nil
}

// Seal seals and opens the parcels of one delivery. It is safe for use by several
// goroutines.
type Seal struct {
	aead    cipher.AEAD
	session [4]byte
}

// NewSeal makes the seal of a delivery from its key of KeySize bytes.
func NewSeal(key []byte, session uint32) (*Seal, error) {
	if len(key) != KeySize {
		return nil, fmt.Errorf("a seal's key has %d bytes, not %d", KeySize, len(key))
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCM(block)
	if err != nil {
		return nil, err
	}
	s := &Seal{aead: aead}
	binary.BigEndian.PutUint32(s.session[:], session)
	return s, nil
}

// Pack makes a sealed parcel. The nonce must never be used for another one.
func (s *Seal) Pack(slab int, frame []byte, nonce [NonceSize]byte) []byte {
	b := append(head(slab, sealedFlag), nonce[:]...)
	return s.aead.Seal(b, nonce[:], frame, s.with(b))
}

// Open reads a sealed parcel. Errors wrap ErrParcel.
func (s *Seal) Open(b []byte) (slab int, frame []byte, err error) {
	if slab, err = Peek(b); err != nil {
		return 0, nil, err
	}
	if b[4] != sealedFlag || len(b) < HeadSize+NonceSize+tagSize || len(b) > MaxSize {
		return 0, nil, fmt.Errorf("%w: it is not sealed", ErrParcel)
	}
	known := b[:HeadSize+NonceSize]
	frame, err = s.aead.Open(nil, known[HeadSize:], b[len(known):], s.with(known))
	if err != nil {
		return 0, nil, fmt.Errorf("%w: its seal is not this delivery's", ErrParcel)
	}
	return slab, frame, nil
}

func (s *Seal) with(head []byte) []byte {
	return append(append(make([]byte, 0, len(head)+4), head...), s.session[:]...)
}
