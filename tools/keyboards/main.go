// Keyboards makes the table of core/keyboard from the layouts of XKB, as Debian's xkb-data has them, by way of console-setup's
// converter for the kernel's console:
//
//	apt-get install xkb-data console-setup
//	cd tools && go run ./keyboards >../core/keyboard/layouts.json
//
// Names are in small letters. A layout with which a name cannot be typed, as it lacks one of the letters a to z or a digit, is left out.
package main

import (
	"bufio"
	"bytes"
	"fmt"
	"log"
	"maps"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"golang.org/x/sync/errgroup"
)

// keys are those that write something, by the kernel's numbers (linux/input-event-codes.h): four rows, and the one that
// European keyboards have beside the left shift key.
var keys = slices.Concat(span(2, 13), span(16, 27), span(30, 41), span(43, 53), []int{86})

func span(from, to int) (all []int) {
	for k := from; k <= to; k++ {
		all = append(all, k)
	}
	return all
}

// dead are dead keys as combining characters.
var dead = map[string]rune{"dead_grave": 0x300, "dead_acute": 0x301, "dead_circumflex": 0x302, "dead_tilde": 0x303, "dead_macron": 0x304, "dead_breve": 0x306, "dead_abovedot": 0x307,
	"dead_diaeresis": 0x308, "dead_abovering": 0x30a, "dead_doubleacute": 0x30b, "dead_caron": 0x30c, "dead_cedilla": 0x327, "dead_ogonek": 0x328}

func main() {
	names, err := layouts("/usr/share/X11/xkb/rules/base.lst")
	if err != nil {
		log.Fatal(err)
	}
	tables := make([][]string, len(names))
	var g errgroup.Group
	g.SetLimit(runtime.NumCPU())
	for i, name := range names {
		g.Go(func() (err error) {
			tables[i], err = convert(name)
			return err
		})
	}
	if err := g.Wait(); err != nil {
		log.Fatal(err)
	}
	out := bufio.NewWriter(os.Stdout)
	defer out.Flush()
	sep := "{\n"
	for i, name := range names {
		if !complete(tables[i]) {
			continue
		}
		fmt.Fprintf(out, "%s%q: [%s]", sep, strings.ToLower(name), strings.Join(tables[i], ", "))
		sep = ",\n"
	}
	fmt.Fprintln(out, "\n}")
}

// layouts reads the list of layouts and variants; a variant is written as in the answer keyboard.
func layouts(path string) ([]string, error) {
	b, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	names := map[string]bool{}
	part := ""
	for line := range strings.Lines(string(b)) {
		f := strings.Fields(line)
		switch {
		case len(f) == 2 && f[0] == "!":
			part = f[1]
		case part == "layout" && len(f) > 1 && f[0] != "custom":
			names[f[0]] = true
		case part == "variant" && len(f) > 2:
			names[strings.TrimSuffix(f[1], ":")+"("+f[0]+")"] = true
		}
	}
	return slices.Sorted(maps.Keys(names)), nil
}

// convert has a layout converted: for each of keys what it writes alone, with shift, with AltGr and with both.
func convert(name string) ([]string, error) {
	layout, variant, _ := strings.Cut(strings.TrimSuffix(name, ")"), "(")
	text, err := exec.Command("ckbcomp", "-layout", layout, "-variant", variant).Output()
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	table := map[int]string{}
	for line := range bytes.Lines(text) {
		f := strings.Fields(string(line))
		if len(f) < 7 || f[0] != "keycode" {
			continue
		}
		number, err := strconv.Atoi(f[1])
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		var four strings.Builder
		for _, symbol := range f[3:7] {
			four.WriteRune(written(symbol))
		}
		table[number] = four.String()
	}
	all := make([]string, len(keys))
	for i, k := range keys {
		all[i] = quoted(table[k])
	}
	return all, nil
}

// written is what a key writes; a space if that is nothing.
func written(symbol string) rune {
	symbol = strings.TrimPrefix(symbol, "+")
	if r, is := dead[symbol]; is {
		return r
	}
	if n, err := strconv.ParseUint(strings.TrimPrefix(symbol, "U+"), 16, 16); err == nil && strings.HasPrefix(symbol, "U+") && n > ' ' {
		return rune(n)
	}
	return ' '
}

// quoted is a string of JSON (RFC 8259, 7), whose combining characters are written as numbers, as what shows them might change
// their order.
func quoted(s string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			b.WriteRune('\\')
			b.WriteRune(r)
		case unicode.Is(unicode.M, r) || !unicode.IsPrint(r):
			fmt.Fprintf(&b, "\\u%04x", r)
		default:
			b.WriteRune(r)
		}
	}
	b.WriteByte('"')
	return b.String()
}

func complete(table []string) bool {
	all := strings.Join(table, "")
	for _, r := range "abcdefghijklmnopqrstuvwxyz0123456789" {
		if !strings.ContainsRune(all, r) {
			return false
		}
	}
	return true
}
