// Package selection chooses workstations by an expression over what is known of them:
//
//	s, err := selection.Parse(`model startsWith "Alder" and memory < 8GiB and not ("herbarium" in groups)`)
//	fits, err := s.Match(selection.Machine{Model: "Alder Works A310", Memory: 4 << 30})
//
// The language is that of github.com/expr-lang/expr, without anything that costs more than a
// look at one machine, and with sizes such as 8GiB or 500GB. What an expression can speak of
// are the fields of Machine.
package selection

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/dustin/go-humanize"
	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/conf"
	"github.com/expr-lang/expr/file"
	"github.com/expr-lang/expr/parser"
	"github.com/expr-lang/expr/vm"

	"jugate/core/fault"
)

// Machine is what an expression can speak of. Sizes are in bytes.
type Machine struct {
	Name            string            `expr:"name"`
	State           string            `expr:"state"`
	Maker           string            `expr:"maker"`
	Model           string            `expr:"model"`
	Serial          string            `expr:"serial"`
	UUID            string            `expr:"uuid"`
	Addresses       []string          `expr:"addresses"`
	Groups          []string          `expr:"groups"`
	Memory          int               `expr:"memory"`
	Firmware        string            `expr:"firmware"` // UEFI or BIOS
	SecureBoot      bool              `expr:"secure_boot"`
	FirmwareVersion string            `expr:"firmware_version"`
	Setting         map[string]string `expr:"setting"` // of the firmware, by name
	Mains           bool              `expr:"mains"`   // it is not fed from a battery
	Battery         int               `expr:"battery"` // per cent; 100 without one
	Tested          int               `expr:"tested"`  // days since its disk was read and found good; Never if it was not
	Said            map[string]string `expr:"said"`    // what a command, by its name, has said last: its last line
	Passed          map[string]bool   `expr:"passed"`  // whether a command, by its name, has ended well when it was run last
	Disks           []Disk            `expr:"disks"`
	Cards           []string          `expr:"cards"`   // models of network cards
	Devices         []string          `expr:"devices"` // identifiers of what wants a driver
	Image           string            `expr:"image"`   // name; empty if it never got one
	Version         int               `expr:"version"`
	Unfinished      bool              `expr:"unfinished"`
	Wanted          []string          `expr:"wanted"` // NAME@VERSION that its groups say it should have
	Behind          bool              `expr:"behind"` // it does not have that
	Site            string            `expr:"site"`   // outpost that it called by last; empty for the service itself
	Note            string            `expr:"note"`
	Field           map[string]string `expr:"field"`
	Online          bool              `expr:"online"`
	Running         bool              `expr:"running"`
	LastSeen        time.Time         `expr:"last_seen"`
}

// Never stands for days since something that has not happened.
const Never = 1 << 20

// Disk is a disk of a machine.
type Disk struct {
	Size   int    `expr:"size"`
	Model  string `expr:"model"`
	Serial string `expr:"serial"`
	Health string `expr:"health"`
}

// MaxLength is the longest expression in bytes.
const MaxLength = 1000

// Selection is an expression that makes sense.
type Selection struct {
	text    string
	program *vm.Program
	names   map[string]bool
}

// ofInventory are the names that need a machine's inventory.
var ofInventory = []string{"firmware", "secure_boot", "firmware_version", "setting", "mains", "battery", "disks", "cards", "devices"}

// functions are those that an expression may call.
var functions = []string{"len", "lower", "upper", "trim", "any", "all", "none", "one", "count", "filter", "map", "sum", "max", "min", "now", "duration", "date", "split", "first", "last"}

// Parse reads an expression that is true or false. An error is a fault.Invalid that points
// at the place.
func Parse(text string) (*Selection, error) {
	if strings.TrimSpace(text) == "" {
		return nil, fault.Invalid.Errorf("the condition is empty")
	}
	if len(text) > MaxLength || !utf8.ValidString(text) {
		return nil, fault.Invalid.Errorf("the condition is longer than %d bytes, or is not text", MaxLength)
	}
	plain, places := withoutUnits(text)
	options := []expr.Option{expr.Env(Machine{}), expr.AsBool(), expr.DisableAllBuiltins(), expr.MaxNodes(200), expr.Optimize(true)}
	for _, f := range functions {
		options = append(options, expr.EnableBuiltin(f))
	}
	program, err := expr.Compile(plain, options...)
	if err != nil {
		return nil, pointed(text, places, err)
	}
	tree, err := parser.ParseWithConfig(plain, conf.CreateNew())
	if err != nil {
		return nil, pointed(text, places, err)
	}
	look := visitor{names: map[string]bool{}}
	ast.Walk(&tree.Node, &look)
	if look.costly != nil {
		return nil, pointed(text, places, look.costly)
	}
	return &Selection{text: text, program: program, names: look.names}, nil
}

// visitor goes through an expression.
type visitor struct {
	names      map[string]bool
	predicates int
	costly     *file.Error // the first piece that costs more than it may
}

// Visit is ast.Visitor's.
func (v *visitor) Visit(node *ast.Node) {
	refuse := func(format string, args ...any) {
		if v.costly == nil {
			v.costly = &file.Error{Location: (*node).Location(), Message: fmt.Sprintf(format, args...)}
		}
	}
	switch n := (*node).(type) {
	case *ast.IdentifierNode:
		v.names[n.Value] = true
	case *ast.CallNode:
		if f, is := n.Callee.(*ast.IdentifierNode); is {
			v.names[f.Value] = true
		}
	case *ast.BuiltinNode:
		v.names[n.Name] = true
		if !slices.Contains(functions, n.Name) {
			refuse("the function %s is not to be had here", n.Name)
		}
	case *ast.PredicateNode:
		within := visitor{names: map[string]bool{}}
		ast.Walk(&n.Node, &within)
		if within.predicates > 0 {
			refuse("a list within a list cannot be looked through")
		}
		v.predicates++
	case *ast.BinaryNode:
		if n.Operator == ".." {
			refuse("ranges are not to be had here")
		}
	}
}

// String is the expression as it was written.
func (s *Selection) String() string { return s.text }

// NeedsInventory tells whether it speaks of what only an inventory says.
func (s *Selection) NeedsInventory() bool {
	return s.Uses(ofInventory...) != ""
}

// Uses tells which of some names the expression speaks of, or empty.
func (s *Selection) Uses(names ...string) string {
	for _, name := range names {
		if s.names[name] {
			return name
		}
	}
	return ""
}

// Match tells whether a machine fits. An error is a fault.Invalid: the expression made no
// sense of this machine, as when it asks for the third of two disks.
func (s *Selection) Match(m Machine) (bool, error) {
	fits, err := expr.Run(s.program, m)
	if err != nil {
		return false, fault.Invalid.Errorf("the condition makes no sense of %s: %s", m.Name, firstLine(err))
	}
	return fits.(bool), nil
}

// size is a number with a unit, outside of texts.
var size = regexp.MustCompile("(?i)\"(?:[^\"\\\\]|\\\\.)*\"|'(?:[^'\\\\]|\\\\.)*'|`[^`]*`|\\b[0-9]+(?:\\.[0-9]+)?(?:[kmgtp]i?b)\\b")

// place is where a replaced piece began and ended, in the text and in what was made of it.
type place struct{ from, to, plainTo int }

// withoutUnits replaces sizes by their bytes.
func withoutUnits(text string) (plain string, places []place) {
	var b strings.Builder
	at := 0
	for _, m := range size.FindAllStringIndex(text, -1) {
		piece := text[m[0]:m[1]]
		if strings.ContainsAny(piece[:1], "\"'`") {
			continue
		}
		n, err := humanize.ParseBytes(piece)
		if err != nil {
			continue // the parser says what is wrong with it
		}
		b.WriteString(text[at:m[0]])
		fmt.Fprint(&b, n)
		at = m[1]
		places = append(places, place{m[0], m[1], b.Len()})
	}
	b.WriteString(text[at:])
	return b.String(), places
}

// pointed says where in the text an error is.
func pointed(text string, places []place, err error) error {
	var e *file.Error
	if !errors.As(err, &e) {
		return fault.Invalid.Errorf("the condition cannot be read: %s", firstLine(err))
	}
	at := e.From
	for _, p := range places {
		if e.From >= p.plainTo {
			at = p.to + e.From - p.plainTo
		} else if e.From > p.from && at > p.to {
			at = p.from
		}
	}
	runes := []rune(text)
	at = max(0, min(at, len(runes)))
	what := strings.TrimSpace(e.Message)
	if what == "" {
		what = "it is not finished"
	}
	return fault.Invalid.Errorf("the condition, at character %d (%s ⟶ here %s): %s", at+1, string(runes[max(0, at-15):at]), string(runes[at:min(len(runes), at+15)]), what)
}

func firstLine(err error) string {
	line, _, _ := strings.Cut(err.Error(), "\n")
	return line
}
