package answers

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
)

// Do is what a change does.
type Do string

// What changes do.
const (
	Write  Do = "write"  // a file, or another of the same name
	Remove Do = "remove" // a file or link that is there
	Link   Do = "link"   // a symbolic link, in place of what has the name
	Folder Do = "folder" // a folder that is not there yet
)

// Change is one change of a system's files. Names are those of io/fs.
type Change struct {
	Do      Do
	Path    string
	Content []byte // of a file
	Target  string // of a link
	Mode    fs.FileMode
	UID     int
	GID     int
	Secret  bool   // people are not shown the content
	Why     string // in a few words
}

// Plan is what answers do to a system.
type Plan struct {
	Changes []Change
	// Payloads are brought by their names, from where the service keeps them.
	Payloads []Brought
	// Runs are programs of the system itself that are run within it afterwards.
	Runs [][]string
	// Remarks say what could not be done, and what people should know.
	Remarks []string
}

// Brought is a payload and where it comes to.
type Brought struct {
	Name string
	Path string
}

// files are a system's files with the changes so far.
type files struct {
	fs.FS
	plan *Plan
}

// read is the content of a file as it will be; false if it will not be there.
func (f *files) read(name string) ([]byte, bool) {
	for _, c := range slices.Backward(f.plan.Changes) {
		if c.Path == name {
			return c.Content, c.Do == Write
		}
	}
	text, err := fs.ReadFile(f.FS, name)
	return text, err == nil
}

// has tells whether the system has a file, link or folder of that name.
func (f *files) has(name string) bool {
	_, err := fs.Stat(f.FS, name)
	return err == nil
}

// hasAny returns the first of some names that is there, or empty.
func (f *files) hasAny(names ...string) string {
	for _, name := range names {
		if f.has(name) {
			return name
		}
	}
	return ""
}

// write plans to write a file, if it does not have that content already, and returns the change
// to be completed.
func (f *files) write(name, why string, mode fs.FileMode, content []byte) *Change {
	c := Change{Do: Write, Path: name, Content: content, Mode: mode, Why: why}
	if is, has := f.read(name); has && string(is) == string(content) {
		return &c
	}
	f.plan.Changes = append(f.plan.Changes, c)
	return &f.plan.Changes[len(f.plan.Changes)-1]
}

func (f *files) link(name, target, why string) {
	f.plan.Changes = append(f.plan.Changes, Change{Do: Link, Path: name, Target: target, Why: why})
}

// remove removes a file if it is there.
func (f *files) remove(name, why string) {
	if f.has(name) {
		f.plan.Changes = append(f.plan.Changes, Change{Do: Remove, Path: name, Why: why})
	}
}

// removeAll removes the files that fit a pattern (path.Match).
func (f *files) removeAll(pattern, why string) {
	names, err := fs.Glob(f.FS, pattern)
	if err != nil {
		panic(err) // the pattern is the program's own
	}
	slices.Sort(names)
	for _, name := range names {
		f.remove(name, why)
	}
}

// folder makes a folder that is not there, and those above it.
func (f *files) folder(name, why string, mode fs.FileMode, uid, gid int) {
	if name == "." || f.has(name) || slices.ContainsFunc(f.plan.Changes, func(c Change) bool { return c.Do == Folder && c.Path == name }) {
		return
	}
	f.folder(path.Dir(name), why, 0o755, 0, 0)
	f.plan.Changes = append(f.plan.Changes, Change{Do: Folder, Path: name, Mode: mode, UID: uid, GID: gid, Why: why})
}

func (f *files) remark(format string, args ...any) {
	f.plan.Remarks = append(f.plan.Remarks, fmt.Sprintf(format, args...))
}
