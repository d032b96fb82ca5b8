// Package parcel is a slab, a piece of the slab map, or a piece of a payload, on its way to a
// group: its bytes with a label that says which it is, so that a receiver needs nothing else
// to place it. A parcel can be sealed, so that only who has the delivery's key can open it.
//
//	b := parcel.Pack(parcel.Slab(7), frame)
//	label, content, err := parcel.Open(b)
//
//	seal, err := parcel.NewSeal(key, session)
//	b := seal.Pack(parcel.PieceOfMap(0), piece, nonce)
//	label, content, err := seal.Open(b)
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
//	4   1   sum of 1 if sealed, and 2 if it has a piece of the slab map, 4 if of a payload, or 8 if
//	        it has a slab's delta
//	5   3   zero
//	8   4   number: of the slab in the version's slab map, of the piece in the map, or of the
//	        piece of a payload in the delivery (see Cargo)
//	12  12  nonce, if sealed
//	…       the slab's frame or delta or the piece's bytes, or its ciphertext and the 16 bytes of the tag
//
// The seal is AES-256-GCM; what stands before the ciphertext, and the delivery's
// session in four bytes, are authenticated with it.
const (
	magic      = "JGP1"
	HeadSize   = 12 // bytes that tell what a parcel has
	NonceSize  = 12 // bytes
	KeySize    = 32 // bytes
	tagSize    = 16
	maxFrame   = slabstore.MaxSlab + slabstore.MaxSlab/1024 + 64
	MaxSize    = HeadSize + NonceSize + maxFrame + tagSize // bytes of the longest parcel
	sealedFlag = 1
)

// pieceSize is how many bytes of the slab map, or of a payload, a piece has; the last has
// what is left.
const pieceSize = 1 << 20

// Pieces is how many pieces a slab map of size bytes has.
func Pieces(size int64) int { return int((size + pieceSize - 1) / pieceSize) }

// Piece is piece n of a slab map; none if the map does not reach so far.
func Piece(slabMap []byte, n int) []byte {
	size := len(slabMap)
	return slabMap[min(n*pieceSize, size):min((n+1)*pieceSize, size)]
}

// Kind is what a parcel has; the numbers are those of its layout.
type Kind byte

// What parcels have.
const (
	OfSlab    Kind = 0
	OfMap     Kind = 2 // a piece of the slab map
	OfPayload Kind = 4 // a piece of a payload
	OfDelta   Kind = 8 // a slab, told by what lies at its place on the disk
)

// Label tells what a parcel has.
type Label struct {
	Kind   Kind
	Number int
}

// Slab labels a slab by its number in the version's slab map.
func Slab(number int) Label { return Label{Number: number} }

// Delta labels a slab that is told by what lies at its place.
func Delta(number int) Label { return Label{OfDelta, number} }

// PieceOfMap labels a piece of the slab map.
func PieceOfMap(number int) Label { return Label{OfMap, number} }

// PieceOfPayload labels a piece of a payload by its number in the Cargo.
func PieceOfPayload(number int) Label { return Label{OfPayload, number} }

// ErrParcel says that bytes are no parcel, or not one of this delivery.
var ErrParcel = errors.New("not a parcel of this delivery")

func (l Label) head(flags byte) []byte {
	b := append(make([]byte, 0, HeadSize+NonceSize), magic...)
	b = append(b, flags|byte(l.Kind), 0, 0, 0)
	return binary.BigEndian.AppendUint32(b, uint32(l.Number))
}

// Peek tells what a parcel has from its first bytes.
func Peek(first []byte) (Label, error) {
	if len(first) < HeadSize || string(first[:4]) != magic || first[5]|first[6]|first[7] != 0 {
		return Label{}, ErrParcel
	}
	l := Label{Kind(first[4] &^ sealedFlag), int(binary.BigEndian.Uint32(first[8:]))}
	if l.Kind != OfSlab && l.Kind != OfMap && l.Kind != OfPayload && l.Kind != OfDelta {
		return Label{}, ErrParcel
	}
	return l, nil
}

func isSealed(b []byte) bool { return b[4]&sealedFlag != 0 }

// Pack makes an open parcel.
func Pack(l Label, content []byte) []byte { return append(l.head(0), content...) }

// Open reads an open parcel; the content stays in b. Errors wrap ErrParcel.
func Open(b []byte) (l Label, content []byte, err error) {
	l, err = Peek(b)
	switch {
	case err != nil:
		return Label{}, nil, err
	case isSealed(b):
		return Label{}, nil, fmt.Errorf("%w: it is sealed", ErrParcel)
	case len(b)-HeadSize > maxFrame:
		return Label{}, nil, fmt.Errorf("%w: %d bytes", ErrParcel, len(b)-HeadSize)
	}
	return l, b[HeadSize:], nil
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
func (s *Seal) Pack(l Label, content []byte, nonce [NonceSize]byte) []byte {
	b := append(l.head(sealedFlag), nonce[:]...)
	return s.aead.Seal(b, nonce[:], content, s.with(b))
}

// Open reads a sealed parcel. Errors wrap ErrParcel.
func (s *Seal) Open(b []byte) (l Label, content []byte, err error) {
	if l, err = Peek(b); err != nil {
		return Label{}, nil, err
	}
	if !isSealed(b) || len(b) < HeadSize+NonceSize+tagSize || len(b) > MaxSize {
		return Label{}, nil, fmt.Errorf("%w: it is not sealed", ErrParcel)
	}
	known := b[:HeadSize+NonceSize]
	content, err = s.aead.Open(nil, known[HeadSize:], b[len(known):], s.with(known))
	if err != nil {
		return Label{}, nil, fmt.Errorf("%w: its seal is not this delivery's", ErrParcel)
	}
	return l, content, nil
}

func (s *Seal) with(head []byte) []byte {
	return append(append(make([]byte, 0, len(head)+4), head...), s.session[:]...)
}
