package image_test

import (
	"bytes"
	"io"
	"math/rand/v2"
	"os"
	"testing"

	"jugate/demo/goldimage"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/fileview"
	"jugate/core/image"
	"jugate/core/slabstore"
	"jugate/demo/golddisk"
	"jugate/demo/madeup"
)

// A view shows what a restored disk would have, without one: the golden disk's own
// bytes wherever they are in use, and its files.
func TestAViewShowsTheArea(t *testing.T) {
	gold := goldimage.Build(t, golddisk.Spec{Also: madeup.WriteKernel})
	sink := goldimage.NewSink(t)
	man, slabs, err := goldimage.Capture(t, gold, sink)
	require.NoError(t, err)
	disk, err := os.Open(gold.Path)
	require.NoError(t, err)
	defer disk.Close()
	_, err = image.NewView(man, slabs, 9, sink.Store)
	assert.Error(t, err, "there is no such partition")

	for _, area := range man.Areas {
		if area.Partition == 0 {
			continue
		}
		v, err := image.NewView(man, slabs, area.Partition, sink.Store)
		require.NoError(t, err)
		assert.Equal(t, area, v.Area())
		part, there := man.Table.Partition(area.Partition)
		require.True(t, there)
		start := man.Table.Start(part)
		for i := range slabs.Len() {
			s := slabs.Slab(i)
			if man.Areas[s.Area].Partition != area.Partition {
				continue
			}
			for _, e := range s.Extents {
				want, got := make([]byte, e.Length), make([]byte, e.Length)
				_, err := disk.ReadAt(want, start+e.Start)
				require.NoError(t, err)
				_, err = v.ReadAt(got, e.Start)
				require.NoError(t, err)
				require.True(t, bytes.Equal(want, got), "partition %d, %d bytes at %d", area.Partition, e.Length, e.Start)
			}
		}
		// Reads of any length across slabs are the same as one after the other.
		whole, err := io.ReadAll(io.NewSectionReader(v, 0, area.Size))
		require.NoError(t, err)
		require.Len(t, whole, int(area.Size))
		dice := rand.New(rand.NewPCG(1, 2))
		for range 200 {
			from := dice.Int64N(area.Size)
			b := make([]byte, dice.IntN(3<<20))
			n, err := v.ReadAt(b, from)
			if from+int64(len(b)) > area.Size {
				assert.ErrorIs(t, err, io.EOF)
			} else {
				require.NoError(t, err)
			}
			require.True(t, bytes.Equal(whole[from:from+int64(n)], b[:n]))
		}
		_, err = v.ReadAt(make([]byte, 1), area.Size)
		assert.ErrorIs(t, err, io.EOF)
	}

	v, err := image.NewView(man, slabs, 2, sink.Store)
	require.NoError(t, err)
	files, err := fileview.Open(v, v.Area().Size, v.Area().Kind)
	require.NoError(t, err)
	f, err := files.Open("etc/os-release")
	require.NoError(t, err)
	defer f.Close()
	text, err := io.ReadAll(f)
	require.NoError(t, err)
	assert.Contains(t, string(text), "Garden Linux 3 (made up)")
}

// A slab that is gone, or damaged, is an error and not zeros.
func TestAViewOfWhatIsGone(t *testing.T) {
	gold := goldimage.Build(t, golddisk.Spec{})
	sink := goldimage.NewSink(t)
	man, slabs, err := goldimage.Capture(t, gold, sink)
	require.NoError(t, err)
	v, err := image.NewView(man, slabs, 2, Nothing{})
	require.NoError(t, err)
	_, err = io.Copy(io.Discard, io.NewSectionReader(v, 0, v.Area().Size))
	assert.ErrorIs(t, err, slabstore.ErrNotFound)
	v, err = image.NewView(man, slabs, 2, Another{sink.Store})
	require.NoError(t, err)
	_, err = io.Copy(io.Discard, io.NewSectionReader(v, 0, v.Area().Size))
	assert.ErrorIs(t, err, slabstore.ErrDigest)
}

type Nothing struct{}

func (Nothing) Frame(slabstore.Digest) ([]byte, error) { return nil, slabstore.ErrNotFound }

// Another gives the frame of another slab.
type Another struct{ *slabstore.Store }

func (Another) Frame(slabstore.Digest) ([]byte, error) {
	return slabstore.Compress(nil, []byte("something else")), nil
}
