package disk_test

import (
	"math/rand/v2"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/disk"
)

// Whatever way a piece takes, past the page cache or through it, everybody sees the same.
func TestBothWaysToTheMediumAgree(t *testing.T) {
	const size = 2<<20 + 512
	for name, open := range map[string]func(t *testing.T) string{
		"file":         func(t *testing.T) string { return fill(t, size) },
		"block device": func(t *testing.T) string { return loop(t, fill(t, size)) },
	} {
		t.Run(name, func(t *testing.T) {
			path := open(t)
			d, err := disk.Open(path, disk.Options{Write: true})
			require.NoError(t, err)
			defer d.Close()
			want := make([]byte, size)
			_, err = d.ReadAt(want, 0)
			require.NoError(t, err)
			dice := rand.New(rand.NewPCG(1, 2))
			noise := rand.NewChaCha8([32]byte{})
			buffer := disk.Buffer(1 << 20)
			for range 300 {
				unit := []int{1, 512, 4096, 64 << 10}[dice.IntN(4)]
				skew := []int{0, 0, 1, 512}[dice.IntN(4)]
				off := dice.IntN(size/unit) * unit
				piece := buffer[skew:min(skew+(1+dice.IntN(1<<20/unit))*unit, len(buffer))]
				piece = piece[:min(len(piece), size-off)]
				if dice.IntN(2) == 0 {
					noise.Read(piece)
					copy(want[off:], piece)
					n, err := d.WriteAt(piece, int64(off))
					require.NoError(t, err)
					require.Len(t, piece, n)
				} else {
					_, err := d.ReadAt(piece, int64(off))
					require.NoError(t, err)
					require.Equal(t, want[off:off+len(piece)], piece, "%d bytes at %d, %d bytes into the buffer", len(piece), off, skew)
				}
			}
			require.NoError(t, d.Sync())
			got, err := os.ReadFile(path)
			require.NoError(t, err)
			assert.Equal(t, want, got)
		})
	}
}

func TestReadingStopsAtTheEndOfTheDisk(t *testing.T) {
	d, err := disk.Open(fill(t, 128<<10+512), disk.Options{})
	require.NoError(t, err)
	defer d.Close()
	n, err := d.ReadAt(disk.Buffer(256<<10), 0)
	assert.Error(t, err)
	assert.Equal(t, 128<<10+512, n)
}
