package parcel

import "sort"

// Payload is a file that a delivery brings along with its image.
type Payload struct {
	Digest string `json:"digest"` // BLAKE3-256 of the content
	Size   int64  `json:"size"`   // bytes
}

// Cargo numbers everything that the stream of a delivery carries: the slabs of the version
// first, then piece after piece of its payloads, in their order. The zero value carries
// nothing.
type Cargo struct {
	slabs    int
	payloads []Payload
	ends     []int // number after the last piece, by payload
}

// NewCargo numbers a delivery of so many slabs, with these payloads.
func NewCargo(slabs int, payloads []Payload) *Cargo {
	c := &Cargo{slabs: slabs, payloads: payloads}
	for next := slabs; len(c.ends) < len(payloads); {
		next += Pieces(payloads[len(c.ends)].Size)
		c.ends = append(c.ends, next)
	}
	return c
}

// Len is how many slabs and pieces there are.
func (c *Cargo) Len() int {
	if n := len(c.ends); n > 0 {
		return c.ends[n-1]
	}
	return c.slabs
}

// PayloadBytes is how long all payloads are together.
func (c *Cargo) PayloadBytes() (sum int64) {
	for _, p := range c.payloads {
		sum += p.Size
	}
	return sum
}

// IsSlab tells whether a number is that of a slab.
func (c *Cargo) IsSlab(number int) bool { return number < c.slabs }

// Part is where a piece lies in its payload.
type Part struct {
	Payload Payload
	At      int64 // where it begins in the payload, in bytes
	Length  int   // bytes
}

// Part tells where the piece of a number lies, which has to be between those of the slabs and Len.
func (c *Cargo) Part(number int) Part {
	i := sort.SearchInts(c.ends, number+1)
	p := Part{Payload: c.payloads[i]}
	first, _ := c.numbers(i)
	p.At = int64(number-first) * pieceSize
	p.Length = int(min(pieceSize, p.Payload.Size-p.At))
	return p
}

// Numbers are those of the pieces of a payload, from first to before end; none if it is not
// in the cargo.
func (c *Cargo) Numbers(digest string) (first, end int) {
	for i, p := range c.payloads {
		if p.Digest == digest {
			return c.numbers(i)
		}
	}
	return 0, 0
}

func (c *Cargo) numbers(i int) (first, end int) {
	if first = c.slabs; i > 0 {
		first = c.ends[i-1]
	}
	return first, c.ends[i]
}
