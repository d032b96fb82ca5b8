package partition

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"

	"jugate/core/fault"
)

// alignment is what partitions that move begin at a multiple of, in bytes.
const alignment = 1 << 20

// Grow says which partition takes the room that a larger disk has: GrowSystem,
// GrowLast, GrowNone or a partition's number.
type Grow int

// The partition with the operating system grows, the last one on the disk, or none. Which
// one has the system is for whoever knows what is in them; to a table alone GrowSystem is
// GrowLast.
const (
	GrowSystem Grow = -2
	GrowLast   Grow = -1
	GrowNone   Grow = 0
)

// ParseGrow reads "system", "last", "none" or a partition's number.
func ParseGrow(s string) (Grow, error) {
	switch s {
	case "system":
		return GrowSystem, nil
	case "last":
		return GrowLast, nil
	case "none":
		return GrowNone, nil
	}
	n, err := strconv.Atoi(s)
	if err != nil || n < 1 || n > maxSlots {
		return GrowNone, fault.Invalid.Errorf(`%q does not say which partition grows: "system", "last", "none" or a number do`, s)
	}
	return Grow(n), nil
}

// String is what ParseGrow reads.
func (g Grow) String() string {
	switch g {
	case GrowSystem:
		return "system"
	case GrowLast:
		return "last"
	case GrowNone:
		return "none"
	}
	return strconv.Itoa(int(g))
}

// Fit says how a table may change to lie on another disk.
type Fit struct {
	Grow Grow
	// Needs tells how many bytes from its start a partition has to keep; 0 asks
	// for the disk of a table without partitions. Nil keeps all whole.
	Needs func(number int) int64
	// Layout, if set, says how large partitions become; Grow says nothing then.
	Layout Layout
	// Beside has the partitions of the disk that stay, as Keeping finds them; nil for none.
	Beside *Table
}

// TooSmallError says how many bytes a disk lacks for a table.
type TooSmallError struct {
	Need, Have int64 // bytes
	// Beside says that it is not the disk that is meant, but what can be had of it.
	Beside bool
}

func (e *TooSmallError) Error() string {
	if e.Beside {
		return fmt.Sprintf("there is too little room: the largest free stretch of the disk has %d bytes, and %d are needed", e.Have, e.Need)
	}
	return fmt.Sprintf("the disk is too small: it has %d bytes and needs %d", e.Have, e.Need)
}

// Change is what Onto did to one partition. Sectors are inclusive.
type Change struct {
	Number              int
	FromFirst, FromLast uint64
	ToFirst, ToLast     uint64
}

// Moved tells whether the partition begins elsewhere.
func (c Change) Moved() bool { return c.FromFirst != c.ToFirst }

// Grown is by how many sectors the partition became longer.
func (c Change) Grown() int64 {
	return int64(c.ToLast-c.ToFirst) - int64(c.FromLast-c.FromFirst)
}

// Changes lists what is different for the partitions of from in to, in the
// order of the table.
func Changes(from, to *Table) []Change {
	var changes []Change
	for _, p := range from.Partitions {
		q, ok := to.Partition(p.Number)
		if ok && !q.Kept && (p.First != q.First || p.Last != q.Last) {
			changes = append(changes, Change{p.Number, p.First, p.Last, q.First, q.Last})
		}
	}
	return changes
}

// Onto plans the same table for a disk of size bytes; nothing is written.
//
// On a disk of the same size or larger, partitions stay where they are, but that
// one may grow to fill it and push those behind it along. On a smaller disk, what
// lies behind the last partition goes first, then the last partition shrinks to
// what it needs, then all move together, and those with the most to spare shrink.
// A GPT's backup is at the end.
//
// Beside partitions that stay, the others lie in the largest free stretch, in their order;
// one of the image's that the disk keeps is left out. A kept one has its number, or
// another that is free. With a layout, all lie one behind the other in that stretch.
//
// Errors are *TooSmallError, name a partition to grow that is not there, say why a partition
// cannot be kept or a layout cannot be had, or wrap ErrSectorSize.
func (t *Table) Onto(size int64, sectorSize int, fit Fit) (*Table, error) {
	if sectorSize != t.SectorSize {
		return nil, fmt.Errorf("%w: the image has sectors of %d bytes, the disk of %d", ErrSectorSize, t.SectorSize, sectorSize)
	}
	if fit.Grow > 0 {
		if p, ok := t.Partition(int(fit.Grow)); !ok || p.Extended() {
			return nil, fmt.Errorf("partition %d cannot grow: no partition of that number holds anything", fit.Grow)
		}
	}
	if need := t.Least(fit); size < need && fit.Beside == nil && fit.Layout == nil {
		return nil, &TooSmallError{Need: need, Have: size}
	}
	to := *t
	to.Findings = nil
	to.Partitions = slices.Clone(t.Partitions)
	if to.Sectors = uint64(size) / uint64(sectorSize); to.Sectors != t.Sectors {
		to.LastUsable = to.Sectors - t.tail() - 1
	}
	items := slices.DeleteFunc(t.inOrder(), func(p Partition) bool { return t.GivesWay(fit.Beside, p.Number) })
	if len(items) == 0 && fit.Beside == nil && fit.Layout == nil {
		return &to, nil
	}
	room, err := t.room(&to, items, fit)
	if err != nil {
		return nil, err
	}
	t.moveInto(items, room)
	switch {
	case fit.Layout != nil:
		if items, err = t.arrange(&to, items, fit, room); err != nil {
			return nil, err
		}
	case items[len(items)-1].Last > room.last:
		if err := t.cut(items, fit, room); err != nil {
			return nil, err
		}
	case to.Sectors > t.Sectors || fit.Beside != nil:
		t.grow(items, fit.Grow, room.last)
	}
	to.Partitions = slices.DeleteFunc(to.Partitions, func(p Partition) bool { return t.GivesWay(fit.Beside, p.Number) })
	to.place(t, items, room.last)
	if fit.Beside != nil {
		if err := to.keep(fit.Beside); err != nil {
			return nil, err
		}
	}
	slices.SortFunc(to.Partitions, func(a, b Partition) int { return cmp.Compare(a.Number, b.Number) })
	return &to, to.Check()
}

// region is a stretch of sectors, both inclusive.
type region struct{ first, last uint64 }

func (r region) len() uint64 { return r.last - r.first + 1 }

// moveInto moves all items by the same way, so that the first begins in a region.
func (t *Table) moveInto(items []Partition, room region) {
	if begin := items[0].begin(); begin >= room.first && begin <= room.last {
		return
	}
	by := room.first - items[0].begin() // wraps if that is less, and so do the sums
	for i := range items {
		p := &items[i]
		p.First, p.Last = p.First+by, p.Last+by
		if p.Logical() {
			p.Record += by
		}
	}
}

// cut makes items shorter until they end within a region: the last one, if that is enough,
// or all are moved together.
func (t *Table) cut(items []Partition, fit Fit, room region) error {
	packed := items[0].begin()
	for i, p := range items {
		packed = t.after(packed, i, p) + t.needs(fit, p)
	}
	last := &items[len(items)-1]
	inPlace := last.First + t.needs(fit, *last)
	switch {
	case inPlace <= room.last+1:
		last.Last = room.last
	case packed <= room.last+1:
		t.pack(items, fit, room.last)
	default:
		return &TooSmallError{Need: int64(min(packed, inPlace)-room.first) * int64(t.SectorSize), Have: int64(room.len()) * int64(t.SectorSize), Beside: true}
	}
	return nil
}

// tail is how many sectors behind the last usable one the table itself takes.
func (t *Table) tail() uint64 {
	if t.Scheme == GPT {
		return t.entrySectors() + 1
	}
	return 0
}

func (t *Table) align() uint64 { return alignment / uint64(t.SectorSize) }

// needs is how many sectors partition p must keep.
func (t *Table) needs(fit Fit, p Partition) uint64 {
	all := p.Last - p.First + 1
	if fit.Needs == nil || p.Extended() {
		return all
	}
	bytes := max(fit.Needs(p.Number), 1)
	return min(all, uint64((bytes-1)/int64(t.SectorSize)+1))
}

// Least is the smallest disk, in bytes, that Onto finds a plan for: that with
// the last partition cut, or that with all of them packed.
func (t *Table) Least(fit Fit) int64 {
	if t.Scheme == None {
		if fit.Needs == nil {
			return t.DiskSize()
		}
		// Whole sectors, and no fewer than Read takes for a disk.
		sectors := max((fit.Needs(0)+int64(t.SectorSize)-1)/int64(t.SectorSize), 8)
		return min(sectors*int64(t.SectorSize), t.DiskSize())
	}
	items := t.inOrder()
	end := t.FirstUsable
	if n := len(items); n > 0 {
		last := items[n-1]
		inPlace := last.First + t.needs(fit, last)
		packed := items[0].begin()
		for i, p := range items {
			packed = t.after(packed, i, p) + t.needs(fit, p)
		}
		end = min(inPlace, packed)
	}
	return int64(max(end+t.tail(), t.FirstUsable+1+t.tail())) * int64(t.SectorSize)
}

// after is the first sector of item i's content when the one before ends just
// before sector end. The first of all stays where it is.
func (t *Table) after(end uint64, i int, p Partition) uint64 {
	if i > 0 {
		end = (end + t.align() - 1) / t.align() * t.align()
	}
	return end + p.First - p.begin()
}

// pack moves the items together and shrinks those with the most to spare until
// the last ends at limit or before.
func (t *Table) pack(items []Partition, fit Fit, limit uint64) {
	sizes := make([]uint64, len(items))
	for i, p := range items {
		sizes[i] = p.Last - p.First + 1
	}
	end := func() uint64 { // one behind the last
		at := items[0].begin()
		for i, p := range items {
			at = t.after(at, i, p) + sizes[i]
		}
		return at
	}
	for over := end(); over > limit+1; over = end() {
		most, spare := 0, uint64(0)
		for i, p := range items {
			if s := sizes[i] - t.needs(fit, p); s > spare {
				most, spare = i, s
			}
		}
		if spare == 0 {
			return // Least allows no such disk
		}
		// Rounding between partitions can hide what was won; go on with the next.
		sizes[most] -= min(spare, over-limit-1)
	}
	t.line(items, sizes)
}

// line puts the items one behind the other, from where the first is, with those sizes.
func (t *Table) line(items []Partition, sizes []uint64) {
	at := items[0].begin()
	for i := range items {
		p := &items[i]
		lead := p.First - p.begin()
		p.First = t.after(at, i, *p)
		if p.Logical() {
			p.Record = p.First - lead
		}
		p.Last = p.First + sizes[i] - 1
		at = p.Last + 1
	}
}

// grow gives one item the free end of the disk and pushes the others along.
func (t *Table) grow(items []Partition, g Grow, limit uint64) {
	chosen := len(items) - 1
	if g > 0 {
		chosen = slices.IndexFunc(items, func(p Partition) bool { return p.Number == int(g) })
	}
	if chosen < 0 || g == GrowNone || items[chosen].Extended() {
		return
	}
	extra := (limit - items[len(items)-1].Last) / t.align() * t.align()
	items[chosen].Last += extra
	for i := chosen + 1; i < len(items); i++ {
		p := &items[i]
		p.First, p.Last = p.First+extra, p.Last+extra
		if p.Logical() {
			p.Record += extra
		}
	}
}

// place puts the items back into the table and lets the extended partition
// follow what lies in it, up to sector room.
func (t *Table) place(before *Table, items []Partition, room uint64) {
	for _, item := range items {
		i := slices.IndexFunc(t.Partitions, func(p Partition) bool { return p.Number == item.Number })
		if i < 0 {
			t.Partitions = append(t.Partitions, item)
			continue
		}
		t.Partitions[i] = item
	}
	logical := t.logical()
	if len(logical) == 0 {
		return
	}
	c := slices.IndexFunc(t.Partitions, Partition.Extended)
	container := &t.Partitions[c]
	first, last := logical[0].Record, uint64(0)
	for _, p := range logical {
		first, last = min(first, p.Record), max(last, p.Last)
	}
	// An empty boot record may lie in front of the first logical partition.
	moved := slices.ContainsFunc(Changes(before, t), func(c Change) bool { return c.Number > 4 && c.Moved() })
	if moved {
		container.First = first
	}
	// Room to spare at its end stays, if nothing else lies there now.
	for _, p := range items {
		if !p.Logical() && p.First > last {
			room = min(room, p.First-1)
		}
	}
	if moved || container.Last < last || container.Last > room {
		container.Last = last
	}
}
