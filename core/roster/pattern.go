package roster

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"jugate/core/fault"
)

// Pattern makes names of workstations from what is known of them: "herb-{number:02}",
// "{group}-{serial:last4}". Between braces stand the name of a value and, behind a colon,
// how it is written:
//
//	{number:02}     numbers from 1, of two digits; each name gets the lowest that is free
//	{serial:last4}  the last four characters; first4 are the first
//	{model:short}   the first letters of words, and their digits: "Alder Works A310" is awa310
//
// What a name cannot have is left out, and letters are lower case.
type Pattern struct {
	text  string
	parts []part
}

// part is a piece of text, or a value.
type part struct {
	literal string
	value   string // name of a value, or empty
	form    string
	digits  int // of {number}
}

// Values that a pattern can have.
var patternValues = []string{"number", "group", "serial", "model", "maker", "address", "uuid"}

const numberValue = "number"

var placeholder = regexp.MustCompile(`\{([^{}]*)\}`)

// ParsePattern reads a pattern. Errors are fault.Invalid.
func ParsePattern(text string) (Pattern, error) {
	p := Pattern{text: text}
	at := 0
	literal := func(s string) error {
		if strings.ContainsAny(s, "{}") {
			return fault.Invalid.Errorf("the name pattern %q has a brace that is not closed", text)
		}
		if s != "" {
			p.parts = append(p.parts, part{literal: s})
		}
		return nil
	}
	for _, m := range placeholder.FindAllStringSubmatchIndex(text, -1) {
		if err := literal(text[at:m[0]]); err != nil {
			return p, err
		}
		one, err := parsePart(text[m[2]:m[3]])
		if err != nil {
			return p, err
		}
		p.parts, at = append(p.parts, one), m[1]
	}
	if err := literal(text[at:]); err != nil {
		return p, err
	}
	if len(text) > 200 {
		return p, fault.Invalid.Errorf("the name pattern is longer than 200 bytes")
	}
	return p, nil
}

func parsePart(text string) (part, error) {
	name, form, _ := strings.Cut(text, ":")
	one := part{value: name, form: form}
	switch {
	case !slices.Contains(patternValues, name):
		return one, fault.Invalid.Errorf("{%s} is not a value that names are made from: there are {%s}", clipped(text), strings.Join(patternValues, "}, {"))
	case name == numberValue:
		digits := form
		if digits == "" {
			digits = "1"
		}
		n, err := strconv.Atoi(strings.TrimPrefix(digits, "0"))
		if err != nil || n < 1 || n > 9 {
			return one, fault.Invalid.Errorf("{%s}: how many digits is said as {number:02}", clipped(text))
		}
		one.digits = n
	case form == "", form == "short":
	default:
		if _, _, err := cut(form); err != nil {
			return one, fault.Invalid.Errorf("{%s} is written in a way that is not known: use last4, first4 or short", clipped(text))
		}
	}
	return one, nil
}

// cut reads "last4" or "first4".
func cut(form string) (last bool, n int, err error) {
	digits, last := strings.CutPrefix(form, "last")
	if !last {
		var first bool
		if digits, first = strings.CutPrefix(form, "first"); !first {
			return false, 0, strconv.ErrSyntax
		}
	}
	n, err = strconv.Atoi(digits)
	if err == nil && (n < 1 || n > MaxName) {
		err = strconv.ErrRange
	}
	return last, n, err
}

func clipped(s string) string { return s[:min(len(s), 40)] }

// String is the pattern as it was written.
func (p Pattern) String() string { return p.text }

// Numbered tells whether names of the pattern have a number, so that any count of
// workstations can be named.
func (p Pattern) Numbered() bool {
	return slices.ContainsFunc(p.parts, func(one part) bool { return one.value == numberValue })
}

// Values are what is known of a workstation, by the names that patterns use.
type Values map[string]string

// numbersAtMost bounds how long a free number is looked for.
const numbersAtMost = 1_000_000

// Names makes a name for each workstation, in their order. taken tells whether a name is in
// use; none is given twice. Errors are fault.Invalid and say of which workstation a value is
// missing, and fault.Conflict where a name is in use and the pattern has no number.
func (p Pattern) Names(all []Values, taken func(name string) bool) ([]string, error) {
	given := map[string]bool{}
	free := func(name string) bool { return !given[strings.ToLower(name)] && !taken(name) }
	next := map[string]int{} // number by the name around it
	names := make([]string, len(all))
	for i, v := range all {
		around, err := p.fill(v, 0)
		if err != nil {
			return nil, err
		}
		name := around
		for n := next[around] + 1; p.Numbered(); n++ {
			if n > numbersAtMost {
				return nil, fault.Conflict.Errorf("no number is free for %s", p)
			}
			if name, err = p.fill(v, n); err != nil {
				return nil, err
			}
			if next[around] = n; free(name) {
				break
			}
		}
		switch err := CheckName("a workstation", name); {
		case err != nil:
			return nil, err
		case !free(name):
			return nil, fault.Conflict.Errorf("the name %s would be there twice, or is in use; a pattern with {number} makes them differ", name)
		}
		given[strings.ToLower(name)] = true
		names[i] = name
	}
	return names, nil
}

// fill makes one name.
func (p Pattern) fill(v Values, number int) (string, error) {
	var b strings.Builder
	for _, one := range p.parts {
		switch {
		case one.value == "":
			b.WriteString(one.literal)
		case one.value == numberValue:
			fmt.Fprintf(&b, "%0*d", one.digits, number)
		default:
			text := one.write(v[one.value])
			if text == "" {
				return "", fault.Invalid.Errorf("%s has no %s, which the pattern %s names it by", v["label"], one.value, p)
			}
			b.WriteString(text)
		}
	}
	return b.String(), nil
}

// write writes a value so that it can be part of a name.
func (p part) write(value string) string {
	value = strings.ToLower(value)
	if p.form == "short" {
		return short(value)
	}
	value = strings.Trim(strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9', r == '-', r == '_', r == '.':
			return r
		case r == ' ':
			return '-'
		}
		return -1
	}, value), "-")
	if last, n, err := cut(p.form); err == nil {
		if n = min(n, len(value)); last {
			return value[len(value)-n:]
		}
		return value[:n]
	}
	return value
}

// short keeps the first letter of each word, and digits.
func short(value string) string {
	var b strings.Builder
	for word := range strings.FieldsSeq(value) {
		for i, r := range word {
			if r >= '0' && r <= '9' || i == 0 && r >= 'a' && r <= 'z' {
				b.WriteRune(r)
			}
		}
	}
	return b.String()
}
