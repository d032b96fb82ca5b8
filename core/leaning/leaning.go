// Package leaning has the slabs that a version brought lean on those of the version before
// it, where they have much in common: what changed is what is stored.
//
//	done, err := leaning.Run(ctx, store, leaning.Version{Slabs: before, …}, leaning.Version{Slabs: after, …}, nil)
//
// The base of a slab is the one that is most like it (package likeness), or the one that was
// at its place. Sketches of a version are kept beside it, so that the next time only new
// slabs are read; they can be made again at any time.
package leaning

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"io"
	"os"
	"runtime"

	"golang.org/x/sync/errgroup"

	"jugate/core/durable"
	"jugate/core/image"
	"jugate/core/likeness"
	"jugate/core/slabstore"
)

// Store is where the slabs are.
type Store interface {
	Get(d slabstore.Digest) ([]byte, error)
	Lean(slabs []slabstore.Leaning) (leaned int, saved int64, err error)
}

// Version is a version of an image.
type Version struct {
	Slabs *image.Map
	// Sketches is the file that keeps the sketches of its slabs.
	Sketches string
}

// Done is what came of it.
type Done struct {
	Slabs int   // that lean now
	Bytes int64 // that the store has less
}

const (
	// wantedAtOnce is how many slabs are looked for in one pass over the version before.
	wantedAtOnce = 16 << 10
	// sketchedAtOnce is how many slabs are read side by side.
	sketchedAtOnce = 16
	// leanedAtOnce is how many deltas are in memory.
	leanedAtOnce = 16
)

// Run has the slabs lean that after has and before has not, unless they are to stay as they
// are. A slab that cannot be read stays as it is. Errors are those of the store or the
// system, or the context's.
func Run(ctx context.Context, store Store, before, after Version, stays func(slabstore.Digest) bool) (Done, error) {
	var done Done
	bases, err := open(ctx, store, before, nil)
	if err != nil {
		return done, err
	}
	defer bases.Close()
	own, err := open(ctx, store, after, bases)
	if err != nil {
		return done, err
	}
	defer own.Close()
	var fresh []int
	for i, d := range after.Slabs.Distinct() {
		if !before.Slabs.Has(d) && (stays == nil || !stays(d)) {
			fresh = append(fresh, i)
		}
	}
	for len(fresh) > 0 {
		part := fresh[:min(len(fresh), wantedAtOnce)]
		fresh = fresh[len(part):]
		pairs, err := choose(before, after, bases, own, part)
		if err != nil {
			return done, err
		}
		for len(pairs) > 0 {
			group := pairs[:min(len(pairs), leanedAtOnce)]
			pairs = pairs[len(group):]
			n, saved, err := store.Lean(group)
			if done.Slabs, done.Bytes = done.Slabs+n, done.Bytes+saved; err == nil {
				err = ctx.Err()
			}
			if err != nil {
				return done, err
			}
		}
	}
	return done, nil
}

// choose finds a base for each of some slabs.
func choose(before, after Version, bases, own *sketches, wanted []int) (pairs []slabstore.Leaning, err error) {
	wants := make([]likeness.Sketch, len(wanted))
	for k, i := range wanted {
		if wants[k], err = own.of(i); err != nil {
			return nil, err
		}
	}
	search := likeness.NewSearch(wants)
	same := image.Replaced(after.Slabs, before.Slabs) // what was at the place of a slab
	offer := func(j int) error {
		s, err := bases.of(j)
		if err == nil {
			search.Offer(j, s)
		}
		return err
	}
	for _, i := range wanted { // first: among equals it is what was at the place
		if j, there := same[i]; there {
			if err := offer(j); err != nil {
				return nil, err
			}
		}
	}
	for j := range before.Slabs.Distinct() {
		if err := offer(j); err != nil {
			return nil, err
		}
	}
	for k, i := range wanted {
		base, found := search.Best(k)
		if !found {
			base, found = same[i]
		}
		if found {
			pairs = append(pairs, slabstore.Leaning{Slab: after.Slabs.Slab(i).Digest, On: before.Slabs.Slab(base).Digest})
		}
	}
	return pairs, nil
}

// sketch makes the sketches of some slabs; one that cannot be read has an empty one.
func sketch(parent context.Context, store Store, slabs *image.Map, numbers []int) ([]likeness.Sketch, error) {
	all := make([]likeness.Sketch, len(numbers))
	group, ctx := errgroup.WithContext(parent)
	group.SetLimit(max(1, runtime.GOMAXPROCS(0)/2)) // nobody waits for it
	for k, i := range numbers {
		if ctx.Err() != nil {
			break
		}
		group.Go(func() error {
			plain, err := store.Get(slabs.Slab(i).Digest)
			if errors.Is(err, slabstore.ErrNotFound) {
				return nil
			}
			all[k] = likeness.Of(plain)
			return err
		})
	}
	return all, errors.Join(group.Wait(), parent.Err())
}

// A file of sketches begins with this line, and has for each different slab, in the order of
// the slab map, likeness.Size numbers of 32 bits, little-endian; those that there are not are
// all ones.
const (
	magic  = "JUGSKT1\n"
	record = 4 * likeness.Size
)

// sketches are those of a version, in a file.
type sketches struct {
	*os.File
	place map[slabstore.Digest]int64 // where the sketch of a slab is
	slabs *image.Map
}

// open opens the sketches of a version, and makes them first if need be. What known has need
// not be read for that.
func open(ctx context.Context, store Store, v Version, known *sketches) (*sketches, error) {
	f, err := os.Open(v.Sketches)
	if err == nil && !complete(f, v) {
		err = errors.Join(os.ErrNotExist, f.Close())
	}
	if errors.Is(err, os.ErrNotExist) {
		if err := keep(ctx, store, v, known); err != nil {
			return nil, err
		}
		f, err = os.Open(v.Sketches)
	}
	if err != nil {
		return nil, err
	}
	s := &sketches{File: f, place: map[slabstore.Digest]int64{}, slabs: v.Slabs}
	for _, d := range v.Slabs.Distinct() {
		s.place[d] = int64(len(magic) + record*len(s.place))
	}
	return s, nil
}

// complete tells whether a file is as long as the version's sketches are.
func complete(f *os.File, v Version) bool {
	head := make([]byte, len(magic))
	if n, _ := f.ReadAt(head, 0); n < len(head) || !bytes.Equal(head, []byte(magic)) {
		return false
	}
	n := 0
	for range v.Slabs.Distinct() {
		n++
	}
	info, err := f.Stat()
	return err == nil && info.Size() == int64(len(magic)+record*n)
}

// of is the sketch of a slab.
func (s *sketches) of(number int) (likeness.Sketch, error) {
	b := make([]byte, record)
	if _, err := s.ReadAt(b, s.place[s.slabs.Slab(number).Digest]); err != nil {
		return nil, err
	}
	sketch := make(likeness.Sketch, 0, likeness.Size)
	for ; len(b) > 0; b = b[4:] {
		if v := binary.LittleEndian.Uint32(b); v != none {
			sketch = append(sketch, v)
		}
	}
	return sketch, nil
}

const none = 1<<32 - 1

// keep writes the sketches of a version.
func keep(ctx context.Context, store Store, v Version, known *sketches) error {
	f, err := durable.Create(v.Sketches, 0o644)
	if err != nil {
		return err
	}
	defer f.Drop()
	w := bufio.NewWriter(f)
	if _, err := io.WriteString(w, magic); err != nil {
		return err
	}
	var group []int
	flush := func() error {
		all, err := sketch(ctx, store, v.Slabs, group)
		if err != nil {
			return err
		}
		for _, s := range all {
			if err := put(w, s); err != nil {
				return err
			}
		}
		group = group[:0]
		return nil
	}
	for i, d := range v.Slabs.Distinct() {
		if known != nil && known.slabs.Has(d) {
			if err := flush(); err != nil {
				return err
			}
			if _, err := io.Copy(w, io.NewSectionReader(known, known.place[d], record)); err != nil {
				return err
			}
			continue
		}
		if group = append(group, i); len(group) == sketchedAtOnce {
			if err := flush(); err != nil {
				return err
			}
		}
	}
	if err := errors.Join(flush(), w.Flush()); err != nil {
		return err
	}
	return f.Keep()
}

func put(w io.Writer, s likeness.Sketch) error {
	b := make([]byte, 0, record)
	for _, v := range s {
		b = binary.LittleEndian.AppendUint32(b, v)
	}
	for len(b) < record {
		b = binary.LittleEndian.AppendUint32(b, none)
	}
	_, err := w.Write(b)
	return err
}
