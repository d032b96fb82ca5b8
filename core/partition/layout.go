package partition

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf16"

	"github.com/dustin/go-humanize"
	"github.com/google/uuid"

	"jugate/core/fault"
)

// Layout gives partitions of an image other sizes than the golden disk's, and adds empty
// ones behind them. What it does not name keeps its size.
type Layout []Share

// Share is one partition's size: so many bytes, so much of the room that there is, or the
// rest of that.
type Share struct {
	Number  int    // of the image; 0 for one that is added
	Name    string // of one that is added
	Bytes   int64
	Percent int
	Rest    bool
}

// ParseLayout reads shares such as "3=100GB", "2=40%" and "data=rest", where a name adds an
// empty partition.
func ParseLayout(shares []string) (l Layout, err error) {
	percent, rests := 0, 0
	for _, text := range shares {
		s, err := parseShare(text)
		if err != nil {
			return nil, err
		}
		if slices.ContainsFunc(l, func(o Share) bool { return o.Number == s.Number && strings.EqualFold(o.Name, s.Name) }) {
			return nil, fault.Invalid.Errorf("the layout has two sizes for %s", s.what())
		}
		if percent += s.Percent; s.Rest {
			rests++
		}
		l = append(l, s)
	}
	switch {
	case percent > 100:
		return nil, fault.Invalid.Errorf("the shares of the layout are %d %% together", percent)
	case rests > 1:
		return nil, fault.Invalid.Errorf("only one partition of the layout can have the rest")
	}
	return l, nil
}

func parseShare(text string) (s Share, err error) {
	wrong := fault.Invalid.Errorf("%q gives no partition a size: write NUMBER=SIZE or NAME=SIZE, where SIZE is bytes (100GB), per cent (40%%) or rest", text)
	at := strings.LastIndex(text, "=")
	if at < 1 {
		return s, wrong
	}
	who, size := text[:at], text[at+1:]
	if n, err := strconv.Atoi(who); err == nil {
		if n < 1 || n > maxSlots {
			return s, wrong
		}
		s.Number = n
	} else if s.Name = who; len(utf16.Encode([]rune(who))) > 36 || strings.TrimSpace(who) != who {
		return s, fault.Invalid.Errorf("%q cannot be the name of a partition: at most 36 characters can, without blanks around them", who)
	}
	percent, isPercent := strings.CutSuffix(size, "%")
	switch {
	case size == "rest":
		s.Rest = true
	case isPercent:
		if s.Percent, err = strconv.Atoi(strings.TrimSpace(percent)); err != nil || s.Percent < 1 || s.Percent > 100 {
			return s, wrong
		}
	default:
		n, err := humanize.ParseBytes(size)
		if err != nil || n == 0 || n > 1<<60 {
			return s, wrong
		}
		s.Bytes = int64(n)
	}
	return s, nil
}

// String is what ParseLayout reads.
func (s Share) String() string {
	who := s.Name
	if s.Number != 0 {
		who = strconv.Itoa(s.Number)
	}
	switch {
	case s.Rest:
		return who + "=rest"
	case s.Percent != 0:
		return fmt.Sprintf("%s=%d%%", who, s.Percent)
	}
	return fmt.Sprintf("%s=%dB", who, s.Bytes)
}

func (s Share) what() string {
	if s.Number != 0 {
		return fmt.Sprintf("partition %d", s.Number)
	}
	return "the partition " + s.Name
}

// sectors is how long the share is of a room; 0 for the rest.
func (s Share) sectors(t *Table, room region) uint64 {
	switch {
	case s.Rest:
		return 0
	case s.Percent != 0:
		return room.len() / 100 * uint64(s.Percent) / t.align() * t.align()
	}
	return (uint64(s.Bytes)-1)/uint64(t.SectorSize) + 1
}

// arrange gives the items the sizes of a layout, one behind the other from where the first
// is, and adds those that the layout has beside them; to has the numbers that are taken.
func (t *Table) arrange(to *Table, items []Partition, fit Fit, room region) ([]Partition, error) {
	room.first = items[0].begin()
	items, err := t.added(to, items, fit)
	if err != nil {
		return nil, err
	}
	sizes, shares := make([]uint64, len(items)), make([]Share, len(items))
	for i, p := range items {
		sizes[i] = p.Last - p.First + 1
		for _, s := range fit.Layout {
			if s.Number == p.Number || s.Number == 0 && p.added && s.Name == p.Name {
				sizes[i], shares[i] = s.sectors(t, room), s
			}
		}
		if need := t.needs(fit, p); !shares[i].Rest && !p.added && sizes[i] < need {
			return nil, fmt.Errorf("partition %d needs at least %d bytes, and the layout gives it %d",
				p.Number, int64(need)*int64(t.SectorSize), int64(sizes[i])*int64(t.SectorSize))
		}
	}
	end := func() uint64 { // one behind the last
		at := room.first
		for i, p := range items {
			at = t.after(at, i, p) + sizes[i]
		}
		return at
	}
	if i := slices.IndexFunc(shares, func(s Share) bool { return s.Rest }); i >= 0 {
		least := t.align()
		if !items[i].added {
			least = t.needs(fit, items[i])
		}
		if with := end(); with+least <= room.last+1 {
			sizes[i] = (room.last + 1 - with) / t.align() * t.align()
		}
		if sizes[i] < least {
			sizes[i] = least
		}
	}
	if all := end(); all > room.last+1 {
		return nil, &TooSmallError{Need: int64(all-room.first) * int64(t.SectorSize), Have: int64(room.len()) * int64(t.SectorSize), Beside: true}
	}
	t.line(items, sizes)
	return items, nil
}

// added appends the partitions that a layout has beside the image's. One that the disk
// keeps is there already.
func (t *Table) added(to *Table, items []Partition, fit Fit) ([]Partition, error) {
	like := items[0]
	for _, p := range items {
		if p.Last-p.First > like.Last-like.First {
			like = p
		}
	}
	taken := slices.Clone(to.Partitions)
	if fit.Beside != nil {
		taken = append(taken, fit.Beside.Partitions...)
	}
	for _, s := range fit.Layout {
		if s.Number != 0 {
			if p, ok := t.Partition(s.Number); !ok || p.Extended() {
				return nil, fmt.Errorf("the layout gives partition %d a size, and the image has none of that number that holds anything", s.Number)
			}
			continue
		}
		if t.Scheme != GPT {
			return nil, errors.New("the layout adds a partition by name, and the image has an MBR, whose partitions have none")
		}
		if slices.ContainsFunc(taken, func(p Partition) bool { return p.Kept && strings.EqualFold(p.Name, s.Name) }) {
			continue
		}
		p := Partition{Type: like.Type, ID: uuid.NewSHA1(t.DiskID, []byte(s.Name)), Name: s.Name, added: true}
		for n := 1; n <= t.Slots && p.Number == 0; n++ {
			if !slices.ContainsFunc(taken, func(q Partition) bool { return q.Number == n }) {
				p.Number = n
			}
		}
		if p.Number == 0 {
			return nil, fmt.Errorf("the partition table of the image has no entry left for the partition %s", s.Name)
		}
		items, taken = append(items, p), append(taken, p)
	}
	return items, nil
}
