package slabstore

import (
	"bytes"
	"fmt"
	"math/bits"

	"github.com/klauspost/compress/zstd"

	"jugate/core/fault"
)

// A delta tells a slab by what it has in common with another one, its base:
//
//	0   4   50 2A 4D 18, the magic number of a skippable frame (RFC 8878, section 3.1.2)
//	4   4   36, how long that is, little-endian
//	8   4   "JGD1"
//	12  32  digest of the base
//	44  …   one Zstandard frame that states the length of its content, and was made with the
//	        base's plain bytes as raw content dictionary (section 5): they are taken as they
//	        are, whatever they begin with
const (
	deltaHead = 44
	maxDelta  = deltaHead + MaxSlab + MaxSlab/1024 + 64
)

var deltaMagic = []byte("\x50\x2A\x4D\x18\x24\x00\x00\x00JGD1")

// ErrDelta says that bytes are not a delta.
var ErrDelta = fault.Invalid.Errorf("not a slab's delta")

// CompressDelta appends to dst the delta that makes plain of base, whose digest is of. The
// level is higher than that of frames: what is found in the base is worth it.
func CompressDelta(dst, plain, base []byte, of Digest) ([]byte, error) {
	window := 1 << max(bits.Len(uint(len(plain)+len(base))), 16) // that is all there is to look back at
	e, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedBetterCompression), zstd.WithEncoderCRC(false), zstd.WithSingleSegment(true),
		zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(window), zstd.WithEncoderDictRaw(0, base))
	if err != nil {
		return nil, err
	}
	defer e.Close()
	return e.EncodeAll(plain, append(append(dst, deltaMagic...), of[:]...)), nil
}

// BaseOf is the digest of the slab that a delta needs. Errors wrap ErrDelta.
func BaseOf(delta []byte) (of Digest, err error) {
	if len(delta) < deltaHead || !bytes.HasPrefix(delta, deltaMagic) {
		return of, ErrDelta
	}
	copy(of[:], delta[len(deltaMagic):])
	return of, nil
}

// ExpandDelta appends the slab that a delta makes of base to dst. Nobody has checked its
// digest, or the base's. Errors wrap ErrDelta.
func ExpandDelta(dst, delta, base []byte) ([]byte, error) {
	if _, err := BaseOf(delta); err != nil {
		return nil, err
	}
	if len(delta) > maxDelta || len(base) > MaxSlab {
		return nil, fmt.Errorf("%w: %d bytes, on a base of %d", ErrDelta, len(delta), len(base))
	}
	d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(MaxSlab), zstd.WithDecoderDictRaw(0, base))
	if err != nil {
		return nil, err
	}
	defer d.Close()
	plain, err := expand(d, dst, delta[deltaHead:])
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrDelta, err)
	}
	return plain, nil
}

// ExpandDeltaChecked is ExpandDelta and a check of the digest; a difference wraps ErrDigest.
func ExpandDeltaChecked(dst, delta, base []byte, want Digest) ([]byte, error) {
	plain, err := ExpandDelta(dst, delta, base)
	if err != nil {
		return nil, err
	}
	return plain, checkDigest(plain[len(dst):], want)
}
