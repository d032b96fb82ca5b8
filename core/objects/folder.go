package objects

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"iter"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/gofrs/flock"
	"github.com/zeebo/blake3"

	"jugate/core/durable"
	"jugate/core/fault"
)

// ErrFull says that the disk under a folder has no room left.
var ErrFull = fault.Full.Errorf("the folder is full: free some room on its disk and try again")

// Folder keeps objects as files of a folder, which may be another machine's. Conditions hold
// among all who use it through this type. A tag is the BLAKE3-256 digest of the content.
type Folder struct {
	dir   string
	swept sync.Map // folders in which what cuts have left was looked for
}

// OpenFolder keeps objects in a folder. One that is not there is not made: it may be another
// machine's, which is away.
func OpenFolder(dir string) *Folder { return &Folder{dir: dir} }

// there is an error unless the folder itself is there.
func (f *Folder) there() error {
	info, err := os.Stat(f.dir)
	if errors.Is(err, fs.ErrNotExist) || err == nil && !info.IsDir() {
		return fault.Unreachable.Errorf("the folder %s does not exist", f.dir)
	}
	return err
}

func (f *Folder) path(name string) (string, error) {
	if err := CheckName(name); err != nil {
		return "", fmt.Errorf("%w: %q", err, name)
	}
	if err := f.there(); err != nil {
		return "", err
	}
	return filepath.Join(f.dir, filepath.FromSlash(name)), nil
}

// cutAge is how old a file must be that is not visible yet, to be what a cut has left: another process
// may write into the same folder.
const cutAge = 24 * time.Hour

// lockName begins with a dot, as no part of a name does.
const lockName = ".lock"

// Put is Store's.
func (f *Folder) Put(ctx context.Context, name string, content []byte, when Condition) (tag string, err error) {
	path, err := f.path(name)
	if err != nil {
		return "", err
	}
	if when != Always {
		lock := flock.New(filepath.Join(f.dir, lockName))
		if err := lock.Lock(); err != nil {
			return "", err
		}
		defer lock.Unlock()
		switch there, err := os.ReadFile(path); {
		case errors.Is(err, fs.ErrNotExist):
			if when != Absent {
				return "", fmt.Errorf("%w: %s is gone", ErrCondition, name)
			}
		case err != nil:
			return "", err
		case when == Absent || tagOf(there) != string(when):
			return "", fmt.Errorf("%w: %s", ErrCondition, name)
		}
	}
	return tagOf(content), f.write(path, func(w io.Writer) error { _, err := w.Write(content); return err })
}

// Write is Store's.
func (f *Folder) Write(ctx context.Context, name string, content io.Reader) error {
	path, err := f.path(name)
	if err != nil {
		return err
	}
	return f.write(path, func(w io.Writer) error { _, err := io.Copy(w, content); return err })
}

func (f *Folder) write(path string, content func(w io.Writer) error) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o750); err != nil {
		return explain(err)
	}
	if _, was := f.swept.LoadOrStore(filepath.Dir(path), true); !was {
		if err := durable.SweepOld(filepath.Dir(path), cutAge); err != nil {
			return err
		}
	}
	d, err := durable.Create(path, 0o640)
	if err != nil {
		return explain(err)
	}
	defer d.Drop()
	if err := content(d); err != nil {
		return explain(err)
	}
	return explain(d.Keep())
}

func explain(err error) error {
	if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) {
		return fmt.Errorf("%w (%w)", ErrFull, err)
	}
	return err
}

// Open is Store's.
func (f *Folder) Open(ctx context.Context, name string, from, length int64) (io.ReadCloser, error) {
	path, err := f.path(name)
	if err != nil {
		return nil, err
	}
	file, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w: %s", ErrNotFound, name)
	}
	if err != nil {
		return nil, err
	}
	if length < 0 {
		length = 1<<62 - from
	}
	return struct {
		io.Reader
		io.Closer
	}{io.NewSectionReader(file, from, length), file}, nil
}

// Stat is Store's.
func (f *Folder) Stat(ctx context.Context, name string) (Object, error) {
	path, err := f.path(name)
	if err != nil {
		return Object{}, err
	}
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return Object{}, fmt.Errorf("%w: %s", ErrNotFound, name)
	}
	if err != nil {
		return Object{}, err
	}
	content, err := os.Open(path)
	if err != nil {
		return Object{}, err
	}
	defer content.Close()
	h := blake3.New()
	_, err = io.Copy(h, content)
	return Object{Name: name, Size: info.Size(), Changed: info.ModTime(), Tag: fmt.Sprintf("%x", h.Sum(nil))}, err
}

// List is Store's. It tells no tags.
func (f *Folder) List(ctx context.Context, prefix string) iter.Seq2[Object, error] {
	return func(yield func(Object, error) bool) {
		if err := f.there(); err != nil {
			yield(Object{}, err)
			return
		}
		under := f.dir
		if i := strings.LastIndex(prefix, "/"); i > 0 {
			under = filepath.Join(f.dir, filepath.FromSlash(prefix[:i]))
		}
		err := filepath.WalkDir(under, func(path string, e fs.DirEntry, err error) error {
			if errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			if err = errors.Join(err, ctx.Err()); err != nil {
				return err
			}
			rel, err := filepath.Rel(f.dir, path)
			name := filepath.ToSlash(rel)
			if err != nil || !e.Type().IsRegular() || CheckName(name) != nil || !strings.HasPrefix(name, prefix) {
				return err
			}
			info, err := e.Info()
			if errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			if err != nil {
				return err
			}
			if !yield(Object{Name: name, Size: info.Size(), Changed: info.ModTime()}, nil) {
				return fs.SkipAll
			}
			return nil
		})
		if err != nil {
			yield(Object{}, err)
		}
	}
}

// Remove is Store's.
func (f *Folder) Remove(ctx context.Context, name string) error {
	path, err := f.path(name)
	if err != nil {
		return err
	}
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

func tagOf(content []byte) string {
	sum := blake3.Sum256(content)
	return fmt.Sprintf("%x", sum[:])
}
