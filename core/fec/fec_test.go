package fec_test

import (
	"math/rand/v2"
	"testing"

	"github.com/klauspost/reedsolomon"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/fec"
)

// multiply and power are GF(2^8) as RFC 5510, section 8.1, defines it: bit by bit.
func multiply(a, b byte) (product byte) {
	for ; b != 0; b >>= 1 {
		if b&1 != 0 {
			product ^= a
		}
		carry := a & 0x80
		if a <<= 1; carry != 0 {
			a ^= 0x1D
		}
	}
	return product
}

func power(a byte, n int) byte {
	p := byte(1)
	for range n {
		p = multiply(p, a)
	}
	return p
}

// generator is GM = V(k,k)^-1 * V(k,n), by Gauss and Jordan, straight from the RFC.
func generator(point func(j int) byte, k, n int) [][]byte {
	rows := make([][]byte, k) // V(k,k) | V(k,n), row i has the powers i
	for i := range rows {
		for j := range k {
			rows[i] = append(rows[i], power(point(j), i))
		}
		for j := range n {
			rows[i] = append(rows[i], power(point(j), i))
		}
	}
	for c := range k {
		p := c
		for rows[p][c] == 0 {
			p++
		}
		rows[c], rows[p] = rows[p], rows[c]
		inverse := power(rows[c][c], 254)
		for j := range rows[c] {
			rows[c][j] = multiply(rows[c][j], inverse)
		}
		for r := range rows {
			if f := rows[r][c]; r != c && f != 0 {
				for j := range rows[r] {
					rows[r][j] ^= multiply(f, rows[c][j])
				}
			}
		}
	}
	for i := range rows {
		rows[i] = rows[i][k:]
	}
	return rows
}

func symbols(dice *rand.Rand, n, size int) [][]byte {
	all := make([][]byte, n)
	for i := range all {
		all[i] = make([]byte, size)
		for j := range all[i] {
			all[i][j] = byte(dice.Uint32())
		}
	}
	return all
}

var points = map[string]struct {
	points fec.Points
	point  func(j int) byte
}{
	"standard": {fec.Standard, func(j int) byte { return power(2, j) }},
	"zero first": {fec.ZeroFirst, func(j int) byte {
		if j == 0 {
			return 0
		}
		return power(2, j-1)
	}},
}

// The parity is that of the generator matrix which the RFC spells out, as another
// library computes it with that matrix.
func TestParityIsThatOfTheGeneratorMatrix(t *testing.T) {
	dice := rand.New(rand.NewPCG(5510, 1))
	for name, p := range points {
		for _, k := range []int{1, 2, 4, 64, 200} {
			parity := min(20, fec.MaxSymbols-k)
			gm := generator(p.point, k, k+parity)
			matrix := make([][]byte, parity)
			for j := range matrix {
				for i := range k {
					matrix[j] = append(matrix[j], gm[i][k+j])
				}
			}
			judge, err := reedsolomon.New(k, parity, reedsolomon.WithCustomMatrix(matrix))
			require.NoError(t, err)
			shards := append(symbols(dice, k, 100), symbols(dice, parity, 100)...)
			require.NoError(t, judge.Encode(shards))
			code := fec.New(p.points, k)
			got := make([]byte, 100)
			for j := range parity {
				require.NoError(t, code.Parity(got, code.ParityID(j), shards[:k]))
				require.Equal(t, shards[k+j], got, "%s, k %d, parity %d", name, k, j)
			}
		}
	}
}

func TestAnyKSymbolsAreEnough(t *testing.T) {
	dice := rand.New(rand.NewPCG(5510, 2))
	for name, p := range points {
		for range 200 {
			k := 1 + dice.IntN(120)
			n := 1 + dice.IntN(k)
			code := fec.Shortened(p.points, k, n)
			source := symbols(dice, n, 64)
			source[n-1] = source[n-1][:1+dice.IntN(64)] // the last of an object is short
			if n == 1 {
				source[0] = source[0][:cap(source[0])]
			}
			lost := dice.Perm(n)[:min(dice.IntN(n+1), code.MaxParity())]
			var parity []fec.Received
			for _, j := range dice.Perm(code.MaxParity())[:len(lost)] {
				b := make([]byte, 64)
				require.NoError(t, code.Parity(b, code.ParityID(j), source))
				parity = append(parity, fec.Received{ESI: code.ParityID(j), Bytes: b})
			}
			torn := make([][]byte, n)
			for i := range torn {
				torn[i] = append([]byte(nil), source[i]...)
			}
			for _, i := range lost {
				for j := range torn[i] {
					torn[i][j] = 0xEE
				}
			}
			require.NoError(t, code.Recover(torn, lost, parity))
			require.Equal(t, source, torn, "%s, %d of %d, lost %v", name, n, k, lost)
		}
	}
}

func TestWhatCannotBeRecoveredIsAnError(t *testing.T) {
	code := fec.New(fec.Standard, 4)
	source := symbols(rand.New(rand.NewPCG(1, 1)), 4, 8)
	p := make([]byte, 8)
	require.NoError(t, code.Parity(p, 4, source))
	good := fec.Received{ESI: 4, Bytes: p}
	for name, c := range map[string]struct {
		source  [][]byte
		missing []int
		parity  []fec.Received
		want    error
	}{
		"too few":          {source, []int{0, 1}, []fec.Received{good}, fec.ErrTooFew},
		"twice the same":   {source, []int{0, 1}, []fec.Received{good, good}, fec.ErrSymbol},
		"missing twice":    {source, []int{1, 1}, []fec.Received{good, {5, p}}, fec.ErrSymbol},
		"missing nowhere":  {source, []int{4}, []fec.Received{good}, fec.ErrSymbol},
		"source as parity": {source, []int{0}, []fec.Received{{3, p}}, fec.ErrSymbol},
		"no such parity":   {source, []int{0}, []fec.Received{{255, p}}, fec.ErrSymbol},
		"other lengths":    {source, []int{0, 1}, []fec.Received{good, {5, p[:7]}}, fec.ErrSymbol},
		"other block":      {source[:3], []int{0}, []fec.Received{good}, fec.ErrSymbol},
	} {
		assert.ErrorIs(t, code.Recover(c.source, c.missing, c.parity), c.want, name)
	}
	assert.ErrorIs(t, code.Parity(p, 3, source), fec.ErrSymbol)
	assert.ErrorIs(t, code.Parity(p[:4], 4, source), fec.ErrSymbol)
	assert.NoError(t, code.Recover(source, nil, nil))
	assert.Panics(t, func() { fec.New(fec.Standard, 256) })
}

func BenchmarkParity(b *testing.B) {
	code := fec.New(fec.Standard, 192)
	source := symbols(rand.New(rand.NewPCG(1, 1)), 192, 1440)
	dst := make([]byte, 1440)
	b.SetBytes(192 * 1440)
	for b.Loop() {
		code.Parity(dst, 192, source)
	}
}

func BenchmarkRecoverFour(b *testing.B) {
	code := fec.New(fec.Standard, 192)
	source := symbols(rand.New(rand.NewPCG(1, 1)), 192, 1440)
	var parity []fec.Received
	for j := range 4 {
		p := make([]byte, 1440)
		code.Parity(p, 192+j, source)
		parity = append(parity, fec.Received{ESI: 192 + j, Bytes: p})
	}
	b.SetBytes(192 * 1440)
	for b.Loop() {
		code.Recover(source, []int{3, 50, 90, 191}, parity)
	}
}
