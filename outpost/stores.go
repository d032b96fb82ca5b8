package outpost

import (
	"bytes"
	"cmp"
	"errors"
	"os"
	"path/filepath"
	"slices"

	"jugate/core/fault"
	"jugate/core/slabstore"
)

// The slabs of an outpost lie in a folder as they are, or sealed in another one. While they are sealed, or opened, they are in both.

func (o *Outpost) slabFolder() string   { return cmp.Or(o.config.SlabFolder, o.carriedSlabs()) }
func (o *Outpost) sealedFolder() string { return filepath.Join(o.config.Data, "sealed") }

// carriedSlabs is where media have slabs.
func (o *Outpost) carriedSlabs() string { return filepath.Join(o.config.Data, "slabs") }

// slabDisk is where there has to be room for what comes.
func (o *Outpost) slabDisk() string { return cmp.Or(o.config.SlabFolder, o.config.Data) }

// use takes a store, with what it has.
func (s *slabs) use(store *slabstore.Store) error {
	s.mu.Lock()
	s.store = store
	s.mu.Unlock()
	for slab, err := range store.All() {
		if err != nil {
			return err
		}
		s.note(slab.Digest, slab.Size)
	}
	return nil
}

// sealBy has slabs be sealed by a key from now on, or by none; what is there is taken over.
func (s *slabs) sealBy(key []byte) error {
	s.changing.Lock()
	defer s.changing.Unlock()
	if s.keyed && bytes.Equal(s.key, key) {
		return nil
	}
	if !s.keyed && len(key) == 0 && len(s.stores()) > 0 { // they lie open already
		s.keyed = true
		return nil
	}
	was, store, old, err := s.change(key)
	if err != nil {
		return err
	}
	s.mu.Lock()
	s.old, s.by, s.bytes = old, map[slabstore.Digest]*held{}, 0
	s.order.Init()
	s.mu.Unlock()
	if err := s.use(store); err != nil {
		return err
	}
	if old != nil {
		if err := s.takeOver(old, store); err != nil {
			return err
		}
	}
	s.mu.Lock()
	s.old = nil
	s.mu.Unlock()
	if err := os.RemoveAll(was); err != nil { // also if nothing could be taken over, as the key is not known any more
		return err
	}
	s.key, s.keyed = key, true
	s.sealed.Store(len(key) > 0)
	return nil
}

// change opens the store for a key, and the one before in the folder was, if there is one that can be opened.
func (s *slabs) change(key []byte) (was string, store, old *slabstore.Store, err error) {
	if len(key) == 0 {
		was = s.o.sealedFolder()
		if store, err = slabstore.Open(s.o.slabFolder()); err == nil && len(s.key) > 0 {
			old, err = slabstore.OpenSealed(was, s.key)
		}
		return was, store, old, err
	}
	was = s.o.slabFolder()
	if store, err = slabstore.OpenSealed(s.o.sealedFolder(), key); err != nil {
		return was, nil, nil, err
	}
	if _, err = store.Purge(); err != nil { // of a key before
		return was, nil, nil, err
	}
	if _, err := os.Stat(was); err == nil {
		old, err = slabstore.Open(was)
		return was, store, old, err
	}
	return was, store, nil, nil
}

// takeOver takes slabs from one store into another one.
func (s *slabs) takeOver(old, store *slabstore.Store) error {
	for slab, err := range old.All() {
		if err != nil {
			return err
		}
		frame, err := old.Frame(slab.Digest)
		if errors.Is(err, slabstore.ErrNotFound) {
			continue // damaged, or gone
		}
		if err != nil {
			return err
		}
		if _, err := store.Put(slab.Digest, frame); err != nil && fault.KindOf(err) != fault.Invalid {
			return err
		}
		s.note(slab.Digest, int64(len(frame)))
		if err := old.Remove(slab.Digest); err != nil {
			return err
		}
	}
	return store.Flush()
}

// stores are those that have slabs now, the one that is in use first.
func (s *slabs) stores() (all []*slabstore.Store) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, store := range []*slabstore.Store{s.store, s.old, s.carried} {
		if store != nil {
			all = append(all, store)
		}
	}
	return all
}

// Has tells whether a slab is here.
func (s *slabs) Has(d slabstore.Digest) bool {
	return slices.ContainsFunc(s.stores(), func(store *slabstore.Store) bool { return store.Has(d) })
}

// firstOf is what the first store says that has a slab.
func firstOf[T any](s *slabs, of func(*slabstore.Store) (T, error)) (got T, err error) {
	err = slabstore.ErrNotFound
	for _, store := range s.stores() {
		if got, err = of(store); err == nil {
			return got, nil
		}
	}
	return got, err
}

// Frame returns a slab that is here.
func (s *slabs) Frame(d slabstore.Digest) ([]byte, error) {
	return firstOf(s, func(store *slabstore.Store) ([]byte, error) { return store.Frame(d) })
}

// Get returns the plain bytes of a slab that is here.
func (s *slabs) Get(d slabstore.Digest) ([]byte, error) {
	return firstOf(s, func(store *slabstore.Store) ([]byte, error) { return store.Get(d) })
}

// Delta is stream.Store's: nothing leans here.
func (s *slabs) Delta(slabstore.Digest) ([]byte, error) { return nil, slabstore.ErrNotFound }

// Check reads a slab, and sets it aside if it is damaged.
func (s *slabs) Check(d slabstore.Digest) (int64, error) {
	return firstOf(s, func(store *slabstore.Store) (int64, error) { return store.Check(d) })
}

// Put keeps a slab.
func (s *slabs) Put(d slabstore.Digest, frame []byte) (bool, error) {
	s.mu.Lock()
	store := s.store
	s.mu.Unlock()
	if store == nil {
		return false, fault.Unready.Errorf("the key that slabs are sealed by is not here")
	}
	return store.Put(d, frame)
}
