package slabstore

import (
	"errors"
	"io/fs"
	"iter"
	"os"
	"path/filepath"
	"strings"
)

// Slab is a slab as it lies in the store.
type Slab struct {
	Digest Digest
	Size   int64 // bytes of its frame
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
			for _, f := range files {
				d, err := ParseDigest(strings.TrimSuffix(f.Name(), ".zst"))
				if err != nil {
					continue // not ours
				}
				info, err := f.Info()
				if errors.Is(err, fs.ErrNotExist) {
					continue
				}
				if err != nil {
					yield(Slab{}, err)
					return
				}
				if !yield(Slab{d, info.Size()}, nil) {
					return
				}
			}
		}
	}
}

// Remove takes a slab out of the store; one that is not there is no error.
func (s *Store) Remove(d Digest) error {
	err := os.Remove(s.path(d))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}
