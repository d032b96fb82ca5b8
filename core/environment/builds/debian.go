package builds

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"jugate/core/archive"

	"pault.ag/go/debian/dependency"
	"pault.ag/go/debian/version"
)

// ProgramsLayer is the name of the layer with programs for commands of the engineer's own.
const ProgramsLayer = "programs"

// Programs are Debian packages whose programs commands can run in the boot environment. The scripts with which a package is set up
// are not run.
type Programs struct {
	Files     []string // of packages
	DoWithout []string // names of packages that others need and that are left out all the same
}

// notCarried are folders that nobody reads in the boot environment.
var notCarried = []string{"usr/share/doc", "usr/share/man", "usr/share/info", "usr/share/locale", "usr/share/lintian", "usr/share/bug", "usr/lib/systemd", "etc/init.d"}

// lacking says which packages others need that are neither there nor done without (Debian Policy, chapter 7).
func lacking(packages []archive.DebianControl, without []string) ([]string, error) {
	have := map[string][]string{} // versions by name; an empty one is provided without any
	for _, p := range packages {
		have[p.Name] = append(have[p.Name], p.Version)
		provides, err := dependency.Parse(p.Provides)
		if err != nil {
			return nil, fmt.Errorf("what %s provides: %w", p.Name, err)
		}
		for _, v := range provides.GetAllPossibilities() {
			number := ""
			if v.Version != nil {
				number = v.Version.Number
			}
			have[v.Name] = append(have[v.Name], number)
		}
	}
	there := func(p dependency.Possibility) bool {
		if slices.Contains(without, p.Name) {
			return true
		}
		return slices.ContainsFunc(have[p.Name], func(number string) bool {
			if p.Version == nil {
				return true
			}
			v, err := version.Parse(number)
			return err == nil && p.Version.SatisfiedBy(v)
		})
	}
	var missing []string
	for _, p := range packages {
		for _, field := range []string{p.PreDepends, p.Depends} {
			needs, err := dependency.Parse(field)
			if err != nil {
				return nil, fmt.Errorf("what %s needs: %w", p.Name, err)
			}
			for _, r := range needs.Relations {
				if !slices.ContainsFunc(r.Possibilities, there) {
					missing = append(missing, fmt.Sprintf("%s %s needs %s", p.Name, p.Version, r))
				}
			}
		}
	}
	return missing, nil
}

// programsLayer writes the layer of programs.
func (s *Store) programsLayer(b *Build, p Programs) (Layer, error) {
	layer := Layer{Name: ProgramsLayer}
	from := &Source{}
	defer from.Close()
	for _, name := range p.Files {
		if err := from.AddPackage(name); err != nil {
			return layer, err
		}
	}
	missing, err := lacking(from.packages, p.DoWithout)
	if err != nil {
		return layer, err
	}
	if len(missing) > 0 {
		return layer, &Incomplete{missing}
	}
	for _, one := range from.packages {
		layer.Packages = append(layer.Packages, one.Name+" "+one.Version)
	}
	files, err := from.everything(b)
	if err != nil {
		return layer, err
	}
	return layer, s.write(&layer, files)
}

// everything is what the packages of the source have, where programs of the boot environment look for it: there /bin and /lib are
// folders of their own.
func (s *Source) everything(b *Build) ([]content, error) {
	taken, own := map[string]content{}, map[string]bool{}
	for _, l := range b.Layers {
		for _, f := range l.Files {
			own[f.Path] = l.Name != ProgramsLayer
		}
	}
	for i := range s.places {
		p := &s.places[i]
		err := fs.WalkDir(p.root.FS(), ".", func(name string, d fs.DirEntry, err error) error {
			switch {
			case err != nil:
				return err
			case d.IsDir() && slices.Contains(notCarried, name):
				return fs.SkipDir
			case d.Type() == fs.ModeSymlink:
				target, err := p.root.Readlink(name)
				taken[name] = content{File: File{Path: name, Mode: fs.ModeSymlink | 0o777, Link: target, Origin: p.origin(name), Package: p.pack(name)}}
				return err
			case !d.Type().IsRegular():
				return nil
			}
			info, err := d.Info()
			if err != nil {
				return err
			}
			taken[name], err = found{p, name, p.origin(name)}.content(name, info.Mode().Perm())
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	for name := range taken {
		if own[name] && !libraryOf(name) {
			return nil, fmt.Errorf("%s is of the boot environment itself; %s cannot replace it", name, taken[name].Origin)
		}
	}
	// What merged systems find through links lies in two places here.
	for name := range taken {
		short, is := strings.CutPrefix(name, "usr/")
		switch {
		case !is:
		case strings.HasPrefix(short, "lib64/"), own[short] && libraryOf(short), short == "bin/sh", short == "bin/bash":
			taken[short] = link(short, strings.Repeat("../", strings.Count(short, "/"))+name)
		}
	}
	var all []content
	for _, c := range taken {
		all = append(all, c)
	}
	return all, nil
}

// libraryOf tells whether a path is one of shared libraries.
func libraryOf(name string) bool {
	return slices.Contains(libraryFolders, path.Dir(name)) || strings.HasPrefix(name, "lib64/")
}
