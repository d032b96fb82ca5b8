package fileview

import (
	"io"
	"io/fs"
	"slices"
	"strings"
	"time"
)

// undated is what all files here have in common: there is nothing to close, and nobody
// asks for dates.
type undated struct{}

func (undated) Close() error       { return nil }
func (undated) ModTime() time.Time { return time.Time{} }
func (undated) Sys() any           { return nil }

// listing is what is left to tell of a folder.
type listing []fs.DirEntry

func (l listing) sort() {
	slices.SortFunc(l, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
}

// next takes entries as fs.ReadDirFile has it: all of them, or n at the most.
func (l *listing) next(n int) ([]fs.DirEntry, error) {
	if n <= 0 {
		n = len(*l)
	} else if len(*l) == 0 {
		return nil, io.EOF
	}
	n = min(n, len(*l))
	part := (*l)[:n]
	*l = (*l)[n:]
	return part, nil
}
