package service

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"math/rand/v2"
	"net/netip"
	"sync/atomic"
	"time"

	"jugate/core/delivery"
	"jugate/core/fault"
	"jugate/core/image"
	"jugate/core/norm"
	"jugate/core/parcel"
	"jugate/wire"
)

const (
	// window bounds what the sender keeps for repair.
	windowObjects = 8192
	windowBytes   = 64 << 20
	// prefetched is how many parcels are made ahead.
	prefetched = 8
	// A round ends although someone still asks after half the time that it took, within
	// these bounds: what is lacking then is mended otherwise, and whoever asks without
	// end ends nothing.
	flushAtLeast = 2 * time.Second
	flushAtMost  = 10 * time.Second
	etherHeader  = 14 // bytes that Ethernet adds to a packet
)

// stream is the multicast of one delivery: a sender of RFC 5740 that lives as
// long as the delivery, and sends round after round of parcels.
type stream struct {
	r     *runner
	slabs *image.Map
	do    chan func(time.Time, *norm.Sender) // changes, made between two packets

	prefix   uint32        // begins this sender's nonces
	nonces   atomic.Uint64 // used so far
	round    *round        // under way; nil between rounds
	waiting  *packed       // had no room in the window
	sizes    map[norm.ObjectID]int64
	base     int64 // bytes on the wire before this sender
	toldWhen time.Time
}

// round is one pass over a set of slabs.
type round struct {
	ready  chan packed
	cancel context.CancelFunc
	last   norm.ObjectID
	began  time.Time
	fed    bool      // all were handed to the sender
	sentAt time.Time // when the last of them went out
	sent   int64     // bytes
	slabs  int
	total  int64
}

type packed struct {
	slab  int
	bytes []byte
}

// run sends until ctx ends.
func (t *stream) run(ctx context.Context) error {
	m := t.r.s.config.Multicast
	group := netip.MustParseAddrPort(t.r.rec.GroupAddr)
	out, err := wire.Dial(wire.Config{Group: group, Interface: m.Interface, TTL: m.TTL})
	if err != nil {
		return err
	}
	defer out.Close()
	nodes := t.r.nodes()
	var auth *norm.Auth
	authSize := 0
	if t.r.seal != nil {
		auth, authSize = norm.NewAuth(t.r.rec.SealKey), norm.AuthSize
	}
	s, err := norm.NewSender(norm.SenderConfig{
		Node: serviceNode, Instance: uint16(rand.Uint32()), Rate: float64(t.r.rateNow.Load()), Overhead: out.Overhead() + etherHeader,
		SymbolSize: out.SymbolSize() - authSize, Auth: auth, GroupSize: len(nodes), Window: windowObjects, WindowBytes: windowBytes,
		Accept: func(n norm.NodeID) bool { return t.r.isNode(n) },
	}, time.Now())
	if err != nil {
		return err
	}
	defer func() {
		if t.round != nil {
			t.round.cancel()
		}
		t.count(s)
	}()
	return wire.Transmit(ctx, out, s, wire.Source{
		Feed: func(now time.Time, s *norm.Sender) (bool, error) { return t.feed(now, s), nil },
		On:   t.on,
		Do:   t.do,
		Away: func(err error) { t.r.s.log.Warn("the stream waits", "delivery", t.r.rec.ID, "error", err) },
	})
}

// begin starts a round with these slabs.
func (t *stream) begin(ctx context.Context, set *delivery.SlabSet) {
	fetching, cancel := context.WithCancel(ctx)
	rd := &round{ready: make(chan packed, prefetched), cancel: cancel, slabs: set.Len()}
	for i := range set.All() {
		rd.total += t.slabs.Slab(i).Length()
	}
	go func() {
		defer close(rd.ready)
		if err := fault.Guard(func() error { t.pack(fetching, set, rd.ready); return nil }); err != nil {
			t.r.s.log.Error("a round of the stream is cut short", "delivery", t.r.rec.ID, "error", err)
		}
	}()
	t.send(ctx, func(now time.Time, _ *norm.Sender) {
		if t.round != nil {
			t.round.cancel()
		}
		rd.began = now
		t.round, t.waiting = rd, nil
		t.tell(now)
	})
}

// send has a change made, unless the stream has ended.
func (t *stream) send(ctx context.Context, change func(time.Time, *norm.Sender)) {
	select {
	case t.do <- change:
	case <-ctx.Done():
	case <-t.r.streamEnded:
	}
}

// pack makes the parcels of a round, in the order of the disk.
func (t *stream) pack(ctx context.Context, set *delivery.SlabSet, ready chan<- packed) {
	for i := range set.All() {
		frame, err := t.r.s.slabs.Frame(t.slabs.Slab(i).Digest)
		if err != nil {
			// Not the end: whoever asks for it later is told.
			t.r.s.log.Error("a slab cannot be sent", "delivery", t.r.rec.ID, "slab", i, "error", err)
			continue
		}
		select {
		case ready <- packed{i, t.r.pack(i, frame, t.nonce)}:
		case <-ctx.Done():
			return
		}
	}
}

// nonce is one that was not used yet: a number chosen at random when the sender
// began, and a count.
func (t *stream) nonce() (n [parcel.NonceSize]byte) {
	binary.BigEndian.PutUint32(n[:], t.prefix)
	binary.BigEndian.PutUint64(n[4:], t.nonces.Add(1))
	return n
}

// feed hands parcels to the sender while there is room.
func (t *stream) feed(now time.Time, s *norm.Sender) (more bool) {
	if now.Sub(t.toldWhen) >= 100*time.Millisecond {
		t.count(s)
		t.tell(now)
	}
	rd := t.round
	if rd == nil {
		return false
	}
	for !rd.fed {
		if t.waiting == nil {
			select {
			case p, ok := <-rd.ready:
				if !ok {
					rd.fed = true
					if s.Pending() == 0 {
						rd.sentAt = now
					}
					continue
				}
				t.waiting = &p
			default:
				return true
			}
		}
		b := t.waiting.bytes
		id, err := s.Enqueue(now, norm.Object{Kind: norm.Data, Size: int64(len(b)), Content: bytes.NewReader(b)})
		if errors.Is(err, norm.ErrFull) {
			return true
		}
		if err != nil {
			t.r.s.log.Error("a slab cannot be sent", "delivery", t.r.rec.ID, "slab", t.waiting.slab, "error", err)
		} else {
			rd.last = id
			t.sizes[id] = t.slabs.Slab(t.waiting.slab).Length()
		}
		t.waiting = nil
	}
	if !rd.sentAt.IsZero() && now.Sub(rd.sentAt) > min(max(rd.sentAt.Sub(rd.began)/2, flushAtLeast), flushAtMost) {
		t.end(now)
	}
	return false
}

func (t *stream) on(e norm.SenderEvent) error {
	rd := t.round
	switch e.Kind {
	case norm.Sent:
		if rd != nil {
			rd.sent += t.sizes[e.Object]
			t.r.sentSlab()
			if rd.fed && e.Object == rd.last {
				rd.sentAt = time.Now()
			}
		}
	case norm.Released:
		delete(t.sizes, e.Object)
	case norm.Flushed:
		if rd != nil && rd.fed && t.waiting == nil && (e.Object == rd.last || rd.sent == 0) {
			t.end(time.Now())
		}
	}
	return nil
}

// end ends the round.
func (t *stream) end(now time.Time) {
	t.round.cancel()
	t.round = nil
	t.r.roundEnded(now)
}

// count lets the runner know what has gone out.
func (t *stream) count(s *norm.Sender) {
	st := s.Stats()
	t.r.mu.Lock()
	defer t.r.mu.Unlock()
	t.r.wire, t.r.repairBytes = t.base+st.Bytes, st.Repairs*int64(st.Bytes/max(st.Packets, 1))
}

// tell lets the runner know how far the stream is.
func (t *stream) tell(now time.Time) {
	t.toldWhen = now
	t.r.mu.Lock()
	defer t.r.mu.Unlock()
	if rd := t.round; rd != nil {
		t.r.d.Sent(now, rd.sent, rd.total)
	}
	t.r.nudge()
}
