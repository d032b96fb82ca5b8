package partition

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/google/uuid"

	"jugate/core/fault"
)

// Keep names partitions of a disk that stay where they are, as they are, when an image is
// brought onto it: by number, by label (that of the file system, or the name in a GPT), or
// by type (a GUID, or the two hexadecimal digits of an MBR).
type Keep struct {
	number int
	label  string
	kind   uuid.UUID
	code   byte
}

// ParseKeeps reads several; nil for none.
func ParseKeeps(texts []string) (all []Keep, err error) {
	for _, text := range texts {
		k, err := ParseKeep(text)
		if err != nil {
			return nil, err
		}
		all = append(all, k)
	}
	return all, nil
}

// ParseKeep reads "5", "label=DATA", "type=07" or "type=GUID".
func ParseKeep(s string) (Keep, error) {
	by, value, named := strings.Cut(s, "=")
	if !named {
		if n, err := strconv.Atoi(s); err == nil && n >= 1 && n <= maxSlots {
			return Keep{number: n}, nil
		}
	}
	switch {
	case by == "label" && value != "" && len(value) <= 200:
		return Keep{label: value}, nil
	case by == "type" && len(value) == 2:
		if n, err := strconv.ParseUint(value, 16, 8); err == nil && n != 0 {
			return Keep{code: byte(n)}, nil
		}
	case by == "type" && len(value) == 36:
		if id, err := uuid.Parse(value); err == nil && id != uuid.Nil {
			return Keep{kind: id}, nil
		}
	}
	return Keep{}, fault.Invalid.Errorf("%q does not say which partition is kept: a number, label=TEXT, type=GUID or type=HEX do", s)
}

// String is what ParseKeep reads.
func (k Keep) String() string {
	switch {
	case k.number != 0:
		return strconv.Itoa(k.number)
	case k.label != "":
		return "label=" + k.label
	case k.code != 0:
		return fmt.Sprintf("type=%02x", k.code)
	}
	return "type=" + k.kind.String()
}

func (k Keep) means(p Partition, label string) bool {
	switch {
	case k.number != 0:
		return p.Number == k.number
	case k.label != "":
		return strings.EqualFold(label, k.label) || strings.EqualFold(p.Name, k.label)
	case k.code != 0:
		return p.Code == k.code
	}
	return p.Type == k.kind
}

// Keeping is the table with those partitions alone that are to be kept; label tells the
// label of a partition's file system, if it has one. Errors say which partition cannot be
// kept, and why: one that is not there, above all.
func (t *Table) Keeping(keeps []Keep, label func(Partition) string) (*Table, error) {
	switch {
	case t.Scheme == None:
		return nil, fmt.Errorf("the disk has no partition table, so there is no partition %s", keeps[0])
	case t.FromBackup:
		return nil, errors.New("only a forgotten backup of a partition table is at the end of the disk, and nobody can say whether it still holds")
	}
	numbers, err := t.Named(keeps, label)
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
		p.pinned = slices.ContainsFunc(keeps, func(k Keep) bool { return k.number == number })
		kept.Partitions = append(kept.Partitions, p)
	}
	return &kept, kept.Check()
}

// Named are the numbers of the partitions that are named, each once, in their order. An error
// says which name no partition has.
func (t *Table) Named(names []Keep, label func(Partition) string) (numbers []int, err error) {
	for _, k := range names {
		found := false
		for _, p := range t.Partitions {
			if !k.means(p, label(p)) {
				continue
			}
			if found = true; !slices.Contains(numbers, p.Number) {
				numbers = append(numbers, p.Number)
			}
		}
		if !found {
			return nil, fmt.Errorf("the disk has no partition %s", k)
		}
	}
	slices.Sort(numbers)
	return numbers, nil
}

// Without is the table without some partitions; an extended one goes with the last that lies
// in it.
func (t *Table) Without(numbers []int) *Table {
	to := *t
	to.Partitions = slices.DeleteFunc(slices.Clone(t.Partitions), func(p Partition) bool { return slices.Contains(numbers, p.Number) })
	if len(to.logical()) == 0 && len(t.logical()) > 0 {
		to.Partitions = slices.DeleteFunc(to.Partitions, Partition.Extended)
	}
	return &to
}

// Meant is the one partition of a disk that is named so; label is as for Keeping.
func (t *Table) Meant(k Keep, label func(Partition) string) (p Partition, err error) {
	kept, err := t.Keeping([]Keep{k}, label)
	switch {
	case err != nil:
		return p, err
	case len(kept.Partitions) > 1:
		return p, fmt.Errorf("the disk has %d partitions %s, and one is to be named", len(kept.Partitions), k)
	}
	p, _ = t.Partition(kept.Partitions[0].Number)
	return p, nil
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
