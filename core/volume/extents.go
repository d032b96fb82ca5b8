package volume

import (
	"errors"
	"fmt"
	"io"
	"iter"
	"math/bits"
)

// Ways to make and combine sequences of extents. A sequence that fails yields
// its error and ends.

// errStop ends a walk that has found what it looked for, errUnwanted one whose
// extents nobody wants any more.
var (
	errStop     = errors.New("found")
	errUnwanted = errors.New("unwanted")
)

func whole(size int64) iter.Seq2[Extent, error] {
	return func(yield func(Extent, error) bool) {
		if size > 0 {
			yield(Extent{0, size}, nil)
		}
	}
}

// joined merges extents that touch, and holds a reader to its promise: what it
// yields ascends, does not overlap, and ends within the volume.
func joined(extents iter.Seq2[Extent, error], size int64) iter.Seq2[Extent, error] {
	return func(yield func(Extent, error) bool) {
		var open Extent
		for e, err := range extents {
			switch {
			case err != nil:
				yield(Extent{}, err)
				return
			case e.Start < open.End() || e.Length <= 0 || e.Start > size-e.Length:
				yield(Extent{}, fmt.Errorf("%w: bytes %d to %d are said to be in use behind byte %d of %d", ErrDamaged, e.Start, e.End(), open.End(), size))
				return
			case e.Start == open.End():
				open.Length += e.Length
			default:
				if open.Length > 0 && !yield(open, nil) {
					return
				}
				open = e
			}
		}
		if open.Length > 0 {
			yield(open, nil)
		}
	}
}

// withFixed adds extents that are always in use, ascending, to a sequence. Where
// both say so, bytes are named once.
func withFixed(fixed []Extent, extents iter.Seq2[Extent, error]) iter.Seq2[Extent, error] {
	return func(yield func(Extent, error) bool) {
		next, end := 0, int64(0)
		put := func(e Extent) bool {
			if e.Start < end {
				e = Extent{end, e.End() - end}
			}
			if e.Length <= 0 {
				return true
			}
			end = e.End()
			return yield(e, nil)
		}
		for e, err := range extents {
			if err != nil {
				yield(Extent{}, err)
				return
			}
			for ; next < len(fixed) && fixed[next].Start <= e.Start; next++ {
				if !put(fixed[next]) {
					return
				}
			}
			if !put(e) {
				return
			}
		}
		for ; next < len(fixed); next++ {
			if !put(fixed[next]) {
				return
			}
		}
	}
}

// bitmap is a map of clusters, one bit each, that lies somewhere in a volume.
type bitmap struct {
	read     func(b []byte, off int64) error // bytes of the map
	bits     int64
	msbFirst bool
}

const bitmapPiece = 64 << 10 // bytes read at once

// runs yields runs of set bits: the first and how many. Runs may touch.
func (m bitmap) runs(yield func(first, count int64) bool) error {
	b := make([]byte, min(bitmapPiece, (m.bits+7)/8))
	for done := int64(0); done < m.bits; {
		n := min(int64(len(b))*8, m.bits-done)
		piece := b[:(n+7)/8]
		if err := m.read(piece, done/8); err != nil {
			return err
		}
		run := int64(0) // set bits right before bit i
		for i := int64(0); i < n; {
			c := piece[i/8]
			if i%8 == 0 && i+8 <= n && (c == 0 || c == 0xFF) {
				if c == 0xFF {
					run += 8
				} else if run > 0 {
					if !yield(done+i-run, run) {
						return nil
					}
					run = 0
				}
				i += 8
				continue
			}
			bit := byte(1) << (i % 8)
			if m.msbFirst {
				bit = 0x80 >> (i % 8)
			}
			if c&bit != 0 {
				run++
			} else if run > 0 {
				if !yield(done+i-run, run) {
					return nil
				}
				run = 0
			}
			i++
		}
		if run > 0 && !yield(done+n-run, run) {
			return nil
		}
		done += n
	}
	return nil
}

// extents turns set bits into extents: bit 0 is the cluster at base.
func (m bitmap) extents(base, cluster int64) iter.Seq2[Extent, error] {
	return func(yield func(Extent, error) bool) {
		err := m.runs(func(first, count int64) bool {
			return yield(Extent{base + first*cluster, count * cluster}, nil)
		})
		if err != nil {
			yield(Extent{}, err)
		}
	}
}

// onesIn counts the set bits among the first n of b, least significant first.
func onesIn(b []byte, n int64) int64 {
	var ones int
	for _, c := range b[:n/8] {
		ones += bits.OnesCount8(c)
	}
	if rest := n % 8; rest > 0 {
		ones += bits.OnesCount8(b[n/8] & (1<<rest - 1))
	}
	return int64(ones)
}

// head reads n bytes at off, or returns nil if the volume is too small for them.
func head(r io.ReaderAt, size, off int64, n int) ([]byte, error) {
	if size < off+int64(n) {
		return nil, nil
	}
	b := make([]byte, n)
	return b, readAt(r, b, off)
}

// readAt reads n bytes at off; running into the end of the volume is damage.
func readAt(r io.ReaderAt, b []byte, off int64) error {
	if off < 0 {
		return fmt.Errorf("%w: it refers to byte %d", ErrDamaged, off)
	}
	n, err := r.ReadAt(b, off)
	if n == len(b) {
		return nil
	}
	if err == nil || errors.Is(err, io.EOF) {
		return fmt.Errorf("%w: it refers to byte %d, behind its end", ErrDamaged, off+int64(len(b)))
	}
	return err
}

// checksumsMatter is false in fuzz tests only: what was changed at random would
// hardly ever have a checksum that fits.
var checksumsMatter = true

func powerOfTwo(n int64) bool { return n > 0 && n&(n-1) == 0 }

// Part is an extent in use and whether its content is worthless.
type Part struct {
	Extent
	Fleeting bool
}

// Parts goes through Used and tells what of it is fleeting.
func (v *Volume) Parts() iter.Seq2[Part, error] {
	return func(yield func(Part, error) bool) {
		left := v.Fleeting
		for e, err := range v.Used() {
			if err != nil {
				yield(Part{}, err)
				return
			}
			for e.Length > 0 {
				for len(left) > 0 && left[0].End() <= e.Start {
					left = left[1:]
				}
				part := Part{Extent: e}
				if len(left) > 0 && left[0].Start < e.End() {
					if left[0].Start <= e.Start {
						part = Part{Extent{e.Start, min(e.End(), left[0].End()) - e.Start}, true}
					} else {
						part.Length = left[0].Start - e.Start
					}
				}
				if !yield(part, nil) {
					return
				}
				e = Extent{part.End(), e.End() - part.End()}
			}
		}
	}
}
