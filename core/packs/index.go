package packs

import (
	"bytes"
	"encoding/binary"
	"fmt"

	"github.com/klauspost/compress/zstd"
	"github.com/zeebo/blake3"

	"jugate/core/slabstore"
)

// Index says what is in a pack.
type Index struct {
	Pack  slabstore.Digest // of all its bytes
	Size  int64
	Lines []Line
}

// Line is one slab of a pack. Base is nothing for a frame.
type Line struct {
	Digest, Base   slabstore.Digest
	Offset, Length int64
}

// Encode gives the object that an index is: one Zstandard frame of
//
//	0   8   "JGINDX1\n"
//	8   32  digest of the pack
//	40  8   length of the pack
//	48  76n for each slab: digest 32, what it leans on or zeros 32, offset 8, length 4
//	…   32  BLAKE3-256 digest of all that
//
// with numbers little-endian.
func (x Index) Encode() []byte {
	b := append(bytes.Clone(indexMagic), x.Pack[:]...)
	b = binary.LittleEndian.AppendUint64(b, uint64(x.Size))
	for _, l := range x.Lines {
		b = append(append(b, l.Digest[:]...), l.Base[:]...)
		b = binary.LittleEndian.AppendUint64(b, uint64(l.Offset))
		b = binary.LittleEndian.AppendUint32(b, uint32(l.Length))
	}
	sum := blake3.Sum256(b)
	e, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1))
	if err != nil {
		panic(err) // the option above is a constant
	}
	defer e.Close()
	return e.EncodeAll(append(b, sum[:]...), nil)
}

// ParseIndex reads what Encode gives, and holds each slab against the length of the pack. Errors
// wrap ErrIndex.
func ParseIndex(raw []byte) (x Index, err error) {
	d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(maxIndex))
	if err != nil {
		return x, err
	}
	defer d.Close()
	b, err := d.DecodeAll(raw, nil)
	if err != nil {
		return x, fmt.Errorf("%w: %w", ErrIndex, err)
	}
	if len(b) < 80 || (len(b)-80)%lineBytes != 0 || !bytes.HasPrefix(b, indexMagic) {
		return x, fmt.Errorf("%w: %d bytes", ErrIndex, len(b))
	}
	body, sum := b[:len(b)-32], blake3.Sum256(b[:len(b)-32])
	if !bytes.Equal(sum[:], b[len(b)-32:]) {
		return x, fmt.Errorf("%w: its digest does not match", ErrIndex)
	}
	x.Pack, x.Size = slabstore.Digest(body[8:40]), int64(binary.LittleEndian.Uint64(body[40:]))
	if x.Size < int64(len(packMagic)) {
		return x, fmt.Errorf("%w: a pack of %d bytes", ErrIndex, x.Size)
	}
	for rest := body[48:]; len(rest) > 0; rest = rest[lineBytes:] {
		l := Line{slabstore.Digest(rest[:32]), slabstore.Digest(rest[32:64]), int64(binary.LittleEndian.Uint64(rest[64:])), int64(binary.LittleEndian.Uint32(rest[72:]))}
		if l.Offset < 0 || l.Length > 2*slabstore.MaxSlab || l.Offset > x.Size-l.Length {
			return x, fmt.Errorf("%w: a slab at %d of %d bytes, in a pack of %d", ErrIndex, l.Offset, l.Length, x.Size)
		}
		x.Lines = append(x.Lines, l)
	}
	return x, nil
}
