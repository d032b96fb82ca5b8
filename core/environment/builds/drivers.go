package builds

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"jugate/core/driver"
	"jugate/core/fault"
	"jugate/core/kmod"
)

// modulesPart keeps what a build's modules say of themselves, for the layers that come
// later; no loader asks for it.
const modulesPart = "modules.json"

// known is what modulesPart holds.
type known struct {
	Modules []kmod.Info `json:"modules"`
	Builtin []kmod.Info `json:"builtin"`        // what the kernel has inside
	Rare    []string    `json:"rare,omitempty"` // modules that only RareLayer has
}

// ErrOldBuild says that a build was made before builds said what they drive.
var ErrOldBuild = fault.Conflict.Errorf("this build does not say what it drives; make a new one")

// DriverLayer is the name of the layer that a set of drivers makes.
func DriverLayer(set string) string { return "drivers " + set }

// Drivers are modules that are added to a build, each after what it needs.
type Drivers struct {
	Set     string
	Modules []driver.Brought
	// Open opens a file of a package.
	Open func(p *driver.Package, name string) (io.ReadCloser, error)
}

// Extension is a build that has the parts of another one, and more drivers or programs.
type Extension struct {
	Number   int
	Created  time.Time
	Note     string
	Drivers  []Drivers
	Programs *Programs // nil leaves those that there are
}

// knows reads what a build's modules say, those of its driver layers too.
func (s *Store) knows(b *Build) (known, error) {
	var k known
	c, err := s.Open(b, modulesPart)
	if errors.Is(err, ErrNoPart) {
		return k, fmt.Errorf("build %d: %w", b.Number, ErrOldBuild)
	}
	if err != nil {
		return k, err
	}
	defer c.Close()
	return k, json.NewDecoder(io.NewSectionReader(c, 0, c.Size)).Decode(&k)
}

// Inside is what a build drives.
type Inside struct {
	*driver.Inside
	rare map[string]bool // modules that need the rare layer, be it for what they need themselves
}

// Inside is what a build drives. It may be used from several goroutines.
func (s *Store) Inside(b *Build) (*Inside, error) {
	k, err := s.knows(b)
	if err != nil {
		return nil, err
	}
	in := &Inside{driver.InsideOf(fmt.Sprintf("build %d", b.Number), b.Kernel, "amd64", append(k.Modules, k.Builtin...)), map[string]bool{}}
	in.Prepare()
	x := kmod.NewIndex(k.Modules, nil)
	for _, m := range k.Modules {
		order, _ := x.Order(m.Name) // what it needs and the kernel has inside is in no layer
		in.rare[m.Name] = slices.ContainsFunc(order, func(need kmod.Info) bool { return slices.Contains(k.Rare, need.Name) })
	}
	return in, nil
}

// Spared is the layer that a machine of these devices can do without, with these modules in a layer of its own; the zero layer if
// it needs all that the build has.
func (in *Inside) Spared(b *Build, devices []driver.Device, own []driver.Brought) Layer {
	at := slices.IndexFunc(b.Layers, func(l Layer) bool { return l.Name == RareLayer })
	if at < 0 || slices.ContainsFunc(devices, func(d driver.Device) bool { return in.rare[in.DrivenBy(d)] }) {
		return Layer{}
	}
	for _, m := range own {
		if slices.ContainsFunc(m.Module.Needs, func(need string) bool { return in.rare[need] }) {
			return Layer{}
		}
	}
	return b.Layers[at]
}

// Extend makes a build out of another one, with a layer for each set of drivers, and one of programs. The
// other layers stay what they are; a layer of the same name is replaced.
func (s *Store) Extend(base *Build, e Extension) (*Build, error) {
	k, err := s.knows(base)
	if err != nil {
		return nil, err
	}
	b := *base
	b.Number, b.Created, b.Note = e.Number, e.Created.UTC(), e.Note
	b.Parts, b.Layers, b.Problems = maps.Clone(base.Parts), slices.Clone(base.Layers), slices.Clone(base.Problems)
	b.Packages = slices.Clone(base.Packages)
	for _, d := range e.Drivers {
		layer, problems, err := s.driverLayer(&k, &b, d)
		if err != nil {
			return nil, err
		}
		b.replace(layer)
		b.Problems = append(b.Problems, problems...)
	}
	if e.Programs != nil {
		layer, err := s.programsLayer(&b, *e.Programs)
		if err != nil {
			return nil, err
		}
		b.replace(layer)
	}
	b.Modules = len(k.Modules)
	if err := s.putKnown(&b, k); err != nil {
		return nil, err
	}
	return &b, s.save(&b)
}

// replace puts a layer before that of the settings, in place of one of its name.
func (b *Build) replace(layer Layer) {
	b.Layers = slices.DeleteFunc(b.Layers, func(l Layer) bool { return l.Name == layer.Name })
	at := slices.IndexFunc(b.Layers, func(l Layer) bool { return l.Name == SettingsLayer })
	b.Layers = slices.Insert(b.Layers, max(at, 0), layer)
}

// Compose makes the layer that one workstation's model needs beside a build, and
// returns the part that holds it.
func (s *Store) Compose(b *Build, d Drivers) (Part, error) {
	k, err := s.knows(b)
	if err != nil {
		return Part{}, err
	}
	layer, _, err := s.driverLayer(&k, b, d)
	return layer.Part, err
}

func (s *Store) putKnown(b *Build, k known) error {
	part, err := s.Parts.Put(func(w io.Writer) error { return json.NewEncoder(w).Encode(k) })
	if err != nil {
		return err
	}
	b.Parts[modulesPart] = part
	b.Origins = maps.Clone(b.Origins)
	b.Origins[modulesPart] = "jugate"
	return nil
}

// driverLayer writes the layer of a set, and adds its modules to k. The lists of all
// modules are written anew into it: the kernel takes the last file of a name.
func (s *Store) driverLayer(k *known, b *Build, d Drivers) (Layer, []string, error) {
	folder := path.Join("lib/modules", b.Kernel)
	layer := Layer{Name: DriverLayer(d.Set)}
	var files []content
	var problems []string
	blobs := map[string]bool{}
	for _, m := range d.Modules {
		if m.Module.Kernel != b.Kernel || m.Module.Arch != "amd64" {
			return layer, nil, fmt.Errorf("%s of %s is for kernel %s on %s, not for %s on amd64", m.Module.Name, m.Package.Label(), m.Module.Kernel, m.Module.Arch, b.Kernel)
		}
		file, err := d.file(m.Package, m.Module.File, path.Join(folder, m.Module.Path))
		if err != nil {
			return layer, nil, err
		}
		files = append(files, file)
		k.Modules = slices.DeleteFunc(k.Modules, func(o kmod.Info) bool { return o.Name == m.Module.Name })
		k.Rare = slices.DeleteFunc(k.Rare, func(name string) bool { return name == m.Module.Name })
		k.Modules = append(k.Modules, m.Module.Info)
		for want, at := range m.Module.Blobs {
			if blobs[want] {
				continue
			}
			blobs[want] = true
			file, err := d.file(m.Package, at, path.Join("lib/firmware", want))
			if err != nil {
				return layer, nil, err
			}
			files = append(files, file)
		}
		if len(m.Module.Lacks) > 0 {
			problems = append(problems, fmt.Sprintf("%s may ask for firmware that is not there (%s); such a device may not work", m.Module.Name, some(m.Module.Lacks)))
		}
		if label := m.Package.Label(); !slices.Contains(layer.Packages, label) {
			layer.Packages = append(layer.Packages, label)
		}
	}
	lists, err := moduleLists(folder, k.Modules, k.Builtin)
	if err != nil {
		return layer, nil, &Incomplete{strings.Split(err.Error(), "\n")}
	}
	files = append(files, lists...)
	return layer, problems, s.write(&layer, files)
}

// file reads a file of a package, expanded: the layer is compressed as a whole.
func (d Drivers) file(p *driver.Package, name, to string) (content, error) {
	in, err := d.Open(p, name)
	if err != nil {
		return content{}, fmt.Errorf("%s of %s: %w", name, p.Label(), err)
	}
	defer in.Close()
	b, err := driver.Expand(in, name)
	if err != nil {
		return content{}, fmt.Errorf("%s of %s: %w", name, p.Label(), err)
	}
	file := text(to, 0o644, b)
	file.Origin = p.Label() + " (" + p.ID + ")"
	return file, nil
}
