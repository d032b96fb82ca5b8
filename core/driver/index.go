package driver

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"jugate/core/kmod"
)

// Index finds the packages that drive a device, among many.
type Index struct {
	packages []*Package
	byID     map[string][]modelRef // INF packages, by identifier
	patterns kmod.Patterns[moduleRef]
}

type modelRef struct {
	pack, model int32
	compatible  bool
}

type moduleRef struct{ pack, module int32 }

// NewIndex makes an index of packages, which it keeps.
func NewIndex(packages []*Package) *Index {
	x := &Index{packages: packages, byID: map[string][]modelRef{}}
	for i, p := range packages {
		for j, m := range p.Models {
			x.byID[m.Hardware] = append(x.byID[m.Hardware], modelRef{int32(i), int32(j), false})
			for _, id := range m.Compatible {
				x.byID[id] = append(x.byID[id], modelRef{int32(i), int32(j), true})
			}
		}
		for j, m := range p.Modules {
			for _, a := range m.Aliases {
				x.patterns.Add(a, moduleRef{int32(i), int32(j)})
			}
		}
	}
	return x
}

// Packages are those of the index.
func (x *Index) Packages() []*Package { return x.packages }

// Candidate is a package that says that it drives a device.
type Candidate struct {
	Package *Package
	Model   *Model // of an INF package
	Module  string // of a package of modules
	ID      string // identifier or pattern that fitted
	Rank    int    // the smaller the better; see the constants
	Why     string // in words, of what decided
}

// The ranks of identifiers, as the INF reference gives them ("How the system ranks
// drivers"): an exact identifier comes before one that is merely compatible, and in
// each list the first before the last. The identifier's place is added.
const (
	rankHardware   = 0x0000 // the device's own id is the package's
	rankCompatible = 0x1000 // the device's own id is one the package is compatible with
	rankGeneral    = 0x2000 // an id that the device is compatible with is the package's
	rankBoth       = 0x3000
)

// Candidates are the packages for a device in a system, best first: exact before
// general, then the later date, the higher version, signed before not signed.
func (x *Index) Candidates(d Device, t Target) []Candidate {
	var all []Candidate
	if t.System != Linux {
		all = x.models(d, t)
	}
	if t.System != Windows {
		all = append(all, x.modules(d, t)...)
	}
	slices.SortStableFunc(all, better)
	for i := range all {
		all[i].Why = all[i].explain(i, all)
	}
	return all
}

func (x *Index) models(d Device, t Target) []Candidate {
	best := map[int32]Candidate{}
	look := func(ids []string, own, foreign int) {
		for place, id := range ids {
			for _, ref := range x.byID[id] {
				p := x.packages[ref.pack]
				m := &p.Models[ref.model]
				rank := own + place
				if ref.compatible {
					rank = foreign + place
				}
				was, there := best[ref.pack]
				closer := there && was.Rank == rank && m.Decoration.closer(was.Model.Decoration) > 0
				if m.Decoration.Fits(t) && archFits(m, t) && (!there || rank < was.Rank || closer) {
					best[ref.pack] = Candidate{Package: p, Model: m, ID: id, Rank: rank}
				}
			}
		}
	}
	look(d.Hardware, rankHardware, rankCompatible)
	look(d.Compatible, rankGeneral, rankBoth)
	var all []Candidate
	for i := range x.packages { // in the order of the library, not of the map
		if c, there := best[int32(i)]; there && len(best) > 0 {
			all = append(all, c)
			delete(best, int32(i))
		}
		if len(best) == 0 {
			break
		}
	}
	return all
}

// archFits holds undecorated models for those of the 32-bit PC.
func archFits(m *Model, t Target) bool {
	return t.Arch == "" || cmp.Or(m.Decoration.Arch, "386") == t.Arch
}

func (x *Index) modules(d Device, t Target) []Candidate {
	best := map[moduleRef]Candidate{}
	x.patterns.Match(d.Modalias, func(pattern string, ref moduleRef) {
		p := x.packages[ref.pack]
		m := &p.Modules[ref.module]
		if t.Kernel != "" && m.Kernel != t.Kernel || t.Arch != "" && m.Arch != t.Arch {
			return
		}
		c := Candidate{Package: p, Module: m.Name, ID: pattern, Rank: generality(pattern)}
		if was, there := best[ref]; !there || c.Rank < was.Rank {
			best[ref] = c
		}
	})
	var all []Candidate
	for _, c := range best {
		all = append(all, c)
	}
	slices.SortFunc(all, func(a, b Candidate) int {
		return cmp.Or(strings.Compare(a.Package.ID, b.Package.ID), strings.Compare(a.Module, b.Module))
	})
	return all
}

// generality ranks a module's pattern on the scale of identifiers: one that names
// vendor and device is the device's own, one that names a class is general.
func generality(pattern string) int {
	stars := strings.Count(pattern, "*")
	_, rest, _ := strings.Cut(pattern, ":")
	if f := strings.SplitN(strings.TrimPrefix(rest, "v"), "d", 2); len(f) == 2 && (strings.HasPrefix(f[0], "*") || strings.HasPrefix(f[1], "*")) {
		return rankGeneral + stars
	}
	return rankHardware + stars
}

// better orders candidates.
func better(a, b Candidate) int {
	return cmp.Or(
		cmp.Compare(a.Rank, b.Rank),
		b.Package.Date.Compare(a.Package.Date),
		CompareVersions(b.Package.Version, a.Package.Version),
		cmp.Compare(signed(b), signed(a)),
		fromTree(a)-fromTree(b), // what was added for it before what the kernel brings
		strings.Compare(a.Package.ID, b.Package.ID),
	)
}

func signed(c Candidate) int {
	if c.Package.Signer != "" {
		return 1
	}
	return 0
}

func fromTree(c Candidate) int {
	if c.Package.InTree {
		return 1
	}
	return 0
}

// CompareVersions orders versions as people read them: numbers by value.
func CompareVersions(a, b string) int {
	split := func(s string) []string {
		return strings.FieldsFunc(s, func(r rune) bool { return strings.ContainsRune(".-+~", r) })
	}
	return slices.CompareFunc(split(a), split(b), func(x, y string) int {
		if strings.Trim(x+y, "0123456789") == "" {
			x, y = strings.TrimLeft(x, "0"), strings.TrimLeft(y, "0")
			return cmp.Or(cmp.Compare(len(x), len(y)), strings.Compare(x, y))
		}
		return strings.Compare(x, y)
	})
}

// explain says in words why a candidate stands where it does.
func (c Candidate) explain(place int, all []Candidate) string {
	fit := "its identifier is the device's own"
	switch {
	case c.Rank >= rankBoth:
		fit = "compatible with what the device is compatible with"
	case c.Rank >= rankGeneral && !strings.Contains(c.ID, "&DEV_"):
		fit = "for devices of this kind in general"
	case c.Rank >= rankGeneral:
		fit = "for this device, whoever built it in"
	case c.Rank >= rankCompatible:
		fit = "compatible with the device"
	}
	if place == 0 {
		if len(all) == 1 {
			return fit + "; no other package drives it"
		}
		return fit + "; " + decided(c, all[1])
	}
	return fit + "; behind " + all[place-1].Package.Label() + ": " + decided(all[place-1], c)
}

// decided says what makes a better than b.
func decided(a, b Candidate) string {
	switch {
	case a.Rank != b.Rank:
		return "the more exact identifier wins"
	case !a.Package.Date.Equal(b.Package.Date):
		return fmt.Sprintf("the later date wins (%s, not %s)", a.Package.Date.Format("2006-01-02"), b.Package.Date.Format("2006-01-02"))
	case CompareVersions(a.Package.Version, b.Package.Version) != 0:
		return fmt.Sprintf("the higher version wins (%s, not %s)", a.Package.Version, b.Package.Version)
	case signed(a) != signed(b):
		return "the signed one wins"
	case fromTree(a) != fromTree(b):
		return "what was added wins over what the kernel brings"
	}
	return "nothing tells them apart; the first stays first"
}
