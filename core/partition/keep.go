package partition

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
)

// Keeping is the table with those partitions alone that are to be kept; label tells the
// label of a partition's file system, if it has one. Errors say which partition cannot be
// kept, and why: one that is not there, above all.
func (t *Table) Keeping(refs []Ref, label func(Partition) string) (*Table, error) {
	switch {
	case t.Scheme == None:
		return nil, fmt.Errorf("there is no partition %s: the disk has no partition table", refs[0])
	case t.FromBackup:
		return nil, errors.New("only a forgotten backup of a partition table is at the end of the disk, and nobody can say whether it still holds")
	}
	numbers, err := t.Named(refs, label)
	if err != nil {
		return nil, err
	}
	kept := *t
	kept.Findings, kept.BootCode, kept.Partitions = nil, nil, []Partition{}
	for _, number := range numbers {
		p, _ := t.Partition(number)
		if p.Extended() || p.Logical() {
			return nil, fmt.Errorf("partition %d is an extended or a logical one, which cannot be kept or replaced alone", p.Number)
		}
		p.Kept, p.Active = true, false
		p.pinned = slices.ContainsFunc(refs, func(r Ref) bool { return r.number == number })
		kept.Partitions = append(kept.Partitions, p)
	}
	return &kept, kept.Check()
}

// same tells whether p, of the table of a disk, is partition q of t: by its identity in a
// GPT; in an MBR by disk signature and number, as Linux does.
func (t *Table) same(kept *Table, p, q Partition) bool {
	if t.Scheme == GPT {
		return p.ID == q.ID
	}
	return t.Signature != 0 && t.Signature == kept.Signature && p.Number == q.Number && p.Code == q.Code
}

// GivesWay tells whether the table's own partition of a number is left out because the
// disk keeps that very partition.
func (t *Table) GivesWay(kept *Table, number int) bool {
	q, ok := t.Partition(number)
	return ok && kept != nil && slices.ContainsFunc(kept.Partitions, func(p Partition) bool { return t.same(kept, p, q) })
}

// room is where the items can lie: on a disk of which nothing is kept, from the first one's
// place to the end; else the largest stretch that is free beside that. What the table has
// in front of its first partition stays there: boot code can lie in it.
func (t *Table) room(to *Table, items []Partition, fit Fit) (best region, err error) {
	limit := to.LastUsable
	if t.Scheme == MBR {
		limit = min(limit, 1<<32-1)
	}
	kept := fit.Beside
	switch {
	case kept == nil && (t.Scheme == None || len(items) == 0):
		return best, errors.New("an image without partitions has no layout")
	case kept == nil:
		return region{items[0].begin(), limit}, nil
	case t.Scheme == None:
		return best, errors.New("no partition can be kept: the image has no partition table and takes the whole disk")
	case kept.Scheme != t.Scheme:
		return best, fmt.Errorf("no partition can be kept: the disk has a partition table of another kind (%s) than the image (%s)", kept.Scheme, t.Scheme)
	case len(items) == 0:
		return best, errors.New("nothing of the image is left: the disk keeps all of its partitions")
	case fit.Grow > 0 && t.GivesWay(kept, int(fit.Grow)):
		return best, fmt.Errorf("partition %d cannot grow: the disk keeps its own", fit.Grow)
	}
	gap := uint64(t.GapEnd()) / uint64(t.SectorSize)
	at := max(to.FirstUsable, gap)
	stays := slices.Clone(kept.Partitions)
	slices.SortFunc(stays, func(a, b Partition) int { return cmp.Compare(a.First, b.First) })
	for _, p := range stays {
		if p.First < max(to.FirstUsable, gap) || p.Last > to.LastUsable {
			return best, fmt.Errorf("partition %d cannot be kept: the image needs what lies at the disk's edge there (it may use sectors %d to %d, the partition has %d to %d)",
				p.Number, max(to.FirstUsable, gap), to.LastUsable, p.First, p.Last)
		}
	}
	for _, p := range append(stays, Partition{First: limit + 1, Last: limit}) {
		if p.First > at && p.First-at > best.last-best.first {
			best = region{at, p.First - 1}
		}
		at = (p.Last/t.align() + 1) * t.align()
	}
	if best.last == 0 {
		return best, errors.New("what is kept leaves no room on the disk")
	}
	return best, nil
}

// keep adds what the disk keeps to a planned table.
func (t *Table) keep(kept *Table) (err error) {
	for _, p := range kept.Partitions {
		if p.Number, err = t.slotFor(p); err != nil {
			return err
		}
		t.Partitions = append(t.Partitions, p)
	}
	return nil
}

// slotFor is the number that a kept partition gets: its own if that is free. One that was
// named by its number must have it again, or the same order would mean another partition
// the next time.
func (t *Table) slotFor(p Partition) (int, error) {
	free := func(n int) bool { _, taken := t.Partition(n); return !taken }
	switch {
	case p.Number <= t.Slots && free(p.Number):
		return p.Number, nil
	case p.pinned:
		return 0, fmt.Errorf("partition %d cannot keep its number, as the image has a partition %d of its own; name it by its label", p.Number, p.Number)
	}
	for n := 1; n <= t.Slots; n++ {
		if free(n) {
			return n, nil
		}
	}
	return 0, fmt.Errorf("partition %d cannot be kept: the image's partition table has no entry left for it", p.Number)
}
