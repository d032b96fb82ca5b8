package disk

import (
	"fmt"
	"strings"

	"jugate/core/fault"

	"github.com/dustin/go-humanize"
)

// Rule says which of a workstation's disks is meant, by what the disk is and never
// by the name that the system gives it. The zero value is the only disk.
type Rule struct {
	Serial   string
	Min, Max int64 // bytes; 0 is no bound
}

// Candidate is a disk that a rule can choose.
type Candidate struct {
	Serial string
	Size   int64 // bytes
}

// ParseRule reads "only", "serial:S20X", or "size:200GB-600GB", where either end
// can be left out. Nothing is "only".
func ParseRule(text string) (Rule, error) {
	kind, rest, _ := strings.Cut(text, ":")
	switch {
	case text == "" || text == "only":
		return Rule{}, nil
	case kind == "serial" && rest != "":
		return Rule{Serial: rest}, nil
	case kind == "size":
		low, high, ranged := strings.Cut(rest, "-")
		min, err := bound(low)
		if err != nil || !ranged {
			break
		}
		max, err := bound(high)
		if err != nil || max > 0 && max < min || min+max == 0 {
			break
		}
		return Rule{Min: min, Max: max}, nil
	}
	return Rule{}, fault.Invalid.Errorf(`%q chooses no disk: "only", "serial:NUMBER" or "size:200GB-600GB" do`, text)
}

func bound(text string) (int64, error) {
	if text == "" {
		return 0, nil
	}
	n, err := humanize.ParseBytes(text)
	return int64(n), err
}

// String is what ParseRule reads.
func (r Rule) String() string {
	switch {
	case r.Serial != "":
		return "serial:" + r.Serial
	case r.Min != 0 || r.Max != 0:
		text := func(n int64) string {
			if n == 0 {
				return ""
			}
			return fmt.Sprint(n)
		}
		return "size:" + text(r.Min) + "-" + text(r.Max)
	}
	return "only"
}

// Choose finds the one disk that is meant. None, and more than one, is an error.
func (r Rule) Choose(disks []Candidate) (int, error) {
	found := -1
	for i, d := range disks {
		if r.Serial != "" && !strings.EqualFold(r.Serial, d.Serial) || d.Size < r.Min || r.Max > 0 && d.Size > r.Max {
			continue
		}
		if found >= 0 {
			if r == (Rule{}) {
				return 0, fmt.Errorf("this workstation has %d disks; say which is meant, by its serial number or size", len(disks))
			}
			return 0, fmt.Errorf("more than one of this workstation's %d disks is meant by %s", len(disks), r)
		}
		found = i
	}
	switch {
	case found >= 0:
		return found, nil
	case len(disks) == 0:
		return 0, fmt.Errorf("this workstation has no disk (or its disk controller has no driver here)")
	}
	return 0, fmt.Errorf("none of this workstation's %d disks is meant by %s", len(disks), r)
}
