package fec

// polynomial is the primitive polynomial of GF(2^8), x^8+x^4+x^3+x^2+1 (RFC 5510,
// section 8.1). It is also the one of the SIMD library that multiplies symbols.
const polynomial = 0x11D

// powers and logs of the primitive element α: powers[i] is α^i, doubled in length
// so that the sum of two logarithms needs no reduction; logs[0] is not used.
var (
	powers [2 * order]byte
	logs   [order + 1]int
)

const order = 255 // of the multiplicative group

func init() {
	x := 1
	for i := range order {
		powers[i], powers[i+order], logs[x] = byte(x), byte(x), i
		if x <<= 1; x > order {
			x ^= polynomial
		}
	}
}

// quotient is α^(a-b) for logarithms of any size.
func quotient(a, b int) byte {
	d := (a - b) % order
	if d < 0 {
		d += order
	}
	return powers[d]
}
