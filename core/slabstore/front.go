package slabstore

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/singleflight"
)

// Behind is a store elsewhere, in which slabs lie that need not be in the folder.
type Behind interface {
	Has(d Digest) bool
	// Fetch reads a slab as it is stored there, a frame or a delta, and hands it to use first, then
	// those that come along with it. Nobody has checked them. Errors wrap ErrNotFound, or are the
	// store's.
	Fetch(ctx context.Context, d Digest, use func(d Digest, content []byte) error) error
	// Damaged says that a slab is not what its name promises: it is missing from then on.
	Damaged(ctx context.Context, d Digest) error
}

// Front is a folder before stores elsewhere: what is put goes into the folder, and what is read from
// elsewhere stays in it until Trim takes it away again.
type Front struct {
	*Store
	until    context.Context
	fetching singleflight.Group

	mu     sync.Mutex
	behind []Behind
}

// NewFront puts a folder before stores that SetBehind names; ctx bounds what is asked of them.
func NewFront(ctx context.Context, folder *Store) *Front { return &Front{Store: folder, until: ctx} }

// SetBehind says which stores there are elsewhere.
func (f *Front) SetBehind(stores []Behind) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.behind = slices.Clone(stores)
}

func (f *Front) stores() []Behind {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.behind
}

func (f *Front) elsewhere(d Digest) bool {
	return slices.ContainsFunc(f.stores(), func(b Behind) bool { return b.Has(d) })
}

// Has is Slabs'.
func (f *Front) Has(d Digest) bool { return f.Store.Has(d) || f.elsewhere(d) }

// Put is Slabs'. A slab that is elsewhere is not new.
func (f *Front) Put(d Digest, frame []byte) (bool, error) {
	was := f.elsewhere(d)
	added, err := f.Store.Put(d, frame)
	return added && !was, err
}

// Frame is Slabs'.
func (f *Front) Frame(d Digest) ([]byte, error) {
	return fromFront(f, d, f.Store.Frame, func(plain []byte) []byte { return Compress(nil, plain) })
}

// Get is Slabs'.
func (f *Front) Get(d Digest) ([]byte, error) {
	return fromFront(f, d, f.Store.Get, func(plain []byte) []byte { return plain })
}

// Check is Slabs'. A slab of which the folder has nothing is read where it is, and does not come into
// the folder for that.
func (f *Front) Check(d Digest) (size int64, err error) {
	if size, err = f.Store.Check(d); !errors.Is(err, ErrNotFound) || !f.elsewhere(d) {
		return size, err
	}
	_, size, err = f.read(d, false)
	return size, err
}

func fromFront(f *Front, d Digest, folder func(Digest) ([]byte, error), of func(plain []byte) []byte) ([]byte, error) {
	b, err := folder(d)
	if err == nil {
		f.Store.use(d)
		return b, nil
	}
	if !errors.Is(err, ErrNotFound) || !f.elsewhere(d) {
		return b, err
	}
	got, err, _ := f.fetching.Do(string(d[:]), func() (any, error) {
		plain, _, err := f.read(d, true)
		return plain, err
	})
	if err != nil {
		return nil, err
	}
	return of(got.([]byte)), nil
}

// read gives the plain bytes of a slab that is elsewhere, checked, and how long it is there.
func (f *Front) read(d Digest, keep bool) (plain []byte, size int64, err error) {
	for _, b := range f.stores() {
		if !b.Has(d) {
			continue
		}
		plain, size, one := f.readOne(b, d, keep)
		if one == nil {
			return plain, size, nil
		}
		err = errors.Join(err, one)
	}
	if err == nil {
		err = fmt.Errorf("%w: %s", ErrNotFound, d)
	}
	return nil, 0, err
}

// readOne is read from one store. What is damaged there counts as missing from then on.
func (f *Front) readOne(b Behind, d Digest, keep bool) (plain []byte, size int64, err error) {
	for range 2 { // the second time because a line can damage bytes, too
		if plain, size, err = f.readFrom(b, d, keep); err == nil || !isDamage(err) {
			return plain, size, err
		}
	}
	return nil, size, fmt.Errorf("%w: %s was damaged and is left aside (%w)", ErrNotFound, d, errors.Join(err, b.Damaged(f.until, d)))
}

func isDamage(err error) bool {
	return errors.Is(err, ErrFrame) || errors.Is(err, ErrDigest) || errors.Is(err, ErrDelta)
}

func (f *Front) readFrom(b Behind, d Digest, keep bool) (plain []byte, size int64, err error) {
	err = b.Fetch(f.until, d, func(got Digest, content []byte) error {
		if got != d {
			if keep && !f.Store.Has(got) {
				if _, err := ExpandChecked(nil, content, got); err == nil { // a delta waits until it is wanted
					f.keep(got, content)
				}
			}
			return nil
		}
		size = int64(len(content))
		var err error
		if of, notLeaning := BaseOf(content); notLeaning == nil {
			var base []byte
			if base, err = f.base(of, keep); err != nil {
				return err
			}
			if plain, err = ExpandDeltaChecked(nil, content, base, d); err == nil && keep {
				f.keep(d, Compress(nil, plain))
			}
			return err
		}
		if plain, err = ExpandChecked(nil, content, d); err == nil && keep {
			f.keep(d, content)
		}
		return err
	})
	return plain, size, err
}

// CheckBehind reads a slab from one store and compares its digest; nothing of it comes into the
// folder. Errors are Get's.
func (f *Front) CheckBehind(b Behind, d Digest) (size int64, err error) {
	_, size, err = f.readOne(b, d, false)
	return size, err
}

// base is what a slab elsewhere leans on.
func (f *Front) base(d Digest, keep bool) ([]byte, error) {
	if keep {
		return f.Get(d)
	}
	plain, err := f.Store.Get(d)
	if errors.Is(err, ErrNotFound) && f.elsewhere(d) {
		plain, _, err = f.read(d, false)
	}
	if errors.Is(err, ErrNotFound) {
		err = fmt.Errorf("%w: it leans on %s, which is missing", ErrNotFound, d.Short())
	}
	return plain, err
}

// keep puts a slab into the folder that is safe elsewhere: it need not survive a loss of power, and
// a folder without room does without it.
func (f *Front) keep(d Digest, frame []byte) { f.Store.keepLoosely(d, frame) }

// Fast is the folder alone: what is in it already.
func (f *Front) Fast() *Store { return f.Store }

// Trim takes slabs out of the folder that are elsewhere, those first that nobody has used for
// longest, until the folder has at most so many bytes of those that may go; left is how many it has
// then.
func (f *Front) Trim(most int64, may func(d Digest) bool) (removed int, bytes, left int64, err error) {
	var all []Slab
	for s, err := range f.Store.All() {
		if err != nil {
			return 0, 0, 0, err
		}
		if f.elsewhere(s.Digest) && may(s.Digest) {
			all, left = append(all, s), left+s.Size
		}
	}
	slices.SortFunc(all, func(a, b Slab) int { return a.Used.Compare(b.Used) })
	for range 2 { // what is leaned on goes after those that lean
		for i, s := range all {
			if left <= most {
				return removed, bytes, left, nil
			}
			if s.Size == 0 {
				continue
			}
			switch err := f.Store.Remove(s.Digest); {
			case errors.Is(err, ErrLeanedOn):
			case err != nil:
				return removed, bytes, left, err
			default:
				removed, bytes, left, all[i].Size = removed+1, bytes+s.Size, left-s.Size, 0
			}
		}
	}
	return removed, bytes, left, nil
}

// usedAnew is how old a file's time may become before a use is noted.
const usedAnew = time.Hour

// use notes that a slab was read, for Trim.
func (s *Store) use(d Digest) {
	path := s.path(d)
	if info, err := os.Stat(path); err == nil {
		if now := time.Now(); now.Sub(info.ModTime()) > usedAnew {
			os.Chtimes(path, now, now)
		}
	}
}

// keepLoosely writes a checked frame without waiting for the disk: Get tells whether it is whole.
func (s *Store) keepLoosely(d Digest, frame []byte) error { return s.write(frame, s.path(d), false) }
