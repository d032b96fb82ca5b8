// Package durable writes files and folders that are there whole or not at all,
// whenever the process is killed or the power fails.
//
//	err := durable.Write("service.pem", key, 0o600)
//
//	f, err := durable.Create("gold.jugate", 0o644)
//	defer f.Drop() // nothing, once it is kept
//	_, err = f.Write(content)
//	err = f.KeepNew() // or Keep, which replaces
//
// Everything is written under a temporary name in the same folder, synced, renamed,
// and the folder is synced. What a kill leaves of that begins with a prefix that Sweep
// removes; nobody else should use it.
package durable

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// prefix begins temporary names.
const prefix = ".new-"

// File is a file that is being written and not visible under its name yet.
type File struct {
	*os.File
	path string
	perm fs.FileMode
	done bool
}

// Create begins a file that will have the name path, which may be taken.
func Create(path string, perm fs.FileMode) (*File, error) {
	f, err := os.CreateTemp(filepath.Dir(path), prefix+filepath.Base(path)+"-*")
	if err != nil {
		return nil, err
	}
	return &File{File: f, path: path, perm: perm}, nil
}

// Keep makes the file visible, in place of one that had its name.
func (f *File) Keep() error { return f.keep(os.Rename) }

// KeepAs is Keep under another name in the same folder, which was not known before.
func (f *File) KeepAs(path string) error {
	f.path = path
	return f.Keep()
}

// KeepNew makes the file visible if its name is free; else the error wraps fs.ErrExist.
func (f *File) KeepNew() error {
	return f.keep(func(from, to string) error {
		if err := os.Link(from, to); err != nil {
			return err
		}
		return os.Remove(from)
	})
}

func (f *File) keep(rename func(from, to string) error) error {
	if err := errors.Join(f.Chmod(f.perm), f.Sync(), f.Close()); err != nil {
		return err
	}
	if err := rename(f.Name(), f.path); err != nil {
		return err
	}
	f.done = true
	return SyncDir(filepath.Dir(f.path))
}

// Drop removes the file, unless it is kept.
func (f *File) Drop() {
	if !f.done {
		f.Close()
		os.Remove(f.Name())
		f.done = true
	}
}

// Write writes a whole file, in place of one that had its name.
func Write(path string, content []byte, perm fs.FileMode) error {
	f, err := Create(path, perm)
	if err != nil {
		return err
	}
	defer f.Drop()
	if _, err := f.Write(content); err != nil {
		return err
	}
	return f.Keep()
}

// Folder is a folder that is being filled and not visible under its name yet.
type Folder struct {
	Path string // where it lies now
	done bool
}

// CreateFolder begins a folder inside parent.
func CreateFolder(parent string) (*Folder, error) {
	path, err := os.MkdirTemp(parent, prefix+"*")
	if err != nil {
		return nil, err
	}
	return &Folder{Path: path}, os.Chmod(path, 0o755)
}

// Keep makes the folder visible as path, in place of one that had its name. The files in
// it must have been synced; Write does.
func (f *Folder) Keep(path string) error {
	if err := SyncDir(f.Path); err != nil {
		return err
	}
	if err := os.RemoveAll(path); err != nil {
		return err
	}
	if err := os.Rename(f.Path, path); err != nil {
		return err
	}
	f.done = true
	return SyncDir(filepath.Dir(path))
}

// Drop removes the folder, unless it is kept.
func (f *Folder) Drop() {
	if !f.done {
		os.RemoveAll(f.Path)
		f.done = true
	}
}

// SyncDir makes renames in a folder survive a loss of power.
func SyncDir(dir string) error {
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}

// IsUnfinished tells whether a name is that of a file or folder that is not visible yet.
func IsUnfinished(name string) bool { return strings.HasPrefix(name, prefix) }

// Sweep removes what a kill has left in a folder; one that is not there has nothing.
func Sweep(dir string) error { return SweepOld(dir, 0) }

// SweepOld is Sweep for a folder that others may write into now: what is younger than an age stays.
func SweepOld(dir string, age time.Duration) error {
	entries, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, e := range entries {
		if !IsUnfinished(e.Name()) {
			continue
		}
		if info, err := e.Info(); age > 0 && (err != nil || time.Since(info.ModTime()) < age) {
			continue
		}
		if err := os.RemoveAll(filepath.Join(dir, e.Name())); err != nil {
			return err
		}
	}
	return nil
}
