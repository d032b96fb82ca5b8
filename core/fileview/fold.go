package fileview

import (
	"io/fs"
	"path"
	"slices"
	"strings"
)

// FindFold finds a name whatever the case of its letters, as NTFS does. What is not there
// keeps the spelling of what is.
func FindFold(root fs.FS, name string) (string, bool) {
	at := "."
	parts := strings.Split(name, "/")
	for i, part := range parts {
		entries, err := fs.ReadDir(root, at)
		j := -1
		if err == nil {
			j = slices.IndexFunc(entries, func(e fs.DirEntry) bool { return strings.EqualFold(e.Name(), part) })
		}
		if j < 0 {
			return path.Join(append([]string{at}, parts[i:]...)...), false
		}
		at = path.Join(at, entries[j].Name())
	}
	return at, true
}
