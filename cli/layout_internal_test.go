package cli

import (
	"bytes"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"

	"jugate/api"
)

func TestADisksLayoutFitsTheTerminal(t *testing.T) {
	const gib = 1 << 30
	for name, c := range map[string]struct {
		size    int64
		areas   []api.Area
		numbers string
		cells   int
	}{
		"nothing":       {gib, nil, "", 1},
		"one":           {gib, []api.Area{{Partition: 1, Start: 1 << 20, Size: gib - 2<<20, UsedBytes: gib / 2}}, "1", 1},
		"free behind":   {gib, []api.Area{{Partition: 1, Start: 1 << 20, Size: gib / 2}}, "1", 2},
		"free between":  {gib, []api.Area{{Partition: 1, Start: 1 << 20, Size: gib / 4}, {Partition: 3, Start: gib / 2, Size: gib/2 - 1<<20}}, "1 3", 3},
		"in any order":  {gib, []api.Area{{Partition: 2, Start: gib / 2, Size: gib/2 - 1<<20}, {Partition: 1, Start: 1 << 20, Size: gib/2 - 1<<20}}, "1 2", 2},
		"the gap":       {gib, []api.Area{{Partition: 0, Start: 512, Size: 1 << 20}, {Partition: 1, Start: 1 << 20, Size: gib - 1<<20}}, "1", 1},
		"without table": {gib, []api.Area{{Partition: 0, Start: 0, Size: gib, UsedBytes: gib}}, "disk", 1},
		"tiny ones":     {1 << 40, many(20), "1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19 20", 21},
	} {
		var out bytes.Buffer
		printLayout(&out, c.size, c.areas)
		lines := strings.Split(strings.TrimRight(out.String(), "\n"), "\n")
		lines = append(lines, "")
		assert.LessOrEqual(t, utf8.RuneCountInString(lines[0]), layoutWidth+1, name)
		assert.Equal(t, c.cells+1, strings.Count(lines[0], "│"), name)
		assert.Equal(t, c.numbers, strings.Join(strings.Fields(lines[1]), " "), name)
	}
	var out bytes.Buffer
	printLayout(&out, gib, []api.Area{{Partition: 1, Start: 0, Size: gib, UsedBytes: gib}})
	assert.NotContains(t, out.String(), "░", "full is full")
	out.Reset()
	printLayout(&out, gib, []api.Area{{Partition: 1, Start: 0, Size: gib, UsedBytes: 1}})
	assert.Equal(t, 1, strings.Count(out.String(), "█"), "a little in use is seen")
}

func many(n int) []api.Area {
	var all []api.Area
	for i := range n {
		all = append(all, api.Area{Partition: i + 1, Start: int64(i+1) << 20, Size: 1 << 20, UsedBytes: 1 << 19})
	}
	return all
}
