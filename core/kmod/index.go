package kmod

import (
	"bufio"
	"cmp"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
)

// ErrMissing says that a module is not there.
var ErrMissing = errors.New("module not there")

// Index is a set of modules that are there, by name.
type Index struct {
	byName  map[string]Info
	builtin map[string]bool
	aliases []alias
	find    Patterns[string] // to modules
}

type alias struct{ pattern, module string }

// NewIndex makes an index of modules; builtin are those that the kernel has
// inside, which are never missing.
func NewIndex(modules []Info, builtin []string) *Index {
	x := &Index{byName: map[string]Info{}, builtin: map[string]bool{}}
	for _, m := range modules {
		x.byName[m.Name] = m
		for _, a := range m.Aliases {
			x.aliases = append(x.aliases, alias{a, m.Name})
		}
	}
	for _, name := range builtin {
		x.builtin[Canonical(name)] = true
	}
	slices.SortStableFunc(x.aliases, func(a, b alias) int { return cmp.Compare(a.module, b.module) })
	for _, a := range x.aliases {
		x.find.Add(a.pattern, a.module)
	}
	return x
}

// With is the index with more modules, which take the place of those that have the
// same names. The kernel's own modules.builtin stays what it is.
func (x *Index) With(more []Info) *Index {
	all := x.Modules()
	for _, m := range more {
		all = slices.DeleteFunc(all, func(o Info) bool { return o.Name == m.Name })
	}
	var builtin []string
	for name := range x.builtin {
		builtin = append(builtin, name)
	}
	return NewIndex(append(all, more...), builtin)
}

// Module returns one module.
func (x *Index) Module(name string) (Info, bool) {
	m, there := x.byName[Canonical(name)]
	return m, there
}

// Modules are all of them, by name.
func (x *Index) Modules() []Info {
	var all []Info
	for _, m := range x.byName {
		all = append(all, m)
	}
	slices.SortFunc(all, func(a, b Info) int { return cmp.Compare(a.Name, b.Name) })
	return all
}

// Order is a module with everything it needs, each after what it needs itself.
// Errors wrap ErrMissing and say what needs what is missing; order then holds the
// rest. Soft needs are taken along if they are there.
func (x *Index) Order(names ...string) (order []Info, err error) {
	done := map[string]bool{}
	var errs []error
	var visit func(name, wanted string)
	visit = func(name, wanted string) {
		if name = Canonical(name); done[name] || x.builtin[name] {
			return
		}
		done[name] = true
		m, there := x.byName[name]
		if !there {
			if wanted != "" {
				wanted = ", which " + wanted + " needs"
			}
			errs = append(errs, fmt.Errorf("%w: %s%s", ErrMissing, name, wanted))
			return
		}
		for _, soft := range m.Before {
			if _, there := x.byName[soft]; there {
				visit(soft, name)
			}
		}
		for _, need := range m.Needs {
			visit(need, name)
		}
		order = append(order, m)
	}
	for _, name := range names {
		visit(name, "")
	}
	return order, errors.Join(errs...)
}

// Match are the modules that say they drive a device with this modalias.
func (x *Index) Match(modalias string) (names []string) {
	x.find.Match(modalias, func(_, module string) { names = append(names, module) })
	return sorted(names)
}

// Fits tells whether a pattern of a module, with *, ? and [sets], fits a modalias.
func Fits(pattern, modalias string) bool {
	// path.Match, but a slash is a character like others.
	flat := func(s string) string { return strings.ReplaceAll(s, "/", "\x01") }
	fits, err := path.Match(flat(pattern), flat(modalias))
	return err == nil && fits
}

// WriteDep writes the index as the file modules.dep: "PATH: NEEDED-PATH…", what is
// needed last is loaded first.
func (x *Index) WriteDep(w io.Writer) error {
	out := bufio.NewWriter(w)
	for _, m := range x.Modules() {
		fmt.Fprintf(out, "%s:", m.Path)
		order, err := x.Order(m.Name)
		if err != nil {
			return err
		}
		for _, need := range slices.Backward(order[:len(order)-1]) {
			fmt.Fprintf(out, " %s", need.Path)
		}
		fmt.Fprintln(out)
	}
	return out.Flush()
}

// WriteAlias writes the index as the file modules.alias: "alias PATTERN MODULE".
func (x *Index) WriteAlias(w io.Writer) error {
	out := bufio.NewWriter(w)
	for _, a := range x.aliases {
		fmt.Fprintf(out, "alias %s %s\n", a.pattern, a.module)
	}
	return out.Flush()
}

// maxLine bounds a line of the files that ReadIndex reads.
const maxLine = 1 << 20

// ReadIndex reads what WriteDep and WriteAlias wrote, or depmod did.
func ReadIndex(dep, aliases io.Reader) (*Index, error) {
	byName := map[string]*Info{}
	lines := func(r io.Reader) *bufio.Scanner {
		s := bufio.NewScanner(r)
		s.Buffer(nil, maxLine)
		return s
	}
	s := lines(dep)
	for s.Scan() {
		file, needs, found := strings.Cut(s.Text(), ":")
		if !found || file == "" {
			continue
		}
		m := &Info{Name: Canonical(file), Path: file}
		for _, need := range slices.Backward(strings.Fields(needs)) {
			m.Needs = append(m.Needs, Canonical(need))
		}
		byName[m.Name] = m
	}
	if err := s.Err(); err != nil {
		return nil, fmt.Errorf("modules.dep: %w", err)
	}
	s = lines(aliases)
	for s.Scan() {
		if f := strings.Fields(s.Text()); len(f) == 3 && f[0] == "alias" {
			if m := byName[Canonical(f[2])]; m != nil {
				m.Aliases = append(m.Aliases, f[1])
			}
		}
	}
	if err := s.Err(); err != nil {
		return nil, fmt.Errorf("modules.alias: %w", err)
	}
	var all []Info
	for _, m := range byName {
		all = append(all, *m)
	}
	return NewIndex(all, nil), nil
}
