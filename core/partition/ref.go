package partition

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/google/uuid"

	"jugate/core/fault"
)

// Ref names partitions of a disk: by number, by label (that of the file system, or the name
// in a GPT), or by type (a GUID, or the two hexadecimal digits of an MBR).
type Ref struct {
	number int
	label  string
	kind   uuid.UUID
	code   byte
}

// ParseRefs reads several; nil for none.
func ParseRefs(texts []string) (all []Ref, err error) {
	for _, text := range texts {
		r, err := ParseRef(text)
		if err != nil {
			return nil, err
		}
		all = append(all, r)
	}
	return all, nil
}

// ParseRef reads "5", "label=DATA", "type=07" or "type=GUID".
func ParseRef(s string) (Ref, error) {
	by, value, named := strings.Cut(s, "=")
	if !named {
		if n, err := strconv.Atoi(s); err == nil && n >= 1 && n <= maxSlots {
			return Ref{number: n}, nil
		}
	}
	switch {
	case by == "label" && value != "" && len(value) <= 200:
		return Ref{label: value}, nil
	case by == "type" && len(value) == 2:
		if n, err := strconv.ParseUint(value, 16, 8); err == nil && n != 0 {
			return Ref{code: byte(n)}, nil
		}
	case by == "type" && len(value) == 36:
		if id, err := uuid.Parse(value); err == nil && id != uuid.Nil {
			return Ref{kind: id}, nil
		}
	}
	return Ref{}, fault.Invalid.Errorf("%q names no partition: a number, label=TEXT, type=GUID or type=HEX does", s)
}

// String is what ParseRef reads.
func (r Ref) String() string {
	switch {
	case r.number != 0:
		return strconv.Itoa(r.number)
	case r.label != "":
		return "label=" + r.label
	case r.code != 0:
		return fmt.Sprintf("type=%02x", r.code)
	}
	return "type=" + r.kind.String()
}

func (r Ref) means(p Partition, label string) bool {
	switch {
	case r.number != 0:
		return p.Number == r.number
	case r.label != "":
		return strings.EqualFold(label, r.label) || strings.EqualFold(p.Name, r.label)
	case r.code != 0:
		return p.Code == r.code
	}
	return p.Type == r.kind
}

// Named are the numbers of the partitions that are named, each once, in their order. An error
// says which name no partition has.
func (t *Table) Named(refs []Ref, label func(Partition) string) (numbers []int, err error) {
	for _, r := range refs {
		found := false
		for _, p := range t.Partitions {
			if !r.means(p, label(p)) {
				continue
			}
			if found = true; !slices.Contains(numbers, p.Number) {
				numbers = append(numbers, p.Number)
			}
		}
		if !found {
			return nil, fmt.Errorf("the disk has no partition %s", r)
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
func (t *Table) Meant(r Ref, label func(Partition) string) (p Partition, err error) {
	kept, err := t.Keeping([]Ref{r}, label)
	switch {
	case err != nil:
		return p, err
	case len(kept.Partitions) > 1:
		return p, fmt.Errorf("the disk has %d partitions %s, and one is to be named", len(kept.Partitions), r)
	}
	p, _ = t.Partition(kept.Partitions[0].Number)
	return p, nil
}
