package cli

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"

	"jugate/api"
)

// layoutWidth is how many characters a disk's layout takes on a terminal.
const layoutWidth = 78

// printLayout draws a disk of size bytes as a bar: a cell for each partition, as
// wide as it is large but never too narrow to see, filled as far as it is used;
// free space is empty. Below stand the partitions' numbers.
//
//	│▌│██████░░░░░░░░░░░░░░░░░░░│▒▒│      │
//	 1 2                         3
func printLayout(w io.Writer, size int64, areas []api.Area) {
	type cell struct {
		label      string
		size, used int64
		free       bool
		width      int
	}
	var cells []cell
	end := int64(0)
	sorted := slices.SortedFunc(slices.Values(areas), func(a, b api.Area) int { return cmp.Compare(a.Start, b.Start) })
	for _, a := range sorted {
		whole := a.Partition == 0 && a.Size >= size/2 // a disk without a table
		if a.Partition == 0 && !whole {
			continue
		}
		if gap := a.Start - end; gap > size/50 {
			cells = append(cells, cell{size: gap, free: true})
		}
		label := fmt.Sprint(a.Partition)
		if whole {
			label = "disk"
		}
		cells = append(cells, cell{label: label, size: a.Size, used: a.UsedBytes})
		end = a.Start + a.Size
	}
	if gap := size - end; gap > size/50 {
		cells = append(cells, cell{size: gap, free: true})
	}
	if len(cells) == 0 {
		return
	}
	// Every cell gets two characters, the rest by size.
	room := layoutWidth - len(cells) - 1 - 2*len(cells)
	for i := range cells {
		cells[i].width = 2 + int(int64(max(room, 0))*cells[i].size/max(size, 1))
	}
	var bar, numbers strings.Builder
	bar.WriteString("│")
	numbers.WriteString(" ")
	for _, c := range cells {
		full := 0
		if !c.free {
			full = min(c.width, int((c.used*int64(c.width)+c.size-1)/max(c.size, 1)))
		}
		rest := "░"
		if c.free {
			rest = " "
		}
		bar.WriteString(strings.Repeat("█", full) + strings.Repeat(rest, c.width-full) + "│")
		numbers.WriteString(text.Pad(text.Trim(c.label, c.width), c.width+1, ' '))
	}
	fmt.Fprintln(w, bar.String())
	fmt.Fprintln(w, strings.TrimRight(numbers.String(), " "))
}
