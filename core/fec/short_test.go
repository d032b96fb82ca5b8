package fec_test

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"jugate/core/fec"
)

func TestAShortLastSymbolIsRecovered(t *testing.T) {
	dice := rand.New(rand.NewPCG(3, 3))
	for _, last := range []int{1, 7, 33, 100, 1439} {
		source := symbols(dice, 2, 1440)
		source[1] = source[1][:last]
		code := fec.Shortened(fec.ZeroFirst, 100, 2)
		for esi := 2; esi < 5; esi++ {
			p := make([]byte, 1440)
			require.NoError(t, code.Parity(p, esi, source))
			got := [][]byte{source[0], make([]byte, last)}
			require.NoError(t, code.Recover(got, []int{1}, []fec.Received{{ESI: esi, Bytes: p}}))
			require.Equal(t, source[1], got[1], "%d %d", last, esi)
		}
	}
}
