package builds

import (
	"debug/elf"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
)

// libraryFolders are where programs of Debian have their libraries.
var libraryFolders = []string{"usr/lib/x86_64-linux-gnu", "lib/x86_64-linux-gnu", "usr/lib64", "lib64", "usr/lib", "lib"}

// maxLibraries bounds what one program needs.
const maxLibraries = 64

// program takes a program of the source with the libraries that it needs, each to the
// place where the program looks for it. Errors wrap ErrNotFound.
func (s *Source) program(to string, names ...string) ([]content, error) {
	f, err := s.find(names...)
	if err != nil {
		return nil, err
	}
	first, err := f.content(to, 0o755)
	if err != nil {
		return nil, err
	}
	all := []content{first}
	taken := map[string]bool{}
	open := []found{f}
	for len(open) > 0 {
		f, open = open[0], open[1:]
		interpreter, libraries, err := needs(f)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", f.name, err)
		}
		wanted := map[string][]string{} // by the place in the layer, the places to look at
		if interpreter != "" {
			at := strings.TrimPrefix(interpreter, "/")
			wanted[at] = []string{at, path.Join("usr", at), path.Join("usr/lib/x86_64-linux-gnu", path.Base(at)), path.Join("lib/x86_64-linux-gnu", path.Base(at))}
		}
		for _, l := range libraries {
			at := path.Join("lib/x86_64-linux-gnu", l)
			for _, folder := range libraryFolders {
				wanted[at] = append(wanted[at], path.Join(folder, l))
			}
		}
		for at, places := range wanted {
			if taken[at] {
				continue
			}
			if taken[at] = true; len(taken) > maxLibraries {
				return nil, errors.New("it needs too many libraries")
			}
			library, err := s.find(places...)
			if err != nil {
				return nil, fmt.Errorf("%s needs %w", f.name, err)
			}
			file, err := library.content(at, 0o755)
			if err != nil {
				return nil, err
			}
			all, open = append(all, file), append(open, library)
		}
	}
	return all, nil
}

// needs reads a program's interpreter and libraries.
func needs(f found) (interpreter string, libraries []string, err error) {
	defer func() { // debug/elf trusts what it reads
		if p := recover(); p != nil {
			err = fmt.Errorf("no program: %v", p)
		}
	}()
	file, err := f.open()
	if err != nil {
		return "", nil, err
	}
	defer file.Close()
	e, err := elf.NewFile(file)
	if err != nil {
		return "", nil, err
	}
	for _, p := range e.Progs {
		if p.Type == elf.PT_INTERP {
			b, err := io.ReadAll(io.LimitReader(p.Open(), 256))
			if err != nil {
				return "", nil, err
			}
			interpreter = strings.TrimRight(string(b), "\x00")
		}
	}
	libraries, err = e.ImportedLibraries()
	return interpreter, libraries, err
}

// ntfsWriter takes the program that writes NTFS, for a kernel that does not know it.
func (s *Source) ntfsWriter(have known) ([]content, string, error) {
	for _, m := range append(have.Modules, have.Builtin...) {
		if m.Name == "ntfs3" {
			return nil, "", nil
		}
	}
	files, err := s.program("usr/bin/ntfs-3g", "usr/bin/ntfs-3g", "bin/ntfs-3g")
	if errors.Is(err, ErrNotFound) {
		return nil, fmt.Sprintf("%v: this kernel cannot write NTFS, so no drivers can be put into Windows volumes (Debian's packages ntfs-3g, libntfs-3g89 and libc6)", err), nil
	}
	return files, "", err
}
