package likeness_test

import (
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"jugate/core/likeness"
)

func noise(seed byte, n int) []byte {
	b := make([]byte, n)
	rand.NewChaCha8([32]byte{seed}).Read(b)
	return b
}

func TestTheMostLikeIsFound(t *testing.T) {
	var slabs [][]byte
	var sketches []likeness.Sketch
	for i := range 50 {
		slabs = append(slabs, noise(byte(i), 1<<20))
		sketches = append(sketches, likeness.Of(slabs[i]))
		assert.Len(t, sketches[i], likeness.Size)
	}
	wanted := [][]byte{
		slices.Concat(noise(100, 700_000), slabs[7][:300_000]),                  // three tenths of one, elsewhere
		slices.Concat(slabs[12][:400_000], slabs[13][:200_000], noise(101, 9)),  // more of one than of another
		slices.Concat(slabs[20][:1000], noise(102, 50_000), slabs[20][51_000:]), // a file was overwritten
		noise(103, 1<<20),                     // like none
		make([]byte, 1<<20),                   // nothing to go by
		slabs[30][500_000:540_000],            // a small piece
		slices.Concat([]byte("x"), slabs[31]), // not at any boundary
	}
	var want []likeness.Sketch
	for _, w := range wanted {
		want = append(want, likeness.Of(w))
	}
	search := likeness.NewSearch(want)
	for i := range sketches {
		search.Offer(i, sketches[i])
	}
	for i, expected := range []int{7, 12, 20, -1, -1, 30, 31} {
		got, found := search.Best(i)
		assert.Equal(t, expected >= 0, found, "wanted %d", i)
		if found {
			assert.Equal(t, expected, got, "wanted %d", i)
		}
	}
}

func TestTheFirstOfEqualsCounts(t *testing.T) {
	s := likeness.Of(noise(1, 200_000))
	search := likeness.NewSearch([]likeness.Sketch{s})
	search.Offer(3, s)
	search.Offer(4, s)
	got, found := search.Best(0)
	assert.True(t, found)
	assert.Equal(t, 3, got)
}

// Sketches are kept: what a slab had yesterday it has to have tomorrow.
func TestASketchIsAlwaysTheSame(t *testing.T) {
	assert.Equal(t, likeness.Sketch{}, likeness.Of(nil))
	text := make([]byte, 10_000)
	for i := range text {
		text[i] = byte(i*i>>3 ^ i>>7)
	}
	assert.Equal(t, likeness.Sketch{0x2a4254c, 0x470d0f19, 0x52b6f74b, 0x55d11153, 0x6048a159, 0x6eb50ab3, 0x719d4307, 0x76e0e0ce, 0x7f533770, 0x9a65549c, 0xd1d3e0c8}, likeness.Of(text))
}

func BenchmarkOf(b *testing.B) {
	plain := noise(1, 1<<20)
	b.SetBytes(1 << 20)
	for b.Loop() {
		likeness.Of(plain)
	}
}
