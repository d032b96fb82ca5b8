package slabstore

import (
	"errors"
	"io/fs"
	"iter"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// Slab is a slab as it lies in the store.
type Slab struct {
	Digest Digest
	Size   int64     // bytes of its file
	Used   time.Time // when it was written, or read after an hour or more
	Leans  bool      // on Base
	Base   Digest
}

// All goes through the slabs of the store, in the order of their digests. What is
// put or removed meanwhile may be seen or not.
func (s *Store) All() iter.Seq2[Slab, error] {
	return func(yield func(Slab, error) bool) {
		folders, err := os.ReadDir(s.dir)
		if err != nil {
			yield(Slab{}, err)
			return
		}
		for _, folder := range folders {
			if len(folder.Name()) != 2 {
				continue
			}
			files, err := os.ReadDir(filepath.Join(s.dir, folder.Name()))
			if err != nil {
				yield(Slab{}, err)
				return
			}
			for i, f := range files {
				if s.seal != nil {
					d, err := s.seal.ofFile(filepath.Join(s.dir, folder.Name(), f.Name()))
					if err != nil {
						continue // another key's, or not ours
					}
					if info, err := f.Info(); err == nil && !yield(Slab{Digest: d, Size: info.Size(), Used: info.ModTime()}, nil) {
						return
					}
					continue
				}
				name, leans := strings.CutSuffix(f.Name(), ".delta")
				d, err := ParseDigest(strings.TrimSuffix(name, ".zst"))
				if err != nil || leans && i+1 < len(files) && files[i+1].Name() == name+".zst" {
					continue // not ours, or about to stand alone, or to lean
				}
				slab, err := s.lies(d, f, leans)
				if errors.Is(err, fs.ErrNotExist) || errors.Is(err, ErrNotFound) {
					continue
				}
				if err != nil {
					yield(Slab{}, err)
					return
				}
				if !yield(slab, nil) {
					return
				}
			}
		}
	}
}

func (s *Store) lies(d Digest, f fs.DirEntry, leans bool) (Slab, error) {
	slab := Slab{Digest: d, Leans: leans}
	info, err := f.Info()
	if err != nil {
		return slab, err
	}
	slab.Size, slab.Used = info.Size(), info.ModTime()
	if leans {
		slab.Base, err = s.Base(d)
		if errors.Is(err, ErrDelta) {
			err = nil // whoever wants it finds out
		}
	}
	return slab, err
}

// Remove takes a slab out of the store, if it is there. ErrLeanedOn says
// that others lean on it.
func (s *Store) Remove(d Digest) error {
	s.leaning.Lock()
	defer s.leaning.Unlock()
	if err := s.load(); err != nil {
		return err
	}
	if len(s.leans[d]) > 0 {
		return ErrLeanedOn
	}
	if on, err := s.Base(d); err == nil {
		s.leans.remove(Leaning{d, on})
	}
	for _, path := range []string{s.deltaPath(d), s.path(d)} {
		if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}
