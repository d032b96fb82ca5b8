// Package parts keeps what machines boot: files in a folder, each named by the BLAKE3-256 digest of what is in it, so that what is
// equal is kept once. Several are read as one, as loaders want it of the segments of an initial root file system.
//
//	store, err := parts.Open(dir)
//	part, err := store.Put(func(w io.Writer) error { _, err := io.Copy(w, kernel); return err })
//	content, err := store.Open(part)
package parts

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/zeebo/blake3"

	"jugate/core/durable"
	"jugate/core/slabstore"
)

// Part is a stored file.
type Part struct {
	Digest slabstore.Digest `json:"digest"`
	Size   int64            `json:"size"` // bytes
}

// Store keeps parts in a folder.
type Store struct{ dir string }

// Open opens the folder, makes it if it is not there, and removes what was never kept.
func Open(dir string) (*Store, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	return &Store{dir}, durable.Sweep(dir)
}

func (s *Store) file(p Part) string { return filepath.Join(s.dir, p.Digest.String()) }

// Put stores what fill writes.
func (s *Store) Put(fill func(io.Writer) error) (Part, error) {
	f, err := durable.Create(filepath.Join(s.dir, "part"), 0o644)
	if err != nil {
		return Part{}, err
	}
	defer f.Drop()
	h := blake3.New()
	err = fill(io.MultiWriter(f, h))
	size, seekErr := f.Seek(0, io.SeekCurrent)
	if err = errors.Join(err, seekErr); err != nil {
		return Part{}, err
	}
	part := Part{Digest: slabstore.Digest(h.Sum(nil)), Size: size}
	return part, f.KeepAs(s.file(part))
}

// Find is the part of a digest. Errors wrap fs.ErrNotExist.
func (s *Store) Find(d slabstore.Digest) (Part, error) {
	p := Part{Digest: d}
	info, err := os.Stat(s.file(p))
	if err != nil {
		return p, err
	}
	p.Size = info.Size()
	return p, nil
}

// All are all parts, in the order of their digests.
func (s *Store) All() ([]Part, error) {
	entries, err := os.ReadDir(s.dir)
	if err != nil {
		return nil, err
	}
	var all []Part
	for _, e := range entries {
		d, err := slabstore.ParseDigest(e.Name())
		if err != nil {
			continue // what is being written
		}
		p, err := s.Find(d)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		all = append(all, p)
	}
	return all, nil
}

// Take stores what fill writes, if it is the part that it is said to be.
func (s *Store) Take(want Part, fill func(io.Writer) error) error {
	f, err := durable.Create(filepath.Join(s.dir, "part"), 0o644)
	if err != nil {
		return err
	}
	defer f.Drop()
	h := blake3.New()
	if err := fill(io.MultiWriter(f, h)); err != nil {
		return err
	}
	if got := slabstore.Digest(h.Sum(nil)); got != want.Digest {
		return fmt.Errorf("%w: what came as %s is %s", slabstore.ErrDigest, want.Digest.Short(), got.Short())
	}
	return f.KeepAs(s.file(want))
}

// Remove removes a part. One that is not there is no error.
func (s *Store) Remove(p Part) error {
	err := os.Remove(s.file(p))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// Content is an open part, or several one after the other.
type Content struct {
	io.ReaderAt
	Size  int64
	files []*os.File
}

// Close closes the files.
func (c *Content) Close() error {
	var errs []error
	for _, f := range c.files {
		errs = append(errs, f.Close())
	}
	return errors.Join(errs...)
}

// Open opens parts as one, each at a multiple of Align. Errors wrap fs.ErrNotExist if one is not there.
func (s *Store) Open(all ...Part) (*Content, error) {
	c := &Content{}
	var pieces chain
	for _, part := range all {
		f, err := os.Open(s.file(part))
		if err != nil {
			return nil, errors.Join(err, c.Close())
		}
		c.files = append(c.files, f)
		if gap := Align(c.Size) - c.Size; gap > 0 {
			pieces = append(pieces, piece{c.Size, io.NewSectionReader(bytes.NewReader(make([]byte, gap)), 0, gap)})
			c.Size += gap
		}
		pieces = append(pieces, piece{c.Size, io.NewSectionReader(f, 0, part.Size)})
		c.Size += part.Size
	}
	if c.ReaderAt = pieces; len(pieces) == 1 {
		c.ReaderAt = c.files[0]
	}
	return c, nil
}

// Align is where the next segment may begin: the kernel wants multiples of four bytes.
func Align(n int64) int64 { return (n + 3) &^ 3 }

// chain are readers that follow each other.
type chain []piece

type piece struct {
	start int64
	*io.SectionReader
}

func (c chain) ReadAt(b []byte, off int64) (n int, err error) {
	for _, p := range c {
		if off >= p.start+p.Size() {
			continue
		}
		got, err := p.SectionReader.ReadAt(b[n:], off-p.start)
		n += got
		off += int64(got)
		if n == len(b) {
			return n, nil
		}
		if err != nil && err != io.EOF {
			return n, err
		}
	}
	return n, io.EOF
}
