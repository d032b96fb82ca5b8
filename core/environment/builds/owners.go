package builds

import (
	"bufio"
	"errors"
	"io/fs"
	"os"
	"path"
	"strings"
)

// owners tells of which Debian package a system's files are, by the lists that dpkg keeps of them (dpkg-query(1)).
type owners struct {
	packages map[string]string // NAME VERSION, by the path of the file without the slash in front
}

// dpkgFolder is where dpkg keeps what it has installed.
const dpkgFolder = "var/lib/dpkg"

// readOwners reads them; a system that dpkg has not installed has none.
func readOwners(root *os.Root) (*owners, error) {
	o := &owners{packages: map[string]string{}}
	versions, err := installed(root)
	if errors.Is(err, fs.ErrNotExist) {
		return o, nil
	}
	if err != nil {
		return nil, err
	}
	lists, err := fs.Glob(root.FS(), dpkgFolder+"/info/*.list")
	if err != nil {
		return nil, err
	}
	for _, list := range lists {
		name, _, _ := strings.Cut(strings.TrimSuffix(path.Base(list), ".list"), ":") // NAME, or NAME:ARCHITECTURE
		version, is := versions[name]
		if !is {
			continue
		}
		if err := lines(root, list, func(line string) { o.packages[strings.TrimPrefix(line, "/")] = name + " " + version }); err != nil {
			return nil, err
		}
	}
	return o, nil
}

// installed are the versions of packages, by their names.
func installed(root *os.Root) (map[string]string, error) {
	all := map[string]string{}
	name := ""
	return all, lines(root, dpkgFolder+"/status", func(line string) {
		switch key, value, _ := strings.Cut(line, ": "); key {
		case "Package":
			name = value
		case "Version":
			all[name] = value
		}
	})
}

func lines(root *os.Root, name string, each func(line string)) error {
	f, err := root.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	s := bufio.NewScanner(f)
	s.Buffer(nil, 1<<20)
	for s.Scan() {
		each(s.Text())
	}
	return s.Err()
}

// of is the package of a file, as NAME VERSION; empty if no package has it. A package may have a file in a folder that has become a
// link into usr/ since.
func (o *owners) of(name string) string {
	for _, is := range []string{name, strings.TrimPrefix(name, "usr/"), "usr/" + name} {
		if p := o.packages[is]; p != "" {
			return p
		}
	}
	return ""
}
