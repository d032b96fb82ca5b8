package image

import (
	"slices"

	"jugate/core/partition"
)

// Difference is what differs between two versions, A and B, in one area.
type Difference struct {
	Partition int   `json:"partition"` // slot in the table; 0 is the gap
	A         *Area `json:"a,omitempty"`
	B         *Area `json:"b,omitempty"`
	// Bytes in use: the same in both; at the same places but different, the longer
	// of the two counted; in one only. Places are compared by whole slabs.
	Same    int64 `json:"same"`
	Changed int64 `json:"changed"`
	OnlyA   int64 `json:"only_a"`
	OnlyB   int64 `json:"only_b"`
}

// Comparison is how two versions differ.
type Comparison struct {
	SameTable bool         `json:"same_table"`
	Areas     []Difference `json:"areas"`
	// New are the bytes of slabs that B has and A has nowhere, each counted once:
	// what storing or sending B costs where A is.
	New int64 `json:"new"`
}

// Different tells whether anything differs.
func (c *Comparison) Different() bool {
	return !c.SameTable || slices.ContainsFunc(c.Areas, func(d Difference) bool {
		return d.A == nil || d.B == nil || d.Changed+d.OnlyA+d.OnlyB > 0
	})
}

// Compare compares two versions by their maps; no slab is read.
func Compare(a *Manifest, aSlabs *Map, b *Manifest, bSlabs *Map) *Comparison {
	c := &Comparison{SameTable: sameLayout(a.Table, b.Table), Areas: []Difference{}}
	var numbers []int
	for _, m := range []*Manifest{a, b} {
		for _, area := range m.Areas {
			if !slices.Contains(numbers, area.Partition) {
				numbers = append(numbers, area.Partition)
			}
		}
	}
	slices.Sort(numbers)
	for _, n := range numbers {
		d := Difference{Partition: n}
		var left, right []Slab
		d.A, left = areaOf(a, aSlabs, n)
		d.B, right = areaOf(b, bSlabs, n)
		d.merge(left, right)
		c.Areas = append(c.Areas, d)
	}
	has := map[[32]byte]struct{}{}
	for _, digest := range aSlabs.Distinct() {
		has[digest] = struct{}{}
	}
	for i, digest := range bSlabs.Distinct() {
		if _, there := has[digest]; !there {
			c.New += bSlabs.Slab(i).Length()
		}
	}
	return c
}

// sameLayout compares tables without the size of their disks.
func sameLayout(a, b *partition.Table) bool {
	x, y := *a, *b
	x.Sectors, x.LastUsable = y.Sectors, y.LastUsable
	return x.Equal(&y)
}

func areaOf(m *Manifest, slabs *Map, number int) (*Area, []Slab) {
	i := slices.IndexFunc(m.Areas, func(a Area) bool { return a.Partition == number })
	if i < 0 {
		return nil, nil
	}
	var in []Slab
	for j := range slabs.Len() {
		if s := slabs.Slab(j); s.Area == i {
			in = append(in, s)
		}
	}
	return &m.Areas[i], in
}

// merge goes through the slabs of both, which are in the order of the disk,
// stretch by stretch.
func (d *Difference) merge(a, b []Slab) {
	for len(a) > 0 || len(b) > 0 {
		var x, y []Slab
		if len(b) == 0 || len(a) > 0 && a[0].Start <= b[0].Start {
			x = stretch(a)
		}
		if len(a) == 0 || len(b) > 0 && b[0].Start <= a[0].Start {
			y = stretch(b)
		}
		a, b = a[len(x):], b[len(y):]
		switch {
		case len(y) == 0:
			d.OnlyA += lengths(x)
		case len(x) == 0:
			d.OnlyB += lengths(y)
		case slices.EqualFunc(x, y, func(s, t Slab) bool { return s.Digest == t.Digest && slices.Equal(s.Extents, t.Extents) }):
			d.Same += lengths(x)
		default:
			d.Changed += max(lengths(x), lengths(y))
		}
	}
}

// stretch is the slabs at the front that are of one stretch.
func stretch(slabs []Slab) []Slab {
	n := 1
	for n < len(slabs) && slabs[n].Start == slabs[0].Start {
		n++
	}
	return slabs[:n]
}

func lengths(slabs []Slab) int64 {
	var n int64
	for _, s := range slabs {
		n += s.Length()
	}
	return n
}
