package restore_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/image"
	"jugate/core/restore"
	"jugate/core/slabstore"
	"jugate/demo/golddisk"
	"jugate/demo/goldimage"
)

func plainNoise(seed uint64, n int) []byte {
	b := make([]byte, n)
	rand.NewChaCha8([32]byte{byte(seed), byte(seed >> 8), 1}).Read(b)
	return b
}

// delivered is a golden disk, and a copy of its first version.
func delivered(t *testing.T) (*golddisk.Disk, *goldimage.Sink, *image.Map, *os.File) {
	gold, sink := goldimage.Build(t, golddisk.Spec{}), goldimage.NewSink(t)
	man, slabs, err := goldimage.Capture(t, gold, sink)
	require.NoError(t, err)
	target := goldimage.Open(t, gold.Size)
	require.NoError(t, restored(t, man, slabs, sink.Store, target, gold.Size))
	return gold, sink, slabs, target
}

// A disk goes from version to version by what differs, and is cut off on the way again and
// again, also in the middle of a write: in the end it is the golden one each time.
func TestADiskGoesFromVersionToVersionByDeltas(t *testing.T) {
	dice := rand.New(rand.NewPCG(7, 8))
	gold, sink, slabs, target := delivered(t)
	byDelta, whole, cuts := 0, 0, 0
	for n := range 10 {
		require.NoError(t, gold.AddFile(t.Context(), fmt.Sprint("labels-", n), plainNoise(uint64(n), 50_000)))
		before := slabs
		var man *image.Manifest
		var err error
		man, slabs, err = goldimage.Capture(t, gold, sink)
		require.NoError(t, err)
		bases := image.Bases(before, slabs, 1000)
		require.Positive(t, bases.Len())
		bases, err = image.ParseBases(bases.Bytes(), man)
		require.NoError(t, err)
		took := image.Replaced(slabs, bases)
		for done := false; !done; {
			r, err := restore.New(man, slabs, target, gold.Size, 512, restore.Options{})
			require.NoError(t, err)
			_, err = r.TakeStock(t.Context(), true, nil)
			require.NoError(t, err)
			based, err := r.TakeBases(t.Context(), bases)
			require.NoError(t, err)
			_, err = r.Begin(t.Context(), nil)
			require.NoError(t, err)
			missing := slices.Collect(r.Missing().All())
			dice.Shuffle(len(missing), func(i, j int) { missing[i], missing[j] = missing[j], missing[i] })
			done = true
			for _, i := range missing {
				s := slabs.Slab(i)
				if dice.IntN(4) == 0 { // the power goes in the middle of a write
					done, cuts = false, cuts+1
					start, _, _ := image.Placed(man.Table, man.Areas[s.Area].Partition)
					_, err := target.WriteAt([]byte("half a write"), start+s.Extents[0].Start)
					require.NoError(t, err)
					break
				}
				if based.Has(i) {
					base, err := sink.Get(bases.Slab(took[i]).Digest)
					require.NoError(t, err)
					plain, err := sink.Get(s.Digest)
					require.NoError(t, err)
					delta, err := slabstore.CompressDelta(nil, plain, base, slabstore.Sum(base))
					require.NoError(t, err)
					lacked, err := r.WriteDelta(i, delta)
					require.NoError(t, err)
					require.True(t, lacked)
					byDelta++
					lacked, err = r.WriteDelta(i, delta)
					require.NoError(t, err)
					require.False(t, lacked, "it is there")
					continue
				}
				whole++
				frame, err := sink.Frame(s.Digest)
				require.NoError(t, err)
				_, err = r.WriteFrame(i, frame)
				require.NoError(t, err)
			}
			if done {
				require.NoError(t, r.Finish(t.Context(), nil))
			}
		}
		want, err := gold.Dump(t.Context())
		require.NoError(t, err)
		got, err := gold.On(target.Name()).Dump(t.Context())
		require.NoError(t, err)
		require.Equal(t, want, got)
		require.NoError(t, gold.On(target.Name()).Check(t.Context()))
	}
	t.Logf("%d slabs by delta, %d whole, cut off %d times", byDelta, whole, cuts)
	assert.Greater(t, byDelta, 5)
	assert.Positive(t, cuts)
}

// What is not what a delta was made for is told apart, and nothing is written.
func TestADeltaForWhatIsNotThere(t *testing.T) {
	gold, sink, slabs, target := delivered(t)
	before := slabs
	require.NoError(t, gold.AddFile(t.Context(), "labels", plainNoise(1, 50_000)))
	man, slabs, err := goldimage.Capture(t, gold, sink)
	require.NoError(t, err)
	bases := image.Bases(before, slabs, 1000)
	r, err := restore.New(man, slabs, target, gold.Size, 512, restore.Options{})
	require.NoError(t, err)
	_, err = r.TakeStock(t.Context(), true, nil)
	require.NoError(t, err)
	based, err := r.TakeBases(t.Context(), bases)
	require.NoError(t, err)
	i := slices.Collect(based.All())[0]
	plain, err := sink.Get(slabs.Slab(i).Digest)
	require.NoError(t, err)
	half := len(plain) / 2
	other := slices.Concat(plain[half:], plain[:half]) // much of it is where it is not on the disk
	delta, err := slabstore.CompressDelta(nil, plain, other, slabstore.Sum(other))
	require.NoError(t, err)
	_, err = r.WriteDelta(i, delta)
	assert.True(t, errors.Is(err, slabstore.ErrDigest) || errors.Is(err, slabstore.ErrDelta), "%v", err)
	assert.True(t, r.Needs(i))
	_, err = r.WriteDelta(i, []byte("rubbish"))
	assert.ErrorIs(t, err, slabstore.ErrDelta)
	for n := range slabs.Len() { // one without a base
		if !based.Has(n) {
			_, err = r.WriteDelta(n, delta)
			assert.Error(t, err)
			break
		}
	}
}
