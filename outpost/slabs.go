package outpost

import (
	"container/list"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"sync"
	"sync/atomic"

	"golang.org/x/sync/singleflight"
	"golang.org/x/sys/unix"
	"golang.org/x/time/rate"

	"jugate/apiclient"
	"jugate/core/fault"
	"jugate/core/slabstore"
)

// slabs are those that the outpost holds: each comes over the line once, for as long as there is room. Those that nobody has
// asked for longest go first.
type slabs struct {
	*slabstore.Store
	o       *Outpost
	pace    *rate.Limiter // bytes a second over the line, of whatever comes
	flights singleflight.Group
	served  atomic.Int64 // bytes

	mu    sync.Mutex
	begun map[slabstore.Digest][]byte // frames of which the line has brought a part
	order list.List                   // *held, the one that was asked for last in front
	by    map[slabstore.Digest]*list.Element
	bytes int64 // of all

	coming int64 // bytes that there is room for, and that are not held yet
}

// linesAtOnce is how many slabs are on their way at once: a line that is long, and loses packets, carries little by each.
const linesAtOnce = apiclient.BulkAtOnce

type held struct {
	digest slabstore.Digest
	bytes  int64
}

func openSlabs(o *Outpost) (*slabs, error) {
	store, err := slabstore.Open(filepath.Join(o.config.Data, "slabs"))
	if err != nil {
		return nil, err
	}
	s := &slabs{Store: store, o: o, pace: rate.NewLimiter(rate.Inf, burst), by: map[slabstore.Digest]*list.Element{}, begun: map[slabstore.Digest][]byte{}}
	if o.config.Rate > 0 {
		s.pace.SetLimit(rate.Limit(o.config.Rate))
	}
	for slab, err := range store.All() {
		if err != nil {
			return nil, err
		}
		s.note(slab.Digest, slab.Size)
	}
	return s, nil
}

// note counts a slab as held, and as asked for just now.
func (s *slabs) note(d slabstore.Digest, bytes int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if e, known := s.by[d]; known {
		s.order.MoveToFront(e)
		return
	}
	s.by[d] = s.order.PushFront(&held{d, bytes})
	s.bytes += bytes
}

// held tells how many there are, and how many bytes.
func (s *slabs) held() (n int, bytes int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.order.Len(), s.bytes
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

// bring has a frame come over the line; what was broken off goes on where it ended.
func (s *slabs) bring(d slabstore.Digest) ([]byte, error) {
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
	body, err := s.o.bulk.OutpostSlab(s.o.until, d, int64(len(frame))) // others wait for it, too
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

// fetch has a slab come over the line. That it cannot be kept is no reason not to serve it.
func (s *slabs) fetch(d slabstore.Digest) ([]byte, error) {
	frame, err := s.bring(d)
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
		if err := unix.Statfs(s.o.config.Data, &fs); err != nil {
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
		if err := s.Remove(h.digest); err != nil {
			return err
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
