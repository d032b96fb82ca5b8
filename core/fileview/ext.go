package fileview

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"

	"jugate/core/volume"
)

// extFiles is fs.FS over the files of ext2, ext3 and ext4. Symbolic links are followed
// inside the volume.
type extFiles struct{ e *volume.ExtFiles }

func openExt(r io.ReaderAt, size int64) (fs.FS, error) {
	e, err := volume.OpenExtFiles(r, size)
	if err != nil {
		return nil, err
	}
	root, err := e.Inode(volume.ExtRoot)
	if err == nil && !root.IsFolder() {
		err = fmt.Errorf("%w: it has no root folder", volume.ErrDamaged)
	}
	return extFiles{e}, err
}

// linksAtMost is how many links one path may lead through.
const linksAtMost = 16

func (f extFiles) Open(name string) (fs.File, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	}
	inode, err := f.walk(name)
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: name, Err: err}
	}
	return &extFile{files: f, inode: inode, name: path.Base(name)}, nil
}

// walk goes along a path, and along the links on it.
func (f extFiles) walk(name string) (*volume.ExtInode, error) {
	for range linksAtMost {
		inode, err := f.e.Inode(volume.ExtRoot)
		if err != nil {
			return nil, err
		}
		rest, done := name, ""
		link := ""
		for rest != "" && rest != "." {
			var part string
			part, rest, _ = strings.Cut(rest, "/")
			if inode, err = f.child(inode, part); err != nil {
				return nil, err
			}
			if inode.IsLink() {
				if link, err = inode.Target(); err != nil {
					return nil, err
				}
				break
			}
			done = path.Join(done, part)
		}
		if link == "" {
			return inode, nil
		}
		if !strings.HasPrefix(link, "/") {
			link = "/" + done + "/" + link
		}
		name = strings.TrimPrefix(path.Join(link, rest), "/")
	}
	return nil, errors.New("too many links")
}

func (f extFiles) child(folder *volume.ExtInode, name string) (*volume.ExtInode, error) {
	if !folder.IsFolder() {
		return nil, fs.ErrNotExist
	}
	entries, err := folder.Entries()
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(entries, func(e volume.ExtEntry) bool { return e.Name == name })
	if i < 0 {
		return nil, fs.ErrNotExist
	}
	return f.e.Inode(entries[i].Inode)
}

// extFile is a file or a folder, and its own fs.FileInfo and fs.DirEntry.
type extFile struct {
	undated
	files  extFiles
	inode  *volume.ExtInode
	name   string
	at     int64
	listed listing
}

func (f *extFile) Stat() (fs.FileInfo, error) { return f, nil }
func (f *extFile) Info() (fs.FileInfo, error) { return f, nil }
func (f *extFile) Name() string               { return f.name }
func (f *extFile) IsDir() bool                { return f.inode.IsFolder() }
func (f *extFile) Type() fs.FileMode          { return f.Mode().Type() }

func (f *extFile) Mode() fs.FileMode {
	mode := fs.FileMode(f.inode.Mode & 0o777)
	switch {
	case f.inode.IsFolder():
		return mode | fs.ModeDir
	case f.inode.IsLink():
		return mode | fs.ModeSymlink
	case !f.inode.IsFile():
		return mode | fs.ModeIrregular
	}
	return mode
}

func (f *extFile) Size() int64 {
	if f.inode.IsFile() {
		return f.inode.Size
	}
	return 0
}

func (f *extFile) Read(b []byte) (int, error) {
	if !f.inode.IsFile() {
		return 0, &fs.PathError{Op: "read", Path: f.name, Err: fs.ErrInvalid}
	}
	n, err := f.inode.ReadAt(b, f.at)
	f.at += int64(n)
	if n > 0 && errors.Is(err, io.EOF) {
		err = nil
	}
	return n, err
}

// ReadAt is io.ReaderAt's.
func (f *extFile) ReadAt(b []byte, off int64) (int, error) { return f.inode.ReadAt(b, off) }

func (f *extFile) ReadDir(n int) ([]fs.DirEntry, error) {
	if !f.inode.IsFolder() {
		return nil, &fs.PathError{Op: "readdir", Path: f.name, Err: fs.ErrInvalid}
	}
	if f.listed == nil {
		entries, err := f.inode.Entries()
		if err != nil {
			return nil, err
		}
		f.listed = listing{}
		for _, e := range entries {
			inode, err := f.files.e.Inode(e.Inode)
			if err != nil {
				return nil, err
			}
			f.listed = append(f.listed, &extFile{files: f.files, inode: inode, name: e.Name})
		}
		f.listed.sort()
	}
	return f.listed.next(n)
}
