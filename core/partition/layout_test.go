package partition_test

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/partition"
)

func layout(t *testing.T, shares string) partition.Layout {
	t.Helper()
	l, err := partition.ParseLayout(strings.Fields(shares))
	require.NoError(t, err)
	return l
}

func TestALayoutIsReadAndSaid(t *testing.T) {
	l := layout(t, "3=40% 1=500MB data=rest")
	assert.Equal(t, partition.Layout{{Number: 3, Percent: 40}, {Number: 1, Bytes: 500e6}, {Name: "data", Rest: true}}, l)
	for _, s := range l {
		assert.Equal(t, partition.Layout{s}, layout(t, s.String()))
	}
	for _, wrong := range []string{"", "=rest", "3", "3=", "0=rest", "9999=rest", "3=0%", "3=101%", "3=0", "3=-5GB", "3=much", "3=rest 4=rest", "3=60% 4=60%", "3=1GB 3=2GB", "data=1GB DATA=2GB", strings.Repeat("x", 37) + "=rest"} {
		shares := strings.Fields(wrong)
		if wrong == "" {
			shares = []string{""}
		}
		_, err := partition.ParseLayout(shares)
		assert.Error(t, err, wrong)
	}
}

func TestPartitionsHaveTheSizesOfALayout(t *testing.T) {
	for shares, want := range map[string][]uint64{ // last MiB of each on a disk of 200 MiB
		"2=rest":               {11, 189, 199},
		"2=50%":                {11, 110, 120},
		"1=20MiB 3=rest":       {21, 91, 199},
		"2=90MiB data=rest":    {11, 101, 111, 199},
		"data=40MiB":           {11, 81, 91, 131},
		"data=10% media=rest":  {11, 81, 91, 110, 199},
		"3=1MiB 2=1MiB 1=1MiB": {2, 3, 4},
	} {
		to, err := threePartitions().Onto(200<<20, 512, partition.Fit{Grow: partition.GrowLast, Layout: layout(t, shares), Needs: func(int) int64 { return 1 << 20 }})
		require.NoError(t, err, shares)
		require.NoError(t, to.Check())
		var got []uint64
		for _, p := range to.Partitions {
			got = append(got, (p.Last+1)/mib)
		}
		assert.Equal(t, want, got, shares)
	}
	image := threePartitions()
	to, err := image.Onto(200<<20, 512, partition.Fit{Layout: layout(t, "data=rest")})
	require.NoError(t, err)
	again, err := image.Onto(200<<20, 512, partition.Fit{Layout: layout(t, "data=rest")})
	require.NoError(t, err)
	assert.True(t, to.Equal(again), "a plan is the same each time")
	assert.Equal(t, "data", to.Partitions[3].Name)
	assert.Equal(t, image.Partitions[1].Type, to.Partitions[3].Type, "it is like the largest of the image")

	kept, err := keeping(t, to, "label=data")
	require.NoError(t, err)
	next, err := image.Onto(200<<20, 512, partition.Fit{Layout: layout(t, "2=rest"), Beside: kept})
	require.NoError(t, err)
	assert.Len(t, next.Partitions, 4)
	next, err = image.Onto(200<<20, 512, partition.Fit{Layout: layout(t, "data=rest"), Beside: kept})
	require.NoError(t, err)
	assert.Len(t, next.Partitions, 4, "what the layout adds is there already, and kept")
	assert.Equal(t, to.Partitions[3].First, next.Partitions[3].First)
}

func TestALayoutThatCannotBeHadSaysWhy(t *testing.T) {
	onto := func(table *partition.Table, shares string) error {
		_, err := table.Onto(200<<20, 512, partition.Fit{Layout: layout(t, shares), Needs: func(int) int64 { return 5 << 20 }})
		return err
	}
	assert.ErrorContains(t, onto(threePartitions(), "7=rest"), "partition 7")
	assert.ErrorContains(t, onto(threePartitions(), "2=4MiB"), "needs at least 5242880 bytes, and the layout gives it 4194304")
	assert.ErrorContains(t, onto(threePartitions(), "2=300MiB"), "too little room")
	assert.ErrorContains(t, onto(threePartitions(), "2=190MiB data=rest"), "too little room")
	assert.ErrorContains(t, onto(mbrTable(100*mib), "data=rest"), "have none")
	assert.ErrorContains(t, onto(partition.Bare(100<<20, 512), "1=rest"), "no layout")
	full := threePartitions()
	full.Slots = 4
	assert.NoError(t, onto(full, "data=rest"))
	assert.ErrorContains(t, onto(full, "data=10MiB media=rest"), "no entry left")
}

// Whatever the layout: what comes of it can be written, and nothing has less than it needs.
func TestEveryLayoutHolds(t *testing.T) {
	planned := 0
	for seed := range uint64(2000) {
		r := rand.New(rand.NewPCG(seed, 3))
		table, names := threePartitions(), []string{"1", "2", "3", "data", "media"}
		if seed%2 == 1 {
			table, names = mbrTable(100*mib), []string{"1", "5", "6"}
		}
		var shares []string
		rest := false
		for _, name := range names {
			switch r.IntN(5) {
			case 0:
				shares = append(shares, name+"="+[]string{"1", "10MB", "33333333", "60MiB"}[r.IntN(4)])
			case 1:
				shares = append(shares, name+"="+[]string{"1%", "7%", "20%"}[r.IntN(3)])
			case 2:
				if !rest {
					shares = append(shares, name+"=rest")
				}
				rest = true
			}
		}
		if shares == nil {
			continue
		}
		need := r.Int64N(8 << 20)
		size := int64(60<<20) + r.Int64N(400<<20)
		to, err := table.Onto(size, 512, partition.Fit{Layout: layout(t, strings.Join(shares, " ")), Needs: func(int) int64 { return need }})
		if err != nil {
			continue // that is counted
		}
		planned++
		require.NoError(t, to.Check(), "seed %d", seed)
		for _, p := range table.Partitions {
			is, there := to.Partition(p.Number)
			require.True(t, there, "seed %d", seed)
			if !p.Extended() {
				require.GreaterOrEqual(t, to.Size(is), min(need, table.Size(p)), "seed %d, partition %d", seed, p.Number)
			}
		}
	}
	assert.Greater(t, planned, 700)
}
