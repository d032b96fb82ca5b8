package partition_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/partition"
)

const mib = 2048 // sectors of 512 bytes

// threePartitions is a usual GPT disk of 100 MiB: EFI, a large one, a small one
// behind it, free space of 9 MiB.
func threePartitions() *partition.Table {
	return &partition.Table{Scheme: partition.GPT, SectorSize: 512, Sectors: 100 * mib, DiskID: uuid.New(), FirstUsable: 34, LastUsable: 100*mib - 34, Slots: 128,
		Partitions: []partition.Partition{
			{Number: 1, Type: partition.EFISystem, ID: uuid.New(), First: mib, Last: 11*mib - 1},
			{Number: 2, Type: uuid.New(), ID: uuid.New(), First: 11 * mib, Last: 81*mib - 1, Name: "desk"},
			{Number: 3, Type: partition.WindowsRecovery, ID: uuid.New(), First: 81 * mib, Last: 91*mib - 1, Attributes: 1 << 63},
		}}
}

// mbrTable has a primary partition and an extended one with two logical ones on
// a disk of so many sectors.
func mbrTable(sectors uint64) *partition.Table {
	n := sectors / 16
	return &partition.Table{Scheme: partition.MBR, SectorSize: 512, Sectors: sectors, Signature: 0x5EEDBA4C, FirstUsable: 1, LastUsable: sectors - 1, Slots: 4,
		BootCode: []byte{0xFA, 0x90},
		Partitions: []partition.Partition{
			{Number: 1, Code: 7, Active: true, First: n, Last: 4*n - 1},
			{Number: 2, Code: 5, First: 4 * n, Last: 14*n - 1},
			{Number: 5, Code: 0x83, Record: 4 * n, First: 4*n + 1, Last: 8*n - 1},
			{Number: 6, Code: 0x82, Record: 8 * n, First: 8*n + 1, Last: 12*n - 1, BootCode: []byte{1, 2, 3}},
		}}
}

func TestTheChosenPartitionGrowsAndPushesTheOthers(t *testing.T) {
	for name, c := range map[string]struct {
		grow  partition.Grow
		large [3][2]uint64 // first and last MiB of each on a disk of 200 MiB
	}{
		"none":      {partition.GrowNone, [3][2]uint64{{1, 11}, {11, 81}, {81, 91}}},
		"last":      {partition.GrowLast, [3][2]uint64{{1, 11}, {11, 81}, {81, 199}}},
		"chosen":    {2, [3][2]uint64{{1, 11}, {11, 189}, {189, 199}}},
		"the first": {1, [3][2]uint64{{1, 119}, {119, 189}, {189, 199}}},
	} {
		t.Run(name, func(t *testing.T) {
			from := threePartitions()
			to, err := from.Onto(200<<20, 512, partition.Fit{Grow: c.grow})
			require.NoError(t, err)
			for i, p := range to.Partitions {
				assert.Equal(t, c.large[i][0]*mib, p.First, "start of partition %d", p.Number)
				assert.Equal(t, c.large[i][1]*mib-1, p.Last, "end of partition %d", p.Number)
				was := from.Partitions[i]
				was.First, was.Last = p.First, p.Last
				assert.Equal(t, was, p, "identity, type, name and attributes are kept")
			}
		})
	}
	_, err := threePartitions().Onto(200<<20, 512, partition.Fit{Grow: 4})
	assert.ErrorContains(t, err, "partition 4")
	same, err := threePartitions().Onto(100<<20, 512, partition.Fit{Grow: partition.GrowLast})
	require.NoError(t, err)
	assert.Empty(t, partition.Changes(threePartitions(), same), "on a disk of the same size all stays")
}

func TestASmallerDiskTakesWhatIsNeeded(t *testing.T) {
	needs := func(n int) int64 { return []int64{0, 10, 30, 2}[n] << 20 }
	const tail = 33 * 512
	for name, c := range map[string]struct {
		size int64
		want [3][2]uint64 // MiB; zero for the end of the disk
	}{
		"free space goes":       {91<<20 + tail, [3][2]uint64{{1, 11}, {11, 81}, {81, 91}}},
		"the last shrinks":      {85<<20 + tail, [3][2]uint64{{1, 11}, {11, 81}, {81, 85}}},
		"the large one shrinks": {61<<20 + tail, [3][2]uint64{{1, 11}, {11, 51}, {51, 61}}},
		"nothing to spare":      {43<<20 + tail, [3][2]uint64{{1, 11}, {11, 41}, {41, 43}}},
	} {
		t.Run(name, func(t *testing.T) {
			to, err := threePartitions().Onto(c.size, 512, partition.Fit{Needs: needs})
			require.NoError(t, err)
			for i, p := range to.Partitions {
				assert.Equal(t, c.want[i][0]*mib, p.First, "start of partition %d", p.Number)
				assert.Equal(t, c.want[i][1]*mib-1, p.Last, "end of partition %d", p.Number)
			}
		})
	}
	var small *partition.TooSmallError
	_, err := threePartitions().Onto(43<<20+tail-1, 512, partition.Fit{Needs: needs})
	require.ErrorAs(t, err, &small)
	assert.EqualValues(t, 43<<20+tail, small.Need, "to the byte")
	_, err = threePartitions().Onto(90<<20, 512, partition.Fit{})
	require.ErrorAs(t, err, &small)
	assert.EqualValues(t, 91<<20+tail, small.Need, "whole partitions, 32 sectors of entries and a header")
	_, err = threePartitions().Onto(100<<20, 4096, partition.Fit{})
	assert.ErrorIs(t, err, partition.ErrSectorSize)
}

// Whatever the layout and the disk: the bytes that are said to be needed are
// enough and one byte less is not, nothing overlaps, nothing loses what it needs.
func TestEveryPlanHolds(t *testing.T) {
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 1))
		table := threePartitions()
		switch seed % 3 {
		case 1:
			table = mbrTable(100 * mib)
		case 2:
			table = &partition.Table{Scheme: partition.None, SectorSize: 512, Sectors: 100 * mib, LastUsable: 100*mib - 1}
		}
		need := map[int]int64{0: 1 + r.Int64N(100<<20)}
		for _, p := range table.Partitions {
			need[p.Number] = r.Int64N(table.Size(p))
		}
		fit := partition.Fit{Grow: partition.GrowLast, Needs: func(n int) int64 { return need[n] }}
		if r.IntN(2) == 0 && len(table.Partitions) > 0 {
			fit.Grow = 1
		}
		var small *partition.TooSmallError
		_, err := table.Onto(4096, 512, fit)
		require.ErrorAs(t, err, &small)
		_, err = table.Onto(small.Need-1, 512, fit)
		require.ErrorAs(t, err, &small, "seed %d", seed)
		for _, size := range []int64{small.Need, small.Need + r.Int64N(100<<20), 100 << 20, 100<<20 + r.Int64N(1<<30)} {
			to, err := table.Onto(size, 512, fit)
			require.NoError(t, err, "seed %d, %d bytes", seed, size)
			require.NoError(t, to.Check(), "seed %d, %d bytes", seed, size)
			for _, p := range to.Partitions {
				was, _ := table.Partition(p.Number)
				if !p.Extended() {
					require.GreaterOrEqual(t, to.Size(p), need[p.Number], "seed %d, %d bytes, partition %d", seed, size, p.Number)
				}
				if p.Logical() {
					require.Equal(t, was.First-was.Record, p.First-p.Record, "seed %d: the record moves along", seed)
				}
			}
			disk := sparse{}
			require.NoError(t, to.Write(disk))
			got, err := partition.Read(disk, size, 512)
			require.NoError(t, err)
			require.Equal(t, fmt.Sprintf("%+v", to), fmt.Sprintf("%+v", got), "seed %d", seed)
		}
	}
}

// sparse is a disk of any size in memory, by sectors of 512 bytes.
type sparse map[int64][]byte

func (s sparse) WriteAt(b []byte, off int64) (int, error) {
	for i := 0; i < len(b); i += 512 {
		s[off/512+int64(i/512)] = bytes.Clone(b[i : i+512])
	}
	return len(b), nil
}

func (s sparse) ReadAt(b []byte, off int64) (int, error) {
	clear(b)
	for i := 0; i < len(b); i += 512 {
		copy(b[i:], s[off/512+int64(i/512)])
	}
	return len(b), nil
}

func TestParseGrow(t *testing.T) {
	for text, want := range map[string]partition.Grow{"last": partition.GrowLast, "none": partition.GrowNone, "3": 3} {
		got, err := partition.ParseGrow(text)
		require.NoError(t, err)
		assert.Equal(t, want, got)
		assert.Equal(t, text, got.String())
	}
	for _, text := range []string{"", "0", "-1", "first", "99999"} {
		_, err := partition.ParseGrow(text)
		assert.Error(t, err, text)
	}
}
