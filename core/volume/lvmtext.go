package volume

import (
	"fmt"
	"strconv"
	"strings"
	"text/scanner"
)

// The text in which LVM2 writes down a group:
//
//	name { key = 12 other = "text" list = ["pv0", 0] inner { … } }  # comment
//
// Values are int64, string, []any or lvmSection.
type lvmSection map[string]any

func (s lvmSection) number(key string) int64       { n, _ := s[key].(int64); return n }
func (s lvmSection) text(key string) string        { t, _ := s[key].(string); return t }
func (s lvmSection) section(key string) lvmSection { t, _ := s[key].(lvmSection); return t }

const lvmMaxDepth = 8

type lvmParser struct {
	s     scanner.Scanner
	token rune
}

func parseLVM(text string) (lvmSection, error) {
	p := &lvmParser{}
	p.s.Init(strings.NewReader(uncommented(text)))
	// Names may begin with a digit and contain what is arithmetic elsewhere
	// (lvm(8), "Valid names"), so numbers are words, too.
	p.s.Mode = scanner.ScanIdents | scanner.ScanStrings
	p.s.IsIdentRune = func(c rune, _ int) bool {
		return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.ContainsRune("_.-+/", c) && c >= 0
	}
	p.s.Error = func(*scanner.Scanner, string) {}
	p.next()
	return p.section(scanner.EOF, 0)
}

// uncommented drops what follows a # outside of quotes.
func uncommented(text string) string {
	var b strings.Builder
	for line := range strings.Lines(text) {
		quoted, escaped := false, false
		for i, c := range line {
			if c == '"' && !escaped {
				quoted = !quoted
			}
			escaped = c == '\\' && !escaped
			if c == '#' && !quoted {
				line = line[:i] + "\n"
				break
			}
		}
		b.WriteString(line)
	}
	return b.String()
}

func (p *lvmParser) next() { p.token = p.s.Scan() }

func (p *lvmParser) unexpected() error {
	return fmt.Errorf("%w: its metadata has %q at %s", ErrDamaged, p.s.TokenText(), p.s.Pos())
}

func (p *lvmParser) section(end rune, depth int) (lvmSection, error) {
	if depth > lvmMaxDepth {
		return nil, fmt.Errorf("%w: its metadata is nested more than %d deep", ErrDamaged, lvmMaxDepth)
	}
	s := lvmSection{}
	for p.token != end {
		if p.token != scanner.Ident {
			return nil, p.unexpected()
		}
		key := p.s.TokenText()
		p.next()
		var err error
		switch p.token {
		case '{':
			p.next()
			if s[key], err = p.section('}', depth+1); err != nil {
				return nil, err
			}
			p.next()
		case '=':
			p.next()
			if s[key], err = p.value(depth + 1); err != nil {
				return nil, err
			}
		default:
			return nil, p.unexpected()
		}
	}
	return s, nil
}

func (p *lvmParser) value(depth int) (any, error) {
	if depth > lvmMaxDepth {
		return nil, fmt.Errorf("%w: its metadata is nested more than %d deep", ErrDamaged, lvmMaxDepth)
	}
	switch p.token {
	case scanner.String:
		text, err := strconv.Unquote(p.s.TokenText())
		if err != nil {
			return nil, p.unexpected()
		}
		p.next()
		return text, nil
	case scanner.Ident:
		n, err := strconv.ParseInt(p.s.TokenText(), 10, 64)
		if err != nil {
			return nil, p.unexpected()
		}
		p.next()
		return n, nil
	case '[':
		list := []any{}
		for p.next(); p.token != ']'; {
			v, err := p.value(depth + 1)
			if err != nil {
				return nil, err
			}
			if list = append(list, v); p.token == ',' {
				p.next()
			}
		}
		p.next()
		return list, nil
	}
	return nil, p.unexpected()
}
