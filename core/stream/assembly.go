package stream

import (
	"iter"
	"math/bits"
	"slices"
)

// Assembly puts frames together out of datagrams in any order. It holds the
// frames that are not whole yet, up to a limit in bytes; when that is passed,
// the one begun first is given up. It is not safe for use by several goroutines.
type Assembly struct {
	session uint32
	limit   int64
	wanted  func(slab int) bool

	partials map[uint32]*Partial
	order    []uint32 // of partials, by their first datagram
	held     int64    // bytes of all partials
}

// NewAssembly makes an assembly for one session that holds at most limit bytes
// of unfinished frames. Slabs that wanted does not want are passed over.
func NewAssembly(session uint32, limit int64, wanted func(slab int) bool) *Assembly {
	return &Assembly{session: session, limit: limit, wanted: wanted, partials: map[uint32]*Partial{}}
}

// Partial is a frame of which some datagrams have come.
type Partial struct {
	Slab  int
	Frame []byte // the bytes of Missing ranges are zero

	have  []uint64 // a bit for each datagram
	count int
}

// Range is a run of bytes of a frame.
type Range struct{ Start, Length int64 }

// Add takes one datagram. When it makes a frame whole, that frame is returned
// and forgotten.
func (a *Assembly) Add(d Datagram) (frame []byte) {
	if d.Session != a.session {
		return nil
	}
	p := a.partials[d.Slab]
	if p == nil {
		if !a.wanted(int(d.Slab)) {
			return nil
		}
		p = a.begin(d)
	}
	if len(p.Frame) != int(d.Length) {
		return nil // another sender's idea of this slab; the digest decides in the end
	}
	n := d.Offset / PayloadSize
	if p.have[n/64]&(1<<(n%64)) != 0 {
		return nil
	}
	p.have[n/64] |= 1 << (n % 64)
	copy(p.Frame[d.Offset:], d.Payload)
	if p.count++; p.count < p.datagrams() {
		return nil
	}
	a.remove(d.Slab)
	return p.Frame
}

func (a *Assembly) begin(d Datagram) *Partial {
	for a.held+int64(d.Length) > a.limit && len(a.order) > 0 {
		a.remove(a.order[0])
	}
	p := &Partial{Slab: int(d.Slab), Frame: make([]byte, d.Length)}
	p.have = make([]uint64, (p.datagrams()+63)/64)
	a.partials[d.Slab] = p
	a.order = append(a.order, d.Slab)
	a.held += int64(d.Length)
	return p
}

func (a *Assembly) remove(slab uint32) {
	a.held -= int64(len(a.partials[slab].Frame))
	delete(a.partials, slab)
	a.order = slices.DeleteFunc(a.order, func(s uint32) bool { return s == slab })
}

// Oldest returns the partial that was begun first, if more than keep are held.
func (a *Assembly) Oldest(keep int) (*Partial, bool) {
	if len(a.order) <= keep {
		return nil, false
	}
	return a.partials[a.order[0]], true
}

// Take removes a partial, so that its owner can mend it.
func (a *Assembly) Take(p *Partial) { a.remove(uint32(p.Slab)) }

func (p *Partial) datagrams() int { return (len(p.Frame) + PayloadSize - 1) / PayloadSize }

// Have is how many bytes of the frame are there.
func (p *Partial) Have() int64 {
	missing := int64(0)
	for r := range p.Missing() {
		missing += r.Length
	}
	return int64(len(p.Frame)) - missing
}

// Torn is how many ranges are missing.
func (p *Partial) Torn() (n int) {
	for range p.Missing() {
		n++
	}
	return n
}

// Missing goes through the ranges of the frame that did not come.
func (p *Partial) Missing() iter.Seq[Range] {
	return func(yield func(Range) bool) {
		for n := 0; n < p.datagrams(); {
			// The next datagram that is missing, then the next that is there.
			n = p.next(n, false)
			end := p.next(n, true)
			if n >= p.datagrams() {
				return
			}
			r := Range{Start: int64(n) * PayloadSize}
			r.Length = min(int64(end)*PayloadSize, int64(len(p.Frame))) - r.Start
			if !yield(r) {
				return
			}
			n = end
		}
	}
}

// next finds the first datagram from n on that is there, or that is missing.
func (p *Partial) next(n int, there bool) int {
	for total := p.datagrams(); n < total; {
		word := p.have[n/64]
		if !there {
			word = ^word
		}
		if word >>= n % 64; word != 0 {
			return min(n+bits.TrailingZeros64(word), total)
		}
		n = (n/64 + 1) * 64
	}
	return p.datagrams()
}
