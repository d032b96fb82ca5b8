package driver

import (
	"cmp"
	"path"
	"slices"
	"strings"

	"jugate/core/fault"
)

// Set is a named choice of packages, by rules.
type Set struct {
	Name   string `json:"name"`
	System System `json:"system"`
	Arch   string `json:"arch"`
	// Fallback sets are asked for devices that nothing else drives.
	Fallback bool `json:"fallback,omitempty"`
	// OnDemand sets add to the boot environment of a workstation what its model needs,
	// when it boots.
	OnDemand bool   `json:"on_demand,omitempty"`
	Rules    []Rule `json:"rules"`
}

// Rule takes the packages that fit all that it says; what is empty fits everything.
// Texts may have the wildcards * and ?, and letters of any case.
type Rule struct {
	Class    Class  `json:"class,omitempty"`
	Provider string `json:"provider,omitempty"`
	Package  string `json:"package,omitempty"` // name or id
	// Model is of workstations: of the packages just what drives one of its devices.
	Model string `json:"model,omitempty"`
}

// Check says what is wrong with a set.
func (s *Set) Check() error {
	if s.System != Windows && s.System != Linux {
		return fault.Invalid.Errorf("a set is for windows or for linux, not for %q", s.System)
	}
	if s.OnDemand && s.System != Linux {
		return fault.Invalid.Errorf("only sets for linux can be added to the boot environment")
	}
	if len(s.Rules) == 0 {
		return fault.Invalid.Errorf("a set needs a rule: a class, a provider, a package or a model")
	}
	for _, r := range s.Rules {
		if r == (Rule{}) {
			return fault.Invalid.Errorf("a rule that says nothing would take everything")
		}
		if r.Class != "" && !slices.Contains(Classes, r.Class) {
			return fault.Invalid.Errorf("%q is not a class of drivers; the classes are %v", r.Class, Classes)
		}
		for _, text := range []string{r.Provider, r.Package, r.Model} {
			if _, err := path.Match(text, ""); err != nil {
				return fault.Invalid.Errorf("%q: %w", text, err)
			}
		}
	}
	return nil
}

// Like tells whether a text fits a rule's; an empty rule fits all.
func Like(rule, text string) bool {
	if rule == "" {
		return true
	}
	flat := func(s string) string { return strings.ToLower(strings.ReplaceAll(s, "/", "\x01")) }
	fits, err := path.Match(flat(rule), flat(text))
	return err == nil && fits
}

// takes tells whether a rule takes a package, leaving aside its class and model.
func (r Rule) takes(p *Package) bool {
	provided := cmp.Or(p.Provider, "the kernel")
	return Like(r.Provider, provided) && (Like(r.Package, p.Name) || strings.HasPrefix(p.ID, r.Package) && len(r.Package) >= 4)
}

// Choice is a package that was chosen, and of a package of modules which of them.
type Choice struct {
	Package *Package
	Modules []string // nil takes the package as a whole
	// Device and Why say for which device it was chosen; empty if by a rule alone.
	Device Device
	Why    string
}

// Fleet are the devices of the workstations that there are, by model.
type Fleet map[string][]Device

// of are the devices of all models that a rule means.
func (f Fleet) of(model string) (all []Device) {
	for name, devices := range f {
		if Like(model, name) {
			all = append(all, devices...)
		}
	}
	return all
}

// Whole is everything that a set brings into a system.
func (s *Set) Whole(packages []*Package, fleet Fleet, t Target) []Choice {
	t.System, t.Arch = s.System, cmp.Or(t.Arch, s.Arch)
	chosen := map[string]*Choice{}
	for _, p := range packages {
		if p.Kind.For() != s.System || !p.Has(s.Arch) || p.Kind == Modules && t.Kernel != "" && p.Kernel != t.Kernel {
			continue
		}
		for _, r := range s.Rules {
			if r.takes(p) {
				addChoice(chosen, p, r.of(p, fleet, t))
			}
		}
	}
	return inOrder(chosen, packages)
}

// of are the modules of a package that a rule takes; of an INF package a list that
// is not empty means the package.
func (r Rule) of(p *Package, fleet Fleet, t Target) (names []string) {
	if r.Model == "" {
		if p.Kind == INF {
			if r.Class == "" || r.Class == p.Class {
				names = []string{p.Name}
			}
			return names
		}
		for _, m := range p.Modules {
			if r.Class == "" || r.Class == m.Class || m.Class == Other && !p.InTree && drivesOf(p, m, fleet, r.Class, t) {
				names = append(names, m.Name)
			}
		}
		return names
	}
	x := NewIndex([]*Package{p})
	for _, d := range fleet.of(r.Model) {
		if r.Class != "" && r.Class != d.Class {
			continue
		}
		for _, c := range x.Candidates(d, t) {
			names = append(names, cmp.Or(c.Module, p.Name))
		}
	}
	return names
}

// drivesOf tells whether a module drives a device of a class that a workstation has:
// many modules do not say themselves what they are for.
func drivesOf(p *Package, m Module, fleet Fleet, class Class, t Target) bool {
	one := *p
	one.Modules = []Module{m}
	x := NewIndex([]*Package{&one})
	return slices.ContainsFunc(fleet.of("*"), func(d Device) bool { return d.Class == class && len(x.Candidates(d, t)) > 0 })
}

func addChoice(chosen map[string]*Choice, p *Package, names []string) {
	if len(names) == 0 {
		return
	}
	c := chosen[p.ID]
	if c == nil {
		c = &Choice{Package: p}
		chosen[p.ID] = c
	}
	if p.Kind == Modules {
		c.Modules = append(c.Modules, names...)
		slices.Sort(c.Modules)
		c.Modules = slices.Compact(c.Modules)
	}
}

func inOrder(chosen map[string]*Choice, packages []*Package) (all []Choice) {
	for _, p := range packages {
		if c := chosen[p.ID]; c != nil {
			all = append(all, *c)
		}
	}
	return all
}

// admits tells whether a set may give a candidate to a device of a model.
func (s *Set) admits(c Candidate, d Device, model string) bool {
	return s.System == c.Package.Kind.For() && c.Package.Has(s.Arch) && slices.ContainsFunc(s.Rules, func(r Rule) bool {
		return r.takes(c.Package) && Like(r.Model, model) && (r.Class == "" || r.Class == d.Class || r.Class == c.Package.Class)
	})
}

// Choose takes for each device the best package that one of the sets admits; the
// fallback sets are asked for devices for which no other has any. Without sets every
// package is admitted.
func Choose(x *Index, devices []Device, model string, t Target, sets []Set) (all []Choice) {
	admitted := func(d Device, candidates []Candidate, fallback bool) (Candidate, bool) {
		for _, c := range candidates {
			if len(sets) == 0 || slices.ContainsFunc(sets, func(s Set) bool { return s.Fallback == fallback && s.admits(c, d, model) }) {
				return c, true
			}
		}
		return Candidate{}, false
	}
	for _, d := range devices {
		candidates := x.Candidates(d, t)
		c, found := admitted(d, candidates, false)
		if !found {
			c, found = admitted(d, candidates, true)
		}
		if !found {
			continue
		}
		one := Choice{Package: c.Package, Device: d, Why: c.Why}
		if c.Module != "" {
			one.Modules = []string{c.Module}
		}
		all = append(all, one)
	}
	return all
}

// Merge joins choices of the same package; the devices are those of the first.
func Merge(choices []Choice) (all []Choice) {
	for _, c := range choices {
		i := slices.IndexFunc(all, func(o Choice) bool { return o.Package.ID == c.Package.ID })
		if i < 0 {
			all = append(all, c)
			continue
		}
		if c.Modules == nil {
			all[i].Modules = nil
		} else if all[i].Modules != nil {
			all[i].Modules = append(slices.Clone(all[i].Modules), c.Modules...)
			slices.Sort(all[i].Modules)
			all[i].Modules = slices.Compact(all[i].Modules)
		}
	}
	return all
}
