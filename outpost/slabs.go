package outpost

import (
	"container/list"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"
	"sync/atomic"

	"golang.org/x/sync/singleflight"
	"golang.org/x/sys/unix"
	"golang.org/x/time/rate"

	"jugate/apiclient"
	"jugate/core/fault"
	"jugate/core/image"
	"jugate/core/slabstore"
)

// slabs are those that the outpost holds: each comes over the line once, for as long as there is room. Those that nobody has
// asked for longest go first.
type slabs struct {
	o       *Outpost
	pace    *rate.Limiter // bytes a second over the line, of whatever comes
	flights singleflight.Group
	served  atomic.Int64 // bytes
	waited  atomic.Int64 // how many somebody waits for

	changing sync.Mutex // held while slabs are sealed, or opened; taken before mu
	key      []byte     // that they are sealed by
	keyed    bool       // the service has said so since the start
	sealed   atomic.Bool
	carried  *slabstore.Store // of media, if what comes is kept elsewhere

	mu     sync.Mutex
	store  *slabstore.Store                      // nil while the key is not here that it is sealed by
	old    *slabstore.Store                      // that slabs are taken over from, sealed now or no more; nil if there is none
	begun  map[slabstore.Digest][]byte           // frames of which the line has brought a part
	before map[slabstore.Digest]slabstore.Digest // what lay in the place of a slab in the version before
	pinned map[slabstore.Digest]struct{}         // those that are to stay
	order  list.List                             // *held of the others, the one that was asked for last in front
	by     map[slabstore.Digest]*held
	bytes  int64 // of all

	coming int64 // bytes that there is room for, and that are not held yet
}

// linesAtOnce is how many slabs are on their way at once: a line that is long, and loses packets, carries little by each.
const linesAtOnce = apiclient.BulkAtOnce

type held struct {
	digest slabstore.Digest
	bytes  int64
	place  *list.Element // nil if it is to stay
}

func openSlabs(o *Outpost) (*slabs, error) {
	s := &slabs{o: o, pace: rate.NewLimiter(rate.Inf, burst), by: map[slabstore.Digest]*held{}, begun: map[slabstore.Digest][]byte{}, before: map[slabstore.Digest]slabstore.Digest{}}
	if _, err := os.Stat(o.sealedFolder()); err == nil { // until the service has told the key, there is none
		return s, nil
	}
	store, err := slabstore.Open(o.slabFolder())
	if err != nil {
		return nil, err
	}
	if o.slabFolder() != o.carriedSlabs() {
		if s.carried, err = slabstore.Open(o.carriedSlabs()); err != nil {
			return nil, err
		}
	}
	return s, s.use(store)
}

// note counts a slab as held, and as asked for just now.
func (s *slabs) note(d slabstore.Digest, bytes int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	h, known := s.by[d]
	if !known {
		h = &held{digest: d, bytes: bytes}
		s.by[d] = h
		s.bytes += bytes
	}
	switch _, stays := s.pinned[d]; {
	case stays:
	case h.place == nil:
		h.place = s.order.PushFront(h)
	default:
		s.order.MoveToFront(h.place)
	}
}

// pin says which slabs are to stay, and no others.
func (s *slabs) pin(these map[slabstore.Digest]struct{}) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.pinned = these
	for d, h := range s.by {
		_, stays := these[d]
		if stays && h.place != nil {
			s.order.Remove(h.place)
			h.place = nil
		} else if !stays && h.place == nil {
			h.place = s.order.PushBack(h)
		}
	}
}

// beforeAtMost bounds what is known of slabs of versions before.
const beforeAtMost = 1_000_000

// lean notes what lay in the places of slabs in the version before.
func (s *slabs) lean(slabs, before *image.Map) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.before) > beforeAtMost {
		clear(s.before)
	}
	for n, was := range image.Replaced(slabs, before) {
		s.before[slabs.Slab(n).Digest] = before.Slab(was).Digest
	}
}

// leansOn is the slab that another one is told by, if that is here.
func (s *slabs) leansOn(d slabstore.Digest) (on slabstore.Digest, is bool) {
	s.mu.Lock()
	on, is = s.before[d]
	s.mu.Unlock()
	return on, is && s.Has(on)
}

// held tells how many there are, and how many bytes.
func (s *slabs) held() (n int, bytes int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.by), s.bytes
}

// Slab is the frame of a slab, from the store, or over the line.
func (s *slabs) Slab(d slabstore.Digest, doubt bool) ([]byte, error) {
	if doubt {
		if _, err := s.Check(d); err != nil && !errors.Is(err, slabstore.ErrNotFound) {
			s.o.config.Log.Warn("a slab is damaged, and is fetched anew", "slab", d.Short(), "error", err)
		}
	}
	if frame, err := s.Frame(d); err == nil {
		s.note(d, int64(len(frame)))
		return frame, nil
	}
	v, err, _ := s.flights.Do(d.String(), func() (any, error) {
		if frame, err := s.Frame(d); err == nil { // it came a moment ago
			return frame, nil
		}
		return s.fetch(d)
	})
	if err != nil {
		return nil, err
	}
	return v.([]byte), nil
}

// begunAtMost is how many frames are kept that have come in part.
const begunAtMost = 64

// bring has a slab come over the line: its frame, or what differs from another one. What was broken off goes on where it ended.
func (s *slabs) bring(d slabstore.Digest, on *slabstore.Digest) ([]byte, error) {
	s.mu.Lock()
	frame := s.begun[d]
	delete(s.begun, d)
	s.mu.Unlock()
	keep := func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if len(frame) > 0 && len(s.begun) < begunAtMost {
			s.begun[d] = frame
		}
	}
	body, err := s.o.bulk.OutpostSlab(s.o.until, d, on, int64(len(frame))) // others wait for it, too
	if err != nil {
		if apiclient.IsPassing(err) {
			keep()
		}
		return nil, err
	}
	defer body.Close()
	rest, err := io.ReadAll(io.LimitReader(&metered{s.o.until, body, s.pace, &s.o.hold.fetched}, int64(2*slabstore.MaxSlab-len(frame))))
	if frame = append(frame, rest...); err != nil {
		keep()
		return nil, errors.Join(apiclient.ErrAway, err)
	}
	return frame, nil
}

// whole has a slab come over the line, by what differs from one that is here if there is such.
func (s *slabs) whole(d slabstore.Digest) ([]byte, error) {
	on, leans := s.leansOn(d)
	if !leans {
		return s.bring(d, nil)
	}
	came, err := s.bring(d, &on)
	if err != nil {
		return nil, err
	}
	if of, err := slabstore.BaseOf(came); err != nil || of != on {
		return came, nil // the frame was shorter
	}
	was, err := s.Get(on)
	if err != nil {
		return s.bring(d, nil)
	}
	plain, err := slabstore.ExpandDeltaChecked(nil, came, was, d)
	if err != nil {
		return s.bring(d, nil)
	}
	return slabstore.Compress(nil, plain), nil
}

// fetch has a slab come over the line. That it cannot be kept is no reason not to serve it.
func (s *slabs) fetch(d slabstore.Digest) ([]byte, error) {
	frame, err := s.whole(d)
	if err != nil {
		return nil, err
	}
	if err := s.room(int64(len(frame))); err != nil {
		s.o.config.Log.Warn("there is no room for slabs", "error", err)
		_, err := slabstore.ExpandChecked(nil, frame, d)
		return frame, err
	}
	defer s.came(int64(len(frame)))
	if _, err := s.Put(d, frame); fault.KindOf(err) == fault.Invalid {
		return nil, fmt.Errorf("slab %s came damaged over the line: %w", d.Short(), err)
	} else if err != nil {
		s.o.config.Log.Warn("a slab cannot be kept", "slab", d.Short(), "error", err)
		return frame, nil
	}
	s.note(d, int64(len(frame)))
	return frame, nil
}

// came gives back what was kept free for a slab.
func (s *slabs) came(bytes int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.coming -= bytes
}

// room makes room for so many bytes, and keeps it free until came.
func (s *slabs) room(bytes int64) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	for {
		var fs unix.Statfs_t
		if err := unix.Statfs(s.o.slabDisk(), &fs); err != nil {
			return err
		}
		free := int64(fs.Bavail)*fs.Bsize - s.o.config.KeepFree - s.coming
		over := s.o.config.Slabs > 0 && s.bytes+s.coming+bytes > s.o.config.Slabs
		if !over && free >= bytes {
			s.coming += bytes
			return nil
		}
		oldest := s.order.Back()
		if oldest == nil {
			return fault.Full.Errorf("%d bytes are left on the disk beside what is to stay free", max(free, 0))
		}
		h := oldest.Value.(*held)
		for _, store := range []*slabstore.Store{s.store, s.old} {
			if store == nil {
				continue
			}
			if err := store.Remove(h.digest); err != nil {
				return err
			}
		}
		s.order.Remove(oldest)
		delete(s.by, h.digest)
		s.bytes -= h.bytes
	}
}

// give gives up slabs for a disk that is full, and tells whether there were any.
func (s *slabs) give() bool {
	_, before := s.held()
	if s.room(1) == nil {
		s.came(1)
	}
	_, now := s.held()
	return now < before
}
