package driver

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
)

// Limits of an INF file. The reference bounds a line at 4096 characters.
const (
	maxINF      = 16 << 20 // bytes
	maxINFLines = 400_000
	maxLine     = 16 << 10 // bytes, with its continuations
	maxSection  = 255      // characters of a section's name
)

// inf is a file of sections, as the INF reference's "General syntax rules" say:
// names are of any case, sections of one name are one section.
type inf struct {
	name     string
	sections map[string]*section // by name in capitals
	strings  map[string]string   // by name in capitals
}

type section struct {
	name  string
	line  int
	lines []line
}

// line is KEY = VALUE, VALUE… or VALUE, VALUE…, not yet with %strings%.
type line struct {
	number int
	key    string // empty if there is none
	values []string
}

// parseINF reads a file. Errors are *LineError.
func parseINF(name string, b []byte) (*inf, error) {
	text, err := decodeText(b)
	if err != nil {
		return nil, &LineError{name, 0, err.Error()}
	}
	f := &inf{name: name, sections: map[string]*section{}, strings: map[string]string{}}
	var in *section
	number := 0
	for len(text) > 0 {
		start := number + 1
		var joined strings.Builder
		for more := true; more && len(text) > 0; {
			var one string
			one, text, _ = strings.Cut(text, "\n")
			if number++; number > maxINFLines {
				return nil, &LineError{name, number, fmt.Sprintf("more than %d lines", maxINFLines)}
			}
			one = strings.TrimSpace(uncomment(one))
			if one, more = strings.CutSuffix(one, `\`); more && strings.Count(one, `"`)%2 == 1 {
				one, more = one+`\`, false // a path in quotes
			}
			if joined.WriteString(one); joined.Len() > maxLine {
				return nil, &LineError{name, start, fmt.Sprintf("longer than %d bytes", maxLine)}
			}
		}
		one := strings.TrimSpace(joined.String())
		if one == "" {
			continue
		}
		if one[0] == '[' {
			end := strings.IndexByte(one, ']')
			if end < 0 || end > maxSection+1 {
				return nil, &LineError{name, start, "the name of a section does not end"}
			}
			in = f.section(strings.TrimSpace(one[1:end]), start)
			continue
		}
		if in == nil {
			return nil, &LineError{name, start, "text before the first section"}
		}
		l, err := parseLine(one)
		if err != nil {
			return nil, &LineError{name, start, err.Error()}
		}
		l.number = start
		in.lines = append(in.lines, l)
	}
	f.readStrings()
	return f, nil
}

// decodeText makes UTF-8 of a file: by its byte order mark, or by what it looks like;
// what is no UTF-8 is Windows-1252, of which every byte means something.
func decodeText(b []byte) (string, error) {
	if len(b) > maxINF {
		return "", fmt.Errorf("larger than %d bytes", maxINF)
	}
	var err error
	switch {
	case bytes.HasPrefix(b, []byte{0xff, 0xfe}), bytes.HasPrefix(b, []byte{0xfe, 0xff}):
		b, err = unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewDecoder().Bytes(b)
	case bytes.HasPrefix(b, []byte{0xef, 0xbb, 0xbf}):
		b = b[3:]
	case len(b) >= 4 && binary.LittleEndian.Uint32(b)&0xff00ff00 == 0:
		b, err = unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM).NewDecoder().Bytes(b)
	case !utf8.Valid(b):
		b, err = charmap.Windows1252.NewDecoder().Bytes(b)
	}
	if err == nil && bytes.IndexByte(b, 0) >= 0 {
		err = errors.New("it is not text: it holds zero bytes")
	}
	return string(b), err
}

// uncomment drops what follows a semicolon outside of quotes.
func uncomment(s string) string {
	quoted := false
	for i := range len(s) {
		switch s[i] {
		case '"':
			quoted = !quoted
		case ';':
			if !quoted {
				return s[:i]
			}
		}
	}
	return s
}

func (f *inf) section(name string, line int) *section {
	key := strings.ToUpper(name)
	if s := f.sections[key]; s != nil {
		return s
	}
	s := &section{name: name, line: line}
	f.sections[key] = s
	return s
}

// parseLine splits a line at its equals sign and its commas, outside of quotes.
func parseLine(s string) (l line, err error) {
	var part strings.Builder
	quoted, keyed := false, false
	for i := 0; i < len(s); i++ {
		switch c := s[i]; {
		case c == '"' && quoted && i+1 < len(s) && s[i+1] == '"':
			part.WriteByte('"')
			i++
		case c == '"':
			quoted = !quoted
		case c == '=' && !quoted && !keyed && len(l.values) == 0:
			l.key, keyed = strings.TrimSpace(part.String()), true
			part.Reset()
		case c == ',' && !quoted:
			l.values = append(l.values, strings.TrimSpace(part.String()))
			part.Reset()
		default:
			part.WriteByte(c)
		}
	}
	if quoted {
		return l, errors.New("a quotation mark without its other one")
	}
	l.values = append(l.values, strings.TrimSpace(part.String()))
	return l, nil
}

// readStrings takes [Strings], and for what it lacks the section of any language,
// English first.
func (f *inf) readStrings() {
	take := func(s *section) {
		for _, l := range s.lines {
			key := strings.ToUpper(l.key)
			if _, there := f.strings[key]; !there && key != "" {
				f.strings[key] = strings.Join(l.values, ",")
			}
		}
	}
	for _, name := range []string{"STRINGS", "STRINGS.0409"} {
		if s := f.sections[name]; s != nil {
			take(s)
		}
	}
	for name, s := range f.sections {
		if strings.HasPrefix(name, "STRINGS.") {
			take(s)
		}
	}
}

// expand puts strings into the place of %names%; %% is a per cent sign. A name that
// is nowhere stays as it is.
func (f *inf) expand(s string) string {
	if !strings.Contains(s, "%") {
		return s
	}
	var out strings.Builder
	for {
		before, rest, found := strings.Cut(s, "%")
		out.WriteString(before)
		if !found {
			return out.String()
		}
		name, after, closed := strings.Cut(rest, "%")
		switch value, known := f.strings[strings.ToUpper(name)]; {
		case !closed:
			out.WriteString("%" + rest)
			return out.String()
		case name == "":
			out.WriteByte('%')
		case known:
			out.WriteString(value)
		default:
			out.WriteString("%" + name + "%")
		}
		s = after
	}
}

// values are those of the first line with a key in a section, with strings.
func (f *inf) values(section, key string) ([]string, int) {
	s := f.sections[strings.ToUpper(section)]
	if s == nil {
		return nil, 0
	}
	for _, l := range s.lines {
		if strings.EqualFold(f.expand(l.key), key) {
			out := make([]string, len(l.values))
			for i, v := range l.values {
				out[i] = f.expand(v)
			}
			return out, l.number
		}
	}
	return nil, 0
}

// value is the first of values.
func (f *inf) value(section, key string) string {
	if v, _ := f.values(section, key); len(v) > 0 {
		return v[0]
	}
	return ""
}
