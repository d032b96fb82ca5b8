package driver

import (
	"errors"
	"fmt"
	"slices"

	"jugate/core/kmod"
)

// Brought is a module that is put into a system, with the package that it is from.
type Brought struct {
	Package *Package
	Module  Module
}

// Bring lists what has to come so that the chosen modules can be loaded in a kernel
// that has those of present already: the modules themselves, and what they need, from
// the same package or from any other of the library for that kernel. Each comes after
// what it needs. Errors wrap kmod.ErrMissing and name what is nowhere.
func Bring(choices []Choice, packages []*Package, kernel string, present []string) ([]Brought, error) {
	from := map[string]Brought{}
	var infos []kmod.Info
	var chosen []string
	add := func(p *Package, m Module) {
		if _, there := from[m.Name]; there || m.Kernel != kernel {
			return
		}
		from[m.Name] = Brought{p, m}
		infos = append(infos, m.Info)
	}
	for _, c := range choices {
		for _, name := range c.Modules {
			if m, there := c.Package.module(name); there {
				if m.Kernel != kernel {
					return nil, fmt.Errorf("%s of %s is for kernel %s, not for %s", name, c.Package.Label(), m.Kernel, kernel)
				}
				add(c.Package, m)
				chosen = append(chosen, m.Name)
			}
		}
	}
	for _, c := range choices { // its own companions before those of others
		for _, m := range c.Package.Modules {
			add(c.Package, m)
		}
	}
	inside := slices.Clone(present)
	for _, p := range packages {
		for _, m := range p.Modules {
			add(p, m)
		}
		if p.InTree && p.Kernel == kernel {
			inside = append(inside, p.Builtin...)
		}
	}
	// What is there already is needed no more, but for what was chosen to take its place.
	inside = slices.DeleteFunc(inside, func(name string) bool { return slices.Contains(chosen, kmod.Canonical(name)) })
	order, err := kmod.NewIndex(infos, inside).Order(chosen...)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("for kernel %s", kernel), err)
	}
	var all []Brought
	for _, m := range order {
		all = append(all, from[m.Name])
	}
	return all, nil
}
