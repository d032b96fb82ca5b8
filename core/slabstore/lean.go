package slabstore

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"runtime"
	"slices"

	"golang.org/x/sync/errgroup"

	"jugate/core/fault"
)

// A slab that has much in common with another one is kept as a delta, which leans on the
// other. What is leaned on leans on nothing: a slab needs one other at most.

// ErrLeanedOn says that a slab cannot go, or lean itself, because others lean on it.
var ErrLeanedOn = fault.Conflict.Errorf("other slabs lean on this one")

// worthIt tells whether a delta is so much smaller than the frame that it is worth reading
// two slabs for one.
func worthIt(delta, frame int) bool { return 4*delta <= 3*frame }

// Base is the slab that one leans on. Errors wrap ErrNotFound, for one that stands alone, or
// ErrDelta.
func (s *Store) Base(d Digest) (Digest, error) {
	f, err := os.Open(s.deltaPath(d))
	if errors.Is(err, fs.ErrNotExist) {
		return Digest{}, fmt.Errorf("%w as a delta: %s", ErrNotFound, d)
	}
	if err != nil {
		return Digest{}, err
	}
	defer f.Close()
	head := make([]byte, deltaHead)
	if _, err := io.ReadFull(f, head); err != nil {
		return Digest{}, fmt.Errorf("%w: %w", ErrDelta, err)
	}
	return BaseOf(head)
}

// Leans tells whether a slab is stored as a delta.
func (s *Store) Leans(d Digest) bool {
	_, err := os.Stat(s.deltaPath(d))
	return err == nil && !s.isWhole(d)
}

// Delta is a slab as it is stored, if it leans; nobody has checked anything of it. Errors wrap
// ErrNotFound.
func (s *Store) Delta(d Digest) ([]byte, error) {
	delta, err := os.ReadFile(s.deltaPath(d))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w as a delta: %s", ErrNotFound, d)
	}
	return delta, err
}

// Leaning is a slab that may lean on another one.
type Leaning struct{ Slab, On Digest }

// Lean has slabs lean on others that are there as frames, each if that saves much: saved is
// how many bytes. Slabs that others lean on, and those that lean already, stay as they are,
// and so does one that is damaged or missing: who reads it is told. When it returns, all
// survives a loss of power.
func (s *Store) Lean(slabs []Leaning) (leaned int, saved int64, err error) {
	if s.seal != nil {
		return 0, 0, ErrSealed
	}
	deltas := make([][]byte, len(slabs))
	lengths := make([]int64, len(slabs)) // of the frames
	var making errgroup.Group
	making.SetLimit(max(1, runtime.GOMAXPROCS(0)/2)) // nobody waits for it
	for i, l := range slabs {
		making.Go(func() (err error) {
			deltas[i], lengths[i], err = s.delta(l)
			if errors.Is(err, ErrNotFound) {
				return nil
			}
			return err
		})
	}
	if err := making.Wait(); err != nil {
		return 0, 0, err
	}
	s.leaning.Lock()
	defer s.leaning.Unlock()
	if err := s.load(); err != nil {
		return 0, 0, err
	}
	var over []Digest // whose frames go
	for i, l := range slabs {
		if _, err := s.Base(l.On); deltas[i] == nil || err == nil || len(s.leans[l.Slab]) > 0 || !s.isWhole(l.On) || slices.Contains(over, l.Slab) {
			continue
		}
		if err := s.write(deltas[i], s.deltaPath(l.Slab), true); err != nil {
			return 0, 0, err
		}
		s.leans.add(l)
		over = append(over, l.Slab)
		saved += lengths[i] - int64(len(deltas[i]))
	}
	if err := s.Flush(); err != nil {
		return 0, 0, err
	}
	for _, d := range over {
		if err := os.Remove(s.path(d)); err != nil {
			return 0, 0, err
		}
	}
	return len(over), saved, nil
}

// delta makes a delta, and tells how long the frame is; nil for one that is not worth it.
func (s *Store) delta(l Leaning) (delta []byte, frame int64, err error) {
	if l.Slab == l.On {
		return nil, 0, nil
	}
	info, err := os.Stat(s.path(l.Slab))
	if err != nil {
		return nil, 0, fmt.Errorf("%w as a frame: %w", ErrNotFound, err)
	}
	plain, err := s.whole(l.Slab)
	if err != nil {
		return nil, 0, err
	}
	base, err := s.whole(l.On)
	if err != nil {
		return nil, 0, err
	}
	if delta, err = CompressDelta(nil, plain, base, l.On); err != nil || !worthIt(len(delta), int(info.Size())) {
		return nil, 0, err
	}
	if _, err := ExpandDeltaChecked(nil, delta, base, l.Slab); err != nil {
		return nil, 0, fmt.Errorf("a delta that was just made does not expand: %w", err)
	}
	return delta, info.Size(), nil
}

// Settle has slabs stand alone again; added is how many bytes that takes more. One that does
// so already stays as it is. Other errors are those of Get, or ErrFull; what was settled by then
// stays so.
func (s *Store) Settle(slabs []Digest) (settled int, added int64, err error) {
	s.leaning.Lock()
	defer s.leaning.Unlock()
	if err := s.load(); err != nil {
		return 0, 0, err
	}
	var over []Digest // whose deltas go
	for _, d := range slabs {
		var frame []byte
		if _, err = s.Base(d); errors.Is(err, ErrNotFound) {
			err = nil
			continue
		}
		if frame, err = s.Frame(d); err != nil {
			break
		}
		if err = s.write(frame, s.path(d), true); err != nil {
			break
		}
		over = append(over, d)
		added += int64(len(frame))
	}
	if flushed := s.Flush(); flushed != nil {
		return 0, 0, errors.Join(err, flushed)
	}
	for _, d := range over {
		on, baseErr := s.Base(d)
		info, statErr := os.Stat(s.deltaPath(d))
		if gone := errors.Join(baseErr, statErr, os.Remove(s.deltaPath(d))); gone != nil {
			return settled, added, errors.Join(err, gone)
		}
		s.leans.remove(Leaning{d, on})
		settled++
		added -= info.Size()
	}
	return settled, added, err
}

// load finds out who leans on whom.
func (s *Store) load() error {
	if s.leans != nil {
		return nil
	}
	leans := leaners{}
	for slab, err := range s.All() {
		if err != nil {
			return err
		}
		if slab.Leans {
			leans.add(Leaning{slab.Digest, slab.Base})
		}
	}
	s.leans = leans
	return nil
}

// standsAlone takes away the delta of a slab that has come anew, as it leans on what is lost.
func (s *Store) standsAlone(d Digest) error {
	if _, err := os.Stat(s.deltaPath(d)); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	s.leaning.Lock()
	defer s.leaning.Unlock()
	if !s.isWhole(d) { // it leans again since, on one that is there
		return nil
	}
	if on, err := s.Base(d); err == nil {
		s.leans.remove(Leaning{d, on})
	}
	if err := os.Remove(s.deltaPath(d)); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// leaners are those that lean on each slab.
type leaners map[Digest]map[Digest]struct{}

func (l leaners) add(one Leaning) {
	if l[one.On] == nil {
		l[one.On] = map[Digest]struct{}{}
	}
	l[one.On][one.Slab] = struct{}{}
}

func (l leaners) remove(one Leaning) {
	if delete(l[one.On], one.Slab); len(l[one.On]) == 0 {
		delete(l, one.On)
	}
}
