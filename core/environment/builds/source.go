package builds

import (
	"archive/tar"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"jugate/core/archive"
	"jugate/core/driver"
)

// Source is where the kernel, its modules and the loaders come from: folders that
// hold a system's root, and Debian packages. What was added first is found first.
type Source struct {
	places   []place
	packages []archive.DebianControl
	temp     []string
}

// place is one root, and what files from it are said to come from.
type place struct {
	root   *os.Root
	origin func(name string) string
	pack   func(name string) string // the Debian package of a file, as NAME VERSION; empty if nobody knows
}

// ErrNotFound says that nothing in the source has a file.
var ErrNotFound = errors.New("not in any of the places that were given")

// maxUnpacked bounds the files that are taken out of one package, in bytes.
const maxUnpacked = 4 << 30

// AddRoot adds a folder that holds a system, such as / or an unpacked package.
func (s *Source) AddRoot(dir string) error {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	owners, err := readOwners(root)
	if err != nil {
		return fmt.Errorf("see of which packages the files in %s are: %w", dir, errors.Join(err, root.Close()))
	}
	s.places = append(s.places, place{root, func(name string) string { return filepath.Join(dir, name) }, owners.of})
	return nil
}

// AddPackage adds a Debian package, unpacked into a folder that Close removes.
func (s *Source) AddPackage(file string) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	pack, err := archive.OpenDebian(f)
	if err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	defer pack.Close()
	dir, err := os.MkdirTemp("", "package")
	if err != nil {
		return err
	}
	s.temp = append(s.temp, dir)
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	if err := unpack(root, pack.Data); err != nil {
		return fmt.Errorf("%s: %w", file, errors.Join(err, root.Close()))
	}
	s.packages = append(s.packages, pack.DebianControl)
	origin := fmt.Sprintf("%s %s", pack.Name, pack.Version)
	s.places = append(s.places, place{root, func(string) string { return origin }, func(string) string { return origin }})
	return nil
}

// unpack writes the files and links of an archive; no name leads out of root.
func unpack(root *os.Root, in *tar.Reader) error {
	left := int64(maxUnpacked)
	for {
		h, err := in.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		name := path.Clean(strings.TrimPrefix(h.Name, "./"))
		switch h.Typeflag {
		case tar.TypeDir:
			err = root.MkdirAll(name, 0o755)
		case tar.TypeSymlink:
			if err = root.MkdirAll(path.Dir(name), 0o755); err == nil {
				err = root.Symlink(h.Linkname, name)
			}
		case tar.TypeReg:
			if left -= h.Size; left < 0 {
				return fmt.Errorf("it has more than %d bytes of files", int64(maxUnpacked))
			}
			if err = root.MkdirAll(path.Dir(name), 0o755); err == nil {
				err = writeFile(root, name, in, h.FileInfo().Mode().Perm())
			}
		case tar.TypeLink:
			if err = root.MkdirAll(path.Dir(name), 0o755); err == nil {
				err = root.Link(path.Clean(strings.TrimPrefix(h.Linkname, "./")), name)
			}
		}
		if err != nil {
			return err
		}
	}
}

func writeFile(root *os.Root, name string, in io.Reader, mode fs.FileMode) error {
	f, err := root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, mode|0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, in)
	return errors.Join(err, f.Close())
}

// Close removes what was unpacked.
func (s *Source) Close() error {
	var errs []error
	for _, p := range s.places {
		errs = append(errs, p.root.Close())
	}
	for _, dir := range s.temp {
		errs = append(errs, os.RemoveAll(dir))
	}
	return errors.Join(errs...)
}

// found is a file of the source.
type found struct {
	place  *place
	name   string
	origin string
}

// pack is the Debian package that it is of, as NAME VERSION.
func (f found) pack() string { return f.place.pack(f.name) }

func (f found) open() (*os.File, error) { return f.place.root.Open(f.name) }

// find returns the first of these files that is there.
func (s *Source) find(names ...string) (found, error) {
	for i := range s.places {
		p := &s.places[i]
		for _, name := range names {
			if info, err := p.root.Stat(name); err == nil && info.Mode().IsRegular() {
				return found{p, name, p.origin(name)}, nil
			}
		}
	}
	return found{}, fmt.Errorf("%s: %w", strings.Join(names, " or "), ErrNotFound)
}

// moduleFolders are where modules lie, by the age of the system.
var moduleFolders = []string{"usr/lib/modules", "lib/modules"}

// kernel is one kernel of the source, with its modules.
type kernel struct {
	release string
	image   found
	place   *place
	modules string // folder of the modules
}

// kernels are all kernels that have modules, newest name last.
func (s *Source) kernels() (all []kernel) {
	for i := range s.places {
		p := &s.places[i]
		for _, folder := range moduleFolders {
			entries, err := fs.ReadDir(p.root.FS(), folder)
			if err != nil {
				continue
			}
			for _, e := range entries {
				image, err := s.find("boot/vmlinuz-"+e.Name(), path.Join(folder, e.Name(), "vmlinuz"))
				if err != nil || slices.ContainsFunc(all, func(k kernel) bool { return k.release == e.Name() }) {
					continue
				}
				all = append(all, kernel{e.Name(), image, p, path.Join(folder, e.Name())})
			}
		}
	}
	slices.SortFunc(all, func(a, b kernel) int { return driver.CompareVersions(a.release, b.release) })
	return all
}
