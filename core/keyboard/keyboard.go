// Package keyboard has the keyboard layouts in which people type at a workstation's own screen, as tables for the kernel's console.
//
//	l, known := keyboard.Find("de(nodeadkeys)")
//	for _, e := range l.Entries() { … } // KDSKBENT, ioctl_console(2)
//
// They have the names and the contents of XKB's layouts. Those with which a name cannot be typed, as they lack Latin letters, are
// not among them.
package keyboard

import (
	_ "embed"
	"encoding/json"
	"maps"
	"slices"
	"strings"
	"sync"
	"unicode"

	"golang.org/x/text/unicode/norm"
)

// Default is the layout that the kernel begins with.
const Default = "us"

// layoutsJSON has for each layout a string for each of keys: what it writes alone, with shift, with AltGr and with both. A
// combining character is a dead key, and a space is nothing. It is made by tools/keyboards.
//
//go:embed layouts.json
var layoutsJSON []byte

var layouts = sync.OnceValue(func() (all map[string][]string) {
	if err := json.Unmarshal(layoutsJSON, &all); err != nil {
		panic(err) // it is a part of the program
	}
	return all
})

// keys are those of a layout, in its order, by the kernel's numbers (linux/input-event-codes.h).
var keys = slices.Concat(span(2, 13), span(16, 27), span(30, 41), span(43, 53), []uint8{86})

func span(from, to uint8) (all []uint8) {
	for k := from; k <= to; k++ {
		all = append(all, k)
	}
	return all
}

// Layout is one of them.
type Layout struct {
	Name string
	keys []string
}

// Find finds a layout by its name, which may have a space in place of brackets: "de nodeadkeys". A variant that is not known is
// its layout.
func Find(name string) (Layout, bool) {
	name = strings.ToLower(strings.TrimSpace(name))
	if layout, variant, is := strings.Cut(name, " "); is {
		name = layout + "(" + strings.TrimSpace(variant) + ")"
	}
	base, _, _ := strings.Cut(name, "(")
	for _, n := range []string{name, base} {
		if k, is := layouts()[n]; is {
			return Layout{n, k}, true
		}
	}
	return Layout{}, false
}

// Like lists the names of layouts that begin with a text, in their order.
func Like(begin string) (names []string) {
	for name := range layouts() {
		if strings.HasPrefix(name, strings.ToLower(begin)) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

// Entry is one of a table of the kernel: what a key is with some modifiers (struct kbentry).
type Entry struct {
	Table, Key uint8
	Value      uint16
}

// The kernel's types of keys (linux/keyboard.h).
const (
	typeLatin  = 0x0000
	typeShift  = 0x0700
	typeDead   = 0x0400
	typeLetter = 0x0b00 // which the caps lock key changes
)

// modifiers, and what writes nothing, are the same in all tables: a key that is let go under another table than it was pressed
// has to be known there.
var modifiers = map[uint8]uint16{
	1: typeLatin | 0x1b, 14: typeLatin | 0x7f, 15: typeLatin | '\t', 28: 0x0201, 57: typeLatin | ' ',
	42: typeShift, 54: typeShift, 100: typeShift | 1, 29: typeShift | 2, 97: typeShift | 2, 56: typeShift | 3,
}

// tables are those without a modifier, with shift, with AltGr and with both.
const tables = 4

// Entries are what the kernel is told, for a console in Unicode mode (KDSKBMODE, K_UNICODE).
func (l Layout) Entries() (all []Entry) {
	for table := range uint8(tables) {
		for _, key := range slices.Sorted(maps.Keys(modifiers)) {
			all = append(all, Entry{table, key, modifiers[key]})
		}
	}
	for i, written := range l.keys {
		for table, r := range []rune(written) {
			if value, is := valueOf(r); is {
				all = append(all, Entry{uint8(table), keys[i], value})
			}
		}
	}
	return all
}

// hole is a key that writes nothing.
const hole = 0x0200

func valueOf(r rune) (uint16, bool) {
	if i := slices.IndexFunc(accents, func(a accent) bool { return a.combining == r }); i >= 0 {
		return typeDead | uint16(i), true
	}
	switch {
	case r == ' ':
		return hole, true
	case r < 0x100 && unicode.IsLetter(r) && unicode.ToUpper(r) != unicode.ToLower(r):
		return typeLetter | uint16(r), true
	case r < 0x100:
		return typeLatin | uint16(r), true
	case r < 0xf000:
		return uint16(r) ^ 0xf000, true
	}
	return 0, false
}

// accent is a dead key: how the kernel calls it, and the combining character.
type accent struct {
	name      byte
	combining rune
}

// accents are in the order of the kernel's numbers.
var accents = []accent{{'`', 0x300}, {'\'', 0x301}, {'^', 0x302}, {'~', 0x303}, {'"', 0x308}, {',', 0x327}, {'_', 0x304}, {'U', 0x306}, {'.', 0x307}, {'*', 0x30a}, {'=', 0x30b}, {'c', 0x30c}, {'k', 0x328}}

// Composition is what a dead key and another make (struct kbdiacruc).
type Composition struct {
	Accent, Base, Result uint32
}

// CompositionsAtMost is how many the kernel has room for.
const CompositionsAtMost = 256

// Compositions are those of the layout's dead keys with letters. The kernel itself has a dead key and the space bar write the accent.
func (l Layout) Compositions() (all []Composition) {
	has := strings.Join(l.keys, "")
	for _, a := range accents {
		if !strings.ContainsRune(has, a.combining) {
			continue
		}
		for base := 'A'; base <= 'z'; base++ {
			if made := []rune(norm.NFC.String(string([]rune{base, a.combining}))); unicode.IsLetter(base) && len(made) == 1 && len(all) < CompositionsAtMost {
				all = append(all, Composition{uint32(a.name), uint32(base), uint32(made[0])})
			}
		}
	}
	return all
}
