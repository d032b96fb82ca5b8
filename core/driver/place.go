package driver

import (
	"path"
	"strings"
)

// Placed is a file of a package with the place where it belongs on the volume of a
// system.
type Placed struct {
	Package *Package
	File    File
	To      string
}

// WindowsFolder is where driver packages lie on a Windows volume until the first start
// takes them.
const WindowsFolder = "Jugate/Drivers"

// PlaceINF are the files of chosen INF packages on a Windows volume.
func PlaceINF(choices []Choice) (all []Placed) {
	for _, c := range Merge(choices) {
		for _, f := range c.Package.Files {
			all = append(all, Placed{c.Package, f, path.Join(WindowsFolder, c.Package.Name+"-"+c.Package.ID, f.Path)})
		}
	}
	return all
}

// PlaceModules are the files of modules on a Linux volume: those of the kernel's own
// tree where the kernel has them, others below updates, which comes first there.
// Firmware is the system's own if it has it already.
func PlaceModules(modules []Brought) (all []Placed) {
	placed := map[string]bool{}
	add := func(p *Package, name, to string) {
		for _, f := range p.Files {
			if f.Path == name && !placed[to] {
				placed[to] = true
				all = append(all, Placed{p, f, to})
			}
		}
	}
	for _, m := range modules {
		folder := "lib/modules/" + m.Module.Kernel
		to := path.Join(folder, "updates/jugate", path.Base(m.Module.File))
		if m.Package.InTree {
			to = path.Join(folder, path.Dir(m.Module.Path), path.Base(m.Module.File))
		}
		add(m.Package, m.Module.File, to)
		for want, at := range m.Module.Blobs {
			end := ""
			for _, e := range []string{".xz", ".zst"} {
				if strings.HasSuffix(at, e) {
					end = e
				}
			}
			add(m.Package, at, path.Join("lib/firmware", want)+end)
		}
	}
	return all
}
