package driver

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"jugate/core/fault"

	"github.com/zeebo/blake3"
	"golang.org/x/sys/unix"

	"jugate/core/durable"
	"jugate/core/slabstore"
)

// ErrThere says that the library has a package already.
var ErrThere = errors.New("the library has this package already")

// ErrNoPackage says that the library has no such package.
var ErrNoPackage = fault.NotFound.Errorf("no such driver package")

// Library keeps packages in a folder: ID/package.json, and their files below
// ID/files. It may be used from several goroutines.
type Library struct {
	dir string
	// Notices says what OpenLibrary could not read, in words.
	Notices []string

	mu    sync.RWMutex
	packs []*Package // by name, then version
	index *Index
}

// OpenLibrary opens the folder, and makes it if it is not there. What a process that
// was cut off left behind is removed.
func OpenLibrary(dir string) (*Library, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	if err := durable.Sweep(dir); err != nil {
		return nil, err
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	l := &Library{dir: dir}
	for _, e := range entries {
		if strings.HasPrefix(e.Name(), "new") { // what a kill left of version 0.1.0
			if err := os.RemoveAll(filepath.Join(dir, e.Name())); err != nil {
				return nil, err
			}
			continue
		}
		p := &Package{}
		b, err := os.ReadFile(filepath.Join(dir, e.Name(), "package.json"))
		if err == nil {
			err = json.Unmarshal(b, p)
		}
		if err != nil {
			l.Notices = append(l.Notices, fmt.Sprintf("driver package %s cannot be read, and is left out: %v", e.Name(), err))
			continue
		}
		if err := l.readAgain(p); err != nil {
			l.Notices = append(l.Notices, fmt.Sprintf("how the driver package %s is started cannot be read: %v", p.Label(), err))
		}
		l.packs = append(l.packs, p)
	}
	l.sort()
	return l, nil
}

// readAgain reads from the files of a disk controller's package how it is started, which version 0.1.0
// did not keep.
func (l *Library) readAgain(p *Package) error {
	if p.Kind != INF || p.Class != Storage || p.ClassID != "" {
		return nil
	}
	t, err := newTree(os.DirFS(filepath.Join(l.dir, p.ID, "files")))
	if err != nil {
		return err
	}
	for _, f := range p.Files {
		if strings.EqualFold(path.Base(f.Path), p.Name+".inf") {
			again, err := readINF(t, f.Path)
			if err == nil {
				p.ClassID, p.Models = again.ClassID, again.Models
			}
			return err
		}
	}
	return nil
}

// sort orders the packages and makes the index anew. The caller holds mu, or is alone.
func (l *Library) sort() {
	slices.SortFunc(l.packs, func(a, b *Package) int {
		if c := strings.Compare(a.Name, b.Name); c != 0 {
			return c
		}
		return CompareVersions(b.Version, a.Version)
	})
	l.index = nil
}

// Packages are all packages, by name, newest version first. They must not be changed.
func (l *Library) Packages() []*Package {
	l.mu.RLock()
	defer l.mu.RUnlock()
	return slices.Clone(l.packs)
}

// Index is an index of all packages.
func (l *Library) Index() *Index {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.index == nil {
		l.index = NewIndex(slices.Clone(l.packs))
	}
	return l.index
}

// Package finds a package by its id, the beginning of it, or its name if there is
// only one of that name. Errors wrap ErrNoPackage.
func (l *Library) Package(ref string) (*Package, error) {
	var found []*Package
	for _, p := range l.Packages() {
		if p.ID == ref {
			return p, nil
		}
		if len(ref) >= 4 && strings.HasPrefix(p.ID, ref) || strings.EqualFold(p.Name, ref) {
			found = append(found, p)
		}
	}
	switch len(found) {
	case 0:
		return nil, fmt.Errorf("%w: %s", ErrNoPackage, ref)
	case 1:
		return found[0], nil
	}
	var ids []string
	for _, p := range found {
		ids = append(ids, p.ID+" ("+p.Label()+")")
	}
	return nil, fmt.Errorf("%w: %s can be any of %s; use the id", ErrNoPackage, ref, strings.Join(ids, ", "))
}

// Add takes a package that Find found in root into the library; it is there as a
// whole, or not at all. The same package twice is one entry, and ErrThere.
func (l *Library) Add(root fs.FS, p *Package, origin string, now time.Time) (*Package, error) {
	if there, err := l.Package(p.ID); err == nil {
		return there, fmt.Errorf("%w: %s", ErrThere, there.Label())
	}
	own := *p
	own.Origin, own.Added = origin, now.UTC()
	folder, err := durable.CreateFolder(l.dir)
	if err != nil {
		return nil, err
	}
	defer folder.Drop()
	if err := copyFiles(root, &own, filepath.Join(folder.Path, "files")); err != nil {
		return nil, fmt.Errorf("%s: %w", p.Label(), err)
	}
	text, err := json.Marshal(own)
	if err != nil {
		return nil, err
	}
	if err := durable.Write(filepath.Join(folder.Path, "package.json"), text, 0o644); err != nil {
		return nil, err
	}
	if err := syncAll(folder.Path); err != nil {
		return nil, err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if err := folder.Keep(filepath.Join(l.dir, own.ID)); err != nil {
		return nil, err
	}
	l.packs = append(l.packs, &own)
	l.sort()
	return &own, nil
}

// syncAll has the file system write everything: a package may have thousands of
// files.
func syncAll(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(unix.Syncfs(int(d.Fd())), d.Close())
}

// copyFiles copies the files of a package and checks each against its digest. Their
// paths become those below the folder that they have in common.
func copyFiles(root fs.FS, p *Package, dir string) error {
	base := commonFolder(p.Files)
	below := func(name string) string { return strings.TrimPrefix(strings.TrimPrefix(name, base), "/") }
	p.Files = slices.Clone(p.Files)
	for i, f := range p.Files {
		p.Files[i].Path = below(f.Path)
		if err := copyFile(root, f, filepath.Join(dir, filepath.FromSlash(p.Files[i].Path))); err != nil {
			return fmt.Errorf("%s: %w", f.Path, err)
		}
	}
	p.Modules = slices.Clone(p.Modules)
	for i, m := range p.Modules {
		p.Modules[i].File = below(m.File)
		p.Modules[i].Blobs = maps.Clone(m.Blobs)
		for name, at := range m.Blobs {
			p.Modules[i].Blobs[name] = below(at)
		}
	}
	p.Models = slices.Clone(p.Models)
	for i, m := range p.Models {
		if m.Service != nil && m.Service.File != "" {
			own := *m.Service
			own.File = below(own.File)
			p.Models[i].Service = &own
		}
	}
	p.Catalogue = below(p.Catalogue)
	return nil
}

func copyFile(root fs.FS, f File, to string) error {
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return err
	}
	in, err := root.Open(f.Path)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.Create(to)
	if err != nil {
		return err
	}
	h := blake3.New()
	_, err = io.Copy(io.MultiWriter(out, h), in)
	if err = errors.Join(err, out.Close()); err != nil {
		return err
	}
	if got := slabstore.Digest(h.Sum(nil)); got != f.Digest {
		return fmt.Errorf("it changed while it was read: its digest is %s, not %s", got, f.Digest)
	}
	return nil
}

// commonFolder is the deepest folder that all files lie in.
func commonFolder(files []File) string {
	if len(files) == 0 {
		return ""
	}
	base := path.Dir(files[0].Path)
	for _, f := range files {
		for base != "." && !strings.HasPrefix(f.Path, base+"/") {
			base = path.Dir(base)
		}
	}
	if base == "." {
		return ""
	}
	return base
}

// Remove takes a package out of the library.
func (l *Library) Remove(id string) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	i := slices.IndexFunc(l.packs, func(p *Package) bool { return p.ID == id })
	if i < 0 {
		return fmt.Errorf("%w: %s", ErrNoPackage, id)
	}
	gone, err := durable.CreateFolder(l.dir)
	if err != nil {
		return err
	}
	defer gone.Drop()
	if err := os.Rename(filepath.Join(l.dir, id), filepath.Join(gone.Path, id)); err != nil { // out of sight at once
		return err
	}
	l.packs = slices.Delete(l.packs, i, i+1)
	l.sort()
	return durable.SyncDir(l.dir)
}

// Open opens a file of a package.
func (l *Library) Open(p *Package, name string) (*os.File, error) {
	if !slices.ContainsFunc(p.Files, func(f File) bool { return f.Path == name }) {
		return nil, fmt.Errorf("%s: %w", name, fs.ErrNotExist)
	}
	return os.Open(filepath.Join(l.dir, p.ID, "files", filepath.FromSlash(name)))
}
