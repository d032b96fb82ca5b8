// Package fec is the Reed-Solomon erasure code over GF(2^8) of RFC 5510: from k
// source symbols it makes parity symbols, and from any k symbols of both kinds it
// gets the source back.
//
//	code := fec.New(fec.Standard, k)
//	code.Parity(dst, esi, source)      // esi from k to MaxSymbols-1
//	err := code.Recover(source, missing, parity)
//
// The generator matrix of the RFC, the inverse of the first k columns of a
// Vandermonde matrix times the whole of it, is never formed. Its columns are
// evaluations: the source symbols are the values of a polynomial of degree below
// k at the points of the first k columns, and a parity symbol is its value at
// another point. Making parity and recovering are then the same Lagrange
// interpolation, between different points, and a symbol can be made alone, when
// somebody asks for it.
package fec

import (
	"errors"
	"fmt"
	"sync"

	"github.com/klauspost/reedsolomon"
)

// MaxSymbols is the largest number of source and parity symbols of a block.
const MaxSymbols = 255

// Points is the choice of the Vandermonde matrix.
type Points uint8

const (
	// Standard is the matrix of RFC 5510, section 8.2: column j has the powers of
	// α^j, and a block of k source symbols uses the matrix for k.
	Standard Points = iota
	// ZeroFirst has the powers of 0 in column 0 and those of α^(j-1) in column j,
	// and a short block counts as one of the full length that ends in zeros. Older
	// implementations of RFC 5740 send that under the same FEC encoding id.
	ZeroFirst
)

var (
	// ErrTooFew says that there are fewer symbols than a block needs.
	ErrTooFew = errors.New("too few symbols to recover the block")
	// ErrSymbol says that a symbol's number or length is not one of the block's.
	ErrSymbol = errors.New("a symbol that does not belong to the block")
)

// Code makes parity for blocks of one length. It is safe for use by several
// goroutines.
type Code struct {
	points []byte // of each column
	k      int    // columns that are source symbols
	n      int    // source symbols that are there; fewer than k if shortened
	// weights are the logarithms of Π (x_i - x_m) over all m ≠ i below k.
	weights []int
}

type codeKey struct {
	points Points
	k, n   int
}

var codes sync.Map // codeKey to *Code: at most 2 × 255 × 255, in use a handful

// New returns the code for blocks of k source symbols, 1 to MaxSymbols.
func New(p Points, k int) *Code { return Shortened(p, k, k) }

// Shortened returns the code for a block of n source symbols among blocks of k.
func Shortened(p Points, k, n int) *Code {
	if n < 1 || n > k || k > MaxSymbols {
		panic(fmt.Sprintf("fec: a block of %d of %d symbols", n, k))
	}
	if p == Standard {
		k = n
	}
	key := codeKey{p, k, n}
	if c, ok := codes.Load(key); ok {
		return c.(*Code)
	}
	c := &Code{k: k, n: n, points: make([]byte, MaxSymbols), weights: make([]int, k)}
	for j := range c.points {
		switch {
		case p == Standard:
			c.points[j] = powers[j]
		case j > 0:
			c.points[j] = powers[j-1]
		}
	}
	for i := range k {
		for m := range k {
			if m != i {
				c.weights[i] += logs[c.points[i]^c.points[m]]
			}
		}
	}
	actual, _ := codes.LoadOrStore(key, c)
	return actual.(*Code)
}

// Symbols is how many source symbols a block has.
func (c *Code) Symbols() int { return c.n }

// MaxParity is how many different parity symbols there are for a block.
func (c *Code) MaxParity() int { return MaxSymbols - c.k }

// column is the matrix column of an encoding symbol id.
func (c *Code) column(esi int) int {
	if esi < c.n {
		return esi
	}
	return esi - c.n + c.k
}

// ParityID is the encoding symbol id of parity symbol i.
func (c *Code) ParityID(i int) int { return c.n + i }

// Parity makes the parity symbol with that encoding symbol id. Source symbols may
// be shorter than dst and count as filled up with zeros.
func (c *Code) Parity(dst []byte, esi int, source [][]byte) error {
	if esi < c.n || c.column(esi) >= MaxSymbols || len(source) != c.n {
		return fmt.Errorf("%w: parity %d of a block of %d", ErrSymbol, esi, c.n)
	}
	x := c.points[c.column(esi)]
	all := 0 // the logarithm of Π (x - x_m)
	for m := range c.k {
		all += logs[x^c.points[m]]
	}
	clear(dst)
	for i, s := range source {
		if len(s) > len(dst) {
			return fmt.Errorf("%w: %d bytes, parity has %d", ErrSymbol, len(s), len(dst))
		}
		add(dst, quotient(all, logs[x^c.points[i]]+c.weights[i]), s)
	}
	return nil
}

// Received is a parity symbol that has come.
type Received struct {
	ESI   int
	Bytes []byte
}

// Recover writes the missing source symbols: source has all of the block's, and
// those whose numbers are in missing are overwritten. As many parity symbols are
// needed as are missing, of one length, that of the longest source symbol; the
// others may be shorter. Errors wrap ErrTooFew and ErrSymbol.
func (c *Code) Recover(source [][]byte, missing []int, parity []Received) error {
	if len(parity) < len(missing) {
		return fmt.Errorf("%w: %d of %d source symbols and %d parity symbols", ErrTooFew, c.n-len(missing), c.n, len(parity))
	}
	if len(source) != c.n {
		return fmt.Errorf("%w: %d source symbols, the block has %d", ErrSymbol, len(source), c.n)
	}
	parity = parity[:len(missing)]
	var lost [MaxSymbols]bool
	for _, i := range missing {
		if i < 0 || i >= c.n || lost[i] {
			return fmt.Errorf("%w: number %d is missing", ErrSymbol, i)
		}
		lost[i] = true
	}
	var seen [MaxSymbols]bool
	for _, p := range parity {
		if p.ESI < c.n || c.column(p.ESI) >= MaxSymbols || seen[p.ESI] || len(p.Bytes) != len(parity[0].Bytes) {
			return fmt.Errorf("%w: parity %d of %d bytes", ErrSymbol, p.ESI, len(p.Bytes))
		}
		seen[p.ESI] = true
	}
	// The polynomial is known at k points: those of the source symbols that came,
	// of the zeros behind a shortened block, and of the parity symbols. numerator
	// is Π (x - x_m) over these, denominator the same for a known point without itself.
	difference := func(x, y byte) int { return logs[x^y] }
	point := func(p Received) byte { return c.points[c.column(p.ESI)] }
	denominators := make([]int, c.n+len(parity))
	for i := range c.n {
		if lost[i] {
			continue
		}
		d := c.weights[i]
		for _, m := range missing {
			d -= difference(c.points[i], c.points[m])
		}
		for _, p := range parity {
			d += difference(c.points[i], point(p))
		}
		denominators[i] = d
	}
	for j, p := range parity {
		d := 0
		for m := range c.k {
			if m >= c.n || !lost[m] {
				d += difference(point(p), c.points[m])
			}
		}
		for _, q := range parity {
			if q.ESI != p.ESI {
				d += difference(point(p), point(q))
			}
		}
		denominators[c.n+j] = d
	}
	for _, want := range missing {
		x := c.points[want]
		numerator := 0
		for m := range c.k {
			if m >= c.n || !lost[m] {
				numerator += difference(x, c.points[m])
			}
		}
		for _, p := range parity {
			numerator += difference(x, point(p))
		}
		dst := source[want]
		clear(dst)
		for i, s := range source {
			if !lost[i] {
				add(dst, quotient(numerator, difference(x, c.points[i])+denominators[i]), s[:min(len(s), len(dst))])
			}
		}
		for j, p := range parity {
			add(dst, quotient(numerator, difference(x, point(p))+denominators[c.n+j]), p.Bytes[:min(len(p.Bytes), len(dst))])
		}
	}
	return nil
}

var simd reedsolomon.LowLevel

// add adds c times src to dst.
func add(dst []byte, c byte, src []byte) {
	if len(src) > 0 {
		simd.GalMulSliceXor(c, src, dst)
	}
}
