package partition_test

import (
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/partition"
)

func TestWhatIsKeptIsNamedInThreeWays(t *testing.T) {
	disk := threePartitions()
	labels := func(p partition.Partition) string { return map[int]string{1: "EFI", 3: "Data"}[p.Number] }
	for text, want := range map[string][]int{
		"3": {3}, "label=data": {3}, "label=DESK": {2}, "type=" + partition.EFISystem.String(): {1},
	} {
		keep, err := partition.ParseRef(text)
		require.NoError(t, err)
		assert.Equal(t, text, keep.String())
		kept, err := disk.Keeping([]partition.Ref{keep, keep}, labels)
		require.NoError(t, err, text)
		var got []int
		for _, p := range kept.Partitions {
			got = append(got, p.Number)
		}
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"", "0", "-1", "label=", "type=", "type=0", "type=xx", "type=00000000-0000-0000-0000-000000000000", "name=DATA", "four"} {
		_, err := partition.ParseRef(text)
		assert.Error(t, err, text)
	}
}

// keeping is what a disk keeps under those names.
func keeping(t *testing.T, disk *partition.Table, names ...string) (*partition.Table, error) {
	t.Helper()
	var all []partition.Ref
	for _, name := range names {
		keep, err := partition.ParseRef(name)
		require.NoError(t, err)
		all = append(all, keep)
	}
	return disk.Keeping(all, func(partition.Partition) string { return "" })
}

func TestWhatCannotBeKeptSaysWhy(t *testing.T) {
	_, err := keeping(t, threePartitions(), "5")
	assert.ErrorContains(t, err, "no partition 5")
	_, err = keeping(t, mbrTable(100*mib), "5")
	assert.ErrorContains(t, err, "logical")
	_, err = keeping(t, partition.Bare(100<<20, 512), "1")
	assert.ErrorContains(t, err, "no partition table")
	stale := threePartitions()
	stale.FromBackup = true
	_, err = keeping(t, stale, "1")
	assert.ErrorContains(t, err, "forgotten backup")

	image, onto := threePartitions(), func(image *partition.Table, size int64, disk *partition.Table, names ...string) error {
		kept, err := keeping(t, disk, names...)
		require.NoError(t, err)
		_, err = image.Onto(size, 512, partition.Fit{Grow: partition.GrowLast, Beside: kept})
		return err
	}
	assert.ErrorContains(t, onto(image, 400<<20, threePartitions(), "3"), "name it by its label")
	assert.ErrorContains(t, onto(mbrTable(100*mib), 100<<20, threePartitions(), "3"), "another kind (gpt) than the image (mbr)")
	assert.ErrorContains(t, onto(partition.Bare(100<<20, 512), 100<<20, threePartitions(), "3"), "takes the whole disk")
	full := mbrTable(100 * mib)
	full.Partitions = append(full.Partitions[:2:2], append([]partition.Partition{{Number: 3, Code: 7, First: 90 * mib, Last: 92*mib - 1}, {Number: 4, Code: 7, First: 92 * mib, Last: 94*mib - 1}}, full.Partitions[2:]...)...)
	assert.ErrorContains(t, onto(full, 200<<20, &partition.Table{Scheme: partition.MBR, SectorSize: 512, Sectors: 200 * mib, FirstUsable: 1, LastUsable: 200*mib - 1, Slots: 4,
		Partitions: []partition.Partition{{Number: 1, Code: 0x42, First: 150 * mib, Last: 160*mib - 1}}}, "type=42"), "no entry left")
	var small *partition.TooSmallError
	require.ErrorAs(t, onto(image, 100<<20, threePartitions(), "label=desk"), &small)
	assert.ErrorContains(t, small, "too little room")
}

func TestThePartitionThatTheImageBroughtGivesWayToItself(t *testing.T) {
	image := threePartitions()
	before, err := image.Onto(200<<20, 512, partition.Fit{Grow: 2})
	require.NoError(t, err)
	kept, err := keeping(t, before, "3")
	require.NoError(t, err)
	assert.True(t, image.GivesWay(kept, 3))
	assert.False(t, image.GivesWay(kept, 2))
	assert.False(t, image.GivesWay(nil, 2))
	again, err := image.Onto(200<<20, 512, partition.Fit{Grow: 2, Beside: kept})
	require.NoError(t, err)
	require.Len(t, again.Partitions, 3)
	is, _ := again.Partition(3)
	was, _ := before.Partition(3)
	assert.Equal(t, was.First, is.First)
	assert.True(t, is.Kept)
	assert.Empty(t, partition.Changes(before, again))
	_, err = image.Onto(200<<20, 512, partition.Fit{Grow: 3, Beside: kept})
	assert.ErrorContains(t, err, "cannot grow")

	mbr := mbrTable(100 * mib)
	kept, err = keeping(t, mbr, "1")
	require.NoError(t, err)
	assert.True(t, mbr.GivesWay(kept, 1), "by disk signature and number")
	mbr.Signature++
	assert.False(t, mbr.GivesWay(kept, 1))
}

// Whatever is kept, and wherever: it stays where it is, nothing overlaps it, and what the
// image needs is there; or the plan says why not.
func TestEveryPlanBesideWhatIsKeptHolds(t *testing.T) {
	planned := 0
	for seed := range uint64(2000) {
		r := rand.New(rand.NewPCG(seed, 2))
		size := int64(100<<20) + r.Int64N(400<<20)
		image, disk := threePartitions(), &partition.Table{Scheme: partition.GPT, SectorSize: 512, Sectors: uint64(size) / 512, FirstUsable: 34, LastUsable: uint64(size)/512 - 34, Slots: 128}
		if seed%2 == 1 {
			image, disk.Scheme, disk.FirstUsable, disk.LastUsable, disk.Slots = mbrTable(100*mib), partition.MBR, 1, uint64(size)/512-1, 4
		}
		at := uint64(2048) + r.Uint64N(100*mib)
		for n := 1; n <= 1+r.IntN(3); n++ {
			p := partition.Partition{Number: n, First: at, Last: at + r.Uint64N(60*mib)}
			if p.Last > disk.LastUsable {
				break
			}
			if disk.Scheme == partition.GPT {
				p.ID, p.Type = uuid.New(), partition.WindowsRecovery
			} else {
				p.Code = 0x42
			}
			disk.Partitions = append(disk.Partitions, p)
			at = p.Last + 1 + r.Uint64N(100*mib)
		}
		if len(disk.Partitions) == 0 {
			continue
		}
		name := "type=" + partition.WindowsRecovery.String()
		if disk.Scheme == partition.MBR {
			name = "type=42"
		}
		kept, err := keeping(t, disk, name)
		require.NoError(t, err)
		need := map[int]int64{}
		for _, p := range image.Partitions {
			need[p.Number] = r.Int64N(image.Size(p))
		}
		to, err := image.Onto(size, 512, partition.Fit{Grow: []partition.Grow{partition.GrowLast, partition.GrowNone, 1}[r.IntN(3)], Beside: kept, Needs: func(n int) int64 { return need[n] }})
		if err != nil {
			continue // Check has not let a wrong one pass; that there are right ones is counted
		}
		planned++
		require.NoError(t, to.Check())
		for _, was := range disk.Partitions {
			require.True(t, slices.ContainsFunc(to.Partitions, func(p partition.Partition) bool { return p.Kept && p.First == was.First && p.Last == was.Last }),
				"seed %d: partition %d stays", seed, was.Number)
		}
		require.Len(t, to.Partitions, len(image.Partitions)+len(disk.Partitions), "seed %d", seed)
		for _, was := range image.Partitions {
			is, there := to.Partition(was.Number)
			require.True(t, there && !is.Kept, "seed %d", seed)
			if !was.Extended() {
				require.GreaterOrEqual(t, to.Size(is), need[was.Number], "seed %d, partition %d", seed, was.Number)
			}
			if was.Logical() {
				require.Equal(t, was.First-was.Record, is.First-is.Record, "seed %d: the record moves along", seed)
			}
		}
	}
	assert.Greater(t, planned, 500)
}
