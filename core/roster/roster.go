// Package roster has the rules for who is who: the names of workstations, groups
// and images, and the states a workstation goes through.
package roster

import (
	"fmt"
	"strconv"
	"strings"

	"jugate/core/fault"
)

// State is a workstation's standing in the roster.
type State string

// A workstation is a newcomer until someone admits it. One that was entered before it has
// been seen is expected, and is admitted by itself when it appears. Retired, it takes part
// in nothing more while its receipts stay.
const (
	Newcomer State = "newcomer"
	Expected State = "expected"
	Admitted State = "admitted"
	Retired  State = "retired"
	// Visiting is a machine at a repair bench, which does what somebody at it has ordered, though nobody has admitted it.
	Visiting State = "visiting"
)

// States are all states.
var States = []State{Newcomer, Expected, Admitted, Retired, Visiting}

// Unknown tells whether nobody has admitted it.
func (s State) Unknown() bool { return s == Newcomer || s == Visiting }

// CardState is how a hardware address stands to a workstation.
type CardState string

// An accepted address is the workstation's own. A proposed one was seen in it, and no
// engineer has accepted it yet. A shared one is of an adapter that several machines use.
const (
	Accepted CardState = "accepted"
	Proposed CardState = "proposed"
	Shared   CardState = "shared"
)

// CardStates are all of them.
var CardStates = []CardState{Accepted, Proposed, Shared}

// MustBeAdmitted returns an error for a workstation that is not, and is not visiting either, saying what the
// engineer can do; label is what the workstation is called.
func MustBeAdmitted(label string, s State) error {
	switch s {
	case Admitted, Expected, Visiting:
		return nil
	case Newcomer:
		return fault.Conflict.Errorf("%s is a newcomer; admit it first", label)
	}
	return fault.Conflict.Errorf("%s is %s; admit it again first", label, s)
}

// MaxName is the longest name in bytes.
const MaxName = 63

// CheckName says whether a text can be a name: letters, digits, dots, hyphens
// and underscores, beginning with a letter or digit, so that it can stand in a
// file name, an address or a table without quoting.
func CheckName(what, s string) error {
	bad := s == "" || len(s) > MaxName
	for i, r := range s {
		alnum := r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9'
		bad = bad || !(alnum || i > 0 && strings.ContainsRune("-_.", r))
	}
	if bad {
		return fault.Invalid.Errorf("%q cannot be the name of %s: use 1 to %d letters, digits, '-', '_' or '.', the first a letter or digit", s, what, MaxName)
	}
	return nil
}

// Ref names a version of an image.
type Ref struct {
	Image   string
	Version int // 0 means the newest
}

// ParseRef reads NAME or NAME@VERSION.
func ParseRef(s string) (Ref, error) {
	name, number, numbered := strings.Cut(s, "@")
	if err := CheckName("an image", name); err != nil {
		return Ref{}, err
	}
	if !numbered {
		return Ref{Image: name}, nil
	}
	n, err := strconv.Atoi(number)
	if err != nil || n < 1 {
		return Ref{}, fault.Invalid.Errorf("%q is not a version of an image: write %s@1, or %s for the newest", s, name, name)
	}
	return Ref{name, n}, nil
}

// String gives what ParseRef reads.
func (r Ref) String() string {
	if r.Version == 0 {
		return r.Image
	}
	return fmt.Sprintf("%s@%d", r.Image, r.Version)
}
