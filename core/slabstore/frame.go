package slabstore

import (
	"fmt"
	"sync"

	"jugate/core/fault"

	"github.com/klauspost/compress/zstd"
)

// MaxSlab is the most plain bytes that one slab can have. Nothing larger is
// decompressed, whatever a frame claims.
const MaxSlab = 4 << 20

// ErrFrame says that bytes are no frame of a slab: not Zstandard, without the
// length of its content, or longer than MaxSlab.
var ErrFrame = fault.Invalid.Errorf("not a slab's frame")

var encoder = sync.OnceValue(func() *zstd.Encoder {
	// A single segment makes even the shortest frame state the length of its content; a window
	// of usual slabs keeps the memory small.
	e, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderCRC(false), zstd.WithSingleSegment(true), zstd.WithWindowSize(1<<20))
	if err != nil {
		panic(err) // the options above are constants
	}
	return e
})

var decoder = sync.OnceValue(func() *zstd.Decoder {
	d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(0), zstd.WithDecoderMaxMemory(MaxSlab))
	if err != nil {
		panic(err)
	}
	return d
})

// Compress appends to dst the slab's frame: one Zstandard frame (RFC 8878) that
// states the length of its content. It may be called from several goroutines.
func Compress(dst, plain []byte) []byte { return encoder().EncodeAll(plain, dst) }

// Expand appends the plain bytes of a frame to dst. Errors wrap ErrFrame.
func Expand(dst, frame []byte) ([]byte, error) { return expand(decoder(), dst, frame) }

func expand(d *zstd.Decoder, dst, frame []byte) ([]byte, error) {
	var h zstd.Header
	if err := h.Decode(frame); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrFrame, err)
	}
	if h.Skippable || !h.HasFCS || h.FrameContentSize > MaxSlab {
		return nil, fmt.Errorf("%w: it states no length, or one over %d bytes", ErrFrame, MaxSlab)
	}
	plain, err := d.DecodeAll(frame, dst)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrFrame, err)
	}
	if n := uint64(len(plain) - len(dst)); n != h.FrameContentSize {
		return nil, fmt.Errorf("%w: it states %d bytes and holds %d", ErrFrame, h.FrameContentSize, n)
	}
	return plain, nil
}

// ExpandChecked is Expand and a check of the digest; a difference wraps ErrDigest.
func ExpandChecked(dst, frame []byte, want Digest) ([]byte, error) {
	plain, err := Expand(dst, frame)
	if err != nil {
		return nil, err
	}
	return plain, checkDigest(plain[len(dst):], want)
}

func checkDigest(plain []byte, want Digest) error {
	if got := Sum(plain); got != want {
		return fmt.Errorf("%w: wanted %s, got %s", ErrDigest, want.Short(), got.Short())
	}
	return nil
}
