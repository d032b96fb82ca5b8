// Package slabstore keeps slabs on disk, each once, under the digest of its
// plain bytes.
//
//	slabs/ab/abcdef….zst    one Zstandard frame
//	slabs/ab/abcdef….delta  or a delta, which leans on another slab that is there as a frame
//	slabs/damaged/          slabs that were not what their names promise
//
// Put checks the digest before anything is visible; Get checks it again. A slab
// file is written under a temporary name, synced and renamed, so that a cut
// leaves either the whole slab or nothing of that name. Flush syncs the folders
// and is called once before something refers to the slabs put so far.
package slabstore

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"syscall"

	"jugate/core/fault"

	"jugate/core/durable"
)

var (
	// ErrDigest says that bytes are not those that their name promises.
	ErrDigest = fault.Invalid.Errorf("the digest does not match the bytes")
	// ErrNotFound says that the store has no slab of that digest.
	ErrNotFound = fault.NotFound.Errorf("no such slab in the store")
	// ErrFull says that the disk under the store has no room left.
	ErrFull = fault.Full.Errorf("the store is full: free some room on its disk and try again")
)

// Store is a folder of slabs. It may be used from several goroutines.
type Store struct {
	dir  string
	seal *seal // nil for an open one

	flushing sync.Mutex // taken before mu

	// leaning is held, also while the disk works, when slabs begin or cease to lean: nobody must
	// begin to lean on one that does or goes. It is taken before the others.
	leaning sync.Mutex
	leans   leaners // who leans on this one; nil until it is wanted

	mu    sync.Mutex
	dirty map[string]bool // folders with renames that were not synced yet
}

// Open opens the store in dir, making the folder if there is none, and removes
// what a cut has left of unfinished writes.
func Open(dir string) (*Store, error) {
	if err := os.MkdirAll(filepath.Join(dir, "new"), 0o755); err != nil {
		return nil, err
	}
	left, err := os.ReadDir(filepath.Join(dir, "new"))
	if err != nil {
		return nil, err
	}
	for _, e := range left {
		if err := os.Remove(filepath.Join(dir, "new", e.Name())); err != nil {
			return nil, err
		}
	}
	return &Store{dir: dir, dirty: map[string]bool{}}, nil
}

func (s *Store) path(d Digest) string {
	if s.seal != nil {
		name := s.seal.name(d)
		return filepath.Join(s.dir, name[:2], name+".sealed")
	}
	return s.file(d, ".zst")
}

// read reads the file of a frame. Errors are the system's, or errSeal.
func (s *Store) read(d Digest) ([]byte, error) {
	b, err := os.ReadFile(s.path(d))
	if err == nil && s.seal != nil {
		b, err = s.seal.open(d, b)
	}
	return b, err
}

func (s *Store) deltaPath(d Digest) string { return s.file(d, ".delta") }

func (s *Store) file(d Digest, suffix string) string {
	name := d.String()
	return filepath.Join(s.dir, name[:2], name+suffix)
}

// FrameFile is where, below the folder of an open store, the frame of a slab lies.
func FrameFile(d Digest) string { return d.String()[:2] + "/" + d.String() + ".zst" }

// Has reports whether the slab is there, with what it leans on.
func (s *Store) Has(d Digest) bool {
	if s.isWhole(d) {
		return true
	}
	base, err := s.Base(d)
	return err == nil && s.isWhole(base) || s.isWhole(d) // it may have been settled meanwhile
}

// isWhole tells whether the slab is there as a frame.
func (s *Store) isWhole(d Digest) bool {
	_, err := os.Stat(s.path(d))
	return err == nil
}

// Put takes the frame of a slab, checks it against d and keeps it, and tells
// whether it was new. A file of that name is believed only if it holds what its name
// promises; otherwise it is set aside, and replaced. Errors wrap ErrFrame, ErrDigest or
// ErrFull, or are the system's; none leaves anything behind.
func (s *Store) Put(d Digest, frame []byte) (added bool, err error) {
	scratch := plains.Get().(*[]byte)
	defer plains.Put(scratch)
	if *scratch, err = ExpandChecked((*scratch)[:0], frame, d); err != nil {
		return false, err
	}
	return s.Keep(d, frame)
}

// plains are buffers for bytes that are only looked at.
var plains = sync.Pool{New: func() any { return new([]byte) }}

// Keep is Put for a frame that was made here, of bytes whose digest was just computed:
// it is not expanded to be looked at again.
func (s *Store) Keep(d Digest, frame []byte) (added bool, err error) {
	if s.Has(d) {
		if _, err := s.Check(d); err == nil {
			return false, nil
		} else if !errors.Is(err, ErrNotFound) {
			return false, err
		}
	}
	content := frame
	if s.seal != nil {
		content = s.seal.close(d, frame)
	}
	if err := s.write(content, s.path(d), true); err != nil {
		return false, err
	}
	return true, s.standsAlone(d)
}

// write makes a file that is there whole or not at all; after a loss of power, only if it was synced.
func (s *Store) write(content []byte, path string, sync bool) error {
	f, err := os.CreateTemp(filepath.Join(s.dir, "new"), "slab")
	if err != nil {
		return explain(err)
	}
	_, err = f.Write(content)
	if err == nil && sync {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err == nil {
		err = s.publish(f.Name(), path)
	}
	if err != nil {
		return errors.Join(explain(err), os.Remove(f.Name()))
	}
	return nil
}

func (s *Store) publish(from, to string) error {
	dir := filepath.Dir(to)
	switch err := os.Mkdir(dir, 0o755); {
	case err == nil:
		s.mark(s.dir)
	case !errors.Is(err, fs.ErrExist):
		return err
	}
	if err := os.Rename(from, to); err != nil {
		return err
	}
	s.mark(dir)
	return nil
}

func (s *Store) mark(dir string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.dirty[dir] = true
}

// Flush makes every slab put so far survive a loss of power. Folders that cannot be
// synced are tried again by the next Flush.
func (s *Store) Flush() error {
	s.flushing.Lock() // held while the disk works: whoever comes second must not return before that
	defer s.flushing.Unlock()
	s.mu.Lock()
	dirs := s.dirty
	s.dirty = map[string]bool{}
	s.mu.Unlock()
	var errs []error
	for dir := range dirs {
		if err := syncDir(dir); err != nil {
			s.mark(dir)
			errs = append(errs, err)
		}
	}
	return errors.Join(errs...)
}

// Sync makes a slab that is there survive a loss of power once Flush has returned, however it came.
func (s *Store) Sync(d Digest) error {
	for _, path := range []string{s.path(d), s.deltaPath(d)} {
		f, err := os.Open(path)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		if err := errors.Join(f.Sync(), f.Close()); err != nil {
			return err
		}
		s.mark(filepath.Dir(path))
	}
	return nil
}

// syncDir is replaced by a test.
var syncDir = durable.SyncDir

// Frame returns the slab as a frame, without checking its digest: whoever it is for checks
// it. Of a slab that leans it is made anew, and checked on the way. Errors wrap ErrNotFound
// or are the system's.
func (s *Store) Frame(d Digest) ([]byte, error) {
	frame, err := s.read(d)
	switch {
	case errors.Is(err, errSeal):
		return nil, s.damaged(d, s.path(d), err)
	case errors.Is(err, fs.ErrNotExist):
		plain, err := s.Get(d)
		if err != nil {
			return nil, err
		}
		return Compress(nil, plain), nil
	}
	return frame, err
}

// Get returns the plain bytes of a slab, checked. One that is damaged is set aside and
// is missing from then on, so that the next capture or import brings it again. Errors
// wrap ErrNotFound.
func (s *Store) Get(d Digest) ([]byte, error) {
	if s.isWhole(d) {
		return s.whole(d)
	}
	delta, missing := s.Delta(d)
	if missing != nil {
		return s.whole(d) // it was settled meanwhile, or is missing
	}
	of, err := BaseOf(delta)
	if err != nil {
		return nil, s.damaged(d, s.deltaPath(d), err)
	}
	base, err := s.whole(of)
	if err != nil {
		return nil, fmt.Errorf("%s leans on another slab: %w", d.Short(), err)
	}
	plain, err := ExpandDeltaChecked(nil, delta, base, d)
	if err != nil {
		return nil, s.damaged(d, s.deltaPath(d), err)
	}
	return plain, nil
}

// whole is Get for a slab that is there as a frame.
func (s *Store) whole(d Digest) ([]byte, error) {
	frame, err := s.read(d)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, fmt.Errorf("%w: %s", ErrNotFound, d)
	case errors.Is(err, errSeal):
		return nil, s.damaged(d, s.path(d), err)
	case err != nil:
		return nil, err
	}
	plain, err := ExpandChecked(nil, frame, d)
	if err != nil {
		return nil, s.damaged(d, s.path(d), err)
	}
	return plain, nil
}

// Check reads a slab and compares its digest; size is that of its file, in bytes. Errors are
// Get's.
func (s *Store) Check(d Digest) (size int64, err error) {
	for _, path := range []string{s.deltaPath(d), s.path(d)} {
		if info, err := os.Stat(path); err == nil {
			size = info.Size()
		}
	}
	_, err = s.Get(d)
	return size, err
}

// damaged moves a damaged file out of the way, where an engineer can look at it, and says why.
func (s *Store) damaged(d Digest, path string, why error) error {
	dir := filepath.Join(s.dir, "damaged")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return errors.Join(why, err)
	}
	if err := os.Rename(path, filepath.Join(dir, filepath.Base(path))); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return errors.Join(why, err)
	}
	s.mark(dir)
	s.mark(filepath.Dir(path))
	return fmt.Errorf("%w: %s was damaged and is set aside (%w)", ErrNotFound, d, why)
}

func explain(err error) error {
	if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) {
		return fmt.Errorf("%w (%w)", ErrFull, syscall.ENOSPC)
	}
	return err
}
