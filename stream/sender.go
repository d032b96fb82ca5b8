package stream

import (
	"bytes"
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"iter"
	"math/rand/v2"
	"runtime"
	"sync/atomic"
	"time"

	"jugate/core/fault"
	"jugate/core/image"
	"jugate/core/norm"
	"jugate/core/parcel"
	"jugate/core/slabstore"
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

// sender is the multicast of one delivery: a sender of RFC 5740 that lives as
// long as the delivery, and sends round after round of parcels.
type sender struct {
	r  *Runner
	do chan func(time.Time, *norm.Sender) // changes, made between two packets

	prefix     uint32        // begins this sender's nonces
	nonces     atomic.Uint64 // used so far
	round      *round        // under way; nil between rounds
	waiting    *packed       // had no room in the window
	sizes      map[norm.ObjectID]int64
	base       int64 // bytes on the wire before this sender
	progressed time.Time
}

// round is one pass over a set of slabs and pieces of payloads, or over the slab map.
type round struct {
	number int // by which the runner knows it
	ready  chan packed
	cancel context.CancelFunc
	last   norm.ObjectID
	began  time.Time
	fed    bool      // all were handed to the sender
	sentAt time.Time // when the last of them went out
	sent   int64     // bytes
	total  int64
}

type packed struct {
	label parcel.Label
	bytes []byte
	plain int64 // how many bytes of the image, of the map, or of a payload, it has
}

// run sends until ctx ends.
func (t *sender) run(ctx context.Context) error {
	m := t.r.in.Multicast
	out, err := wire.Dial(wire.Config{Group: t.r.order.Channel, Interface: m.Interface, TTL: m.TTL, Answers: m.Answers()})
	if err != nil {
		return err
	}
	defer out.Close()
	var auth *norm.Auth
	authSize := 0
	if t.r.Seal != nil {
		auth, authSize = norm.NewAuth(t.r.order.SealKey), norm.AuthSize
	}
	s, err := norm.NewSender(norm.SenderConfig{
		Node: serviceNode, Instance: uint16(rand.Uint32()), Rate: float64(t.r.rateNow.Load()), Overhead: out.Overhead() + etherHeader,
		SymbolSize: out.SymbolSize() - authSize, Auth: auth, GroupSize: t.r.memberCount(), Window: windowObjects, WindowBytes: windowBytes,
		Accept: t.r.isNode,
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
		Away: func(err error) { t.r.in.Log.Warn("the stream waits", "delivery", t.r.order.ID, "error", err) },
	})
}

// begin starts a round of so many plain bytes.
func (t *sender) begin(ctx context.Context, number int, total int64, parcels iter.Seq[packed]) {
	fetching, cancel := context.WithCancel(ctx)
	rd := &round{number: number, ready: make(chan packed, prefetched), cancel: cancel, total: total}
	go func() {
		defer close(rd.ready)
		err := fault.Guard(func() error {
			for p := range parcels {
				select {
				case rd.ready <- p:
				case <-fetching.Done():
					return nil
				}
			}
			return nil
		})
		if err != nil {
			t.r.in.Log.Error("a round of the stream is cut short", "delivery", t.r.order.ID, "error", err)
		}
	}()
	t.send(ctx, func(now time.Time, _ *norm.Sender) {
		if t.round != nil {
			t.round.cancel()
		}
		rd.began = now
		t.round, t.waiting = rd, nil
		t.progress(now)
	})
}

// beginRound starts a round with these numbers of the cargo: slabs in the order of the disk,
// then payloads; some slabs as what differs from their bases.
func (t *sender) beginRound(ctx context.Context, number int, set, byDelta *image.SlabSet) {
	total := int64(0)
	for i := range set.All() {
		total += t.r.plainBytes(i)
	}
	t.begin(ctx, number, total, inOrder(t.r.hereFirst(set), cmp.Or(t.r.in.Ahead, runtime.GOMAXPROCS(0)), func(i int) (p packed, err error) {
		label, content, err := t.r.content(i, byDelta.Has(i))
		if err != nil {
			return p, err
		}
		return t.pack(label, content, t.r.plainBytes(i)), nil
	}, func(i int, err error) { // not the end: whoever asks for it later is told
		t.r.in.Log.Error("a parcel cannot be made", "delivery", t.r.order.ID, "number", i, "error", err)
	}))
}

// hereFirst are the numbers of a set: those of slabs at hand first, each in the order of the disk.
func (r *Runner) hereFirst(set *image.SlabSet) iter.Seq[int] {
	if r.in.Here == nil {
		return set.All()
	}
	return func(yield func(int) bool) {
		var later []int
		for i := range set.All() {
			if r.Cargo.IsSlab(i) && !r.in.Here(r.Slabs.Slab(i).Digest) {
				later = append(later, i)
			} else if !yield(i) {
				return
			}
		}
		for _, i := range later {
			if !yield(i) {
				return
			}
		}
	}
}

// inOrder makes something for each of some numbers, a few at a time, and gives it in their
// order; failed is told of what cannot be made.
func inOrder[T any](numbers iter.Seq[int], atOnce int, of func(int) (T, error), failed func(int, error)) iter.Seq[T] {
	type made struct {
		number int
		it     T
		err    error
	}
	return func(yield func(T) bool) {
		line, stop := make(chan chan made, atOnce), make(chan struct{})
		defer close(stop)
		go func() {
			defer close(line)
			for i := range numbers {
				place := make(chan made, 1)
				select {
				case line <- place:
				case <-stop:
					return
				}
				go func() {
					m := made{number: i}
					m.err = fault.Guard(func() (err error) {
						m.it, err = of(i)
						return err
					})
					place <- m
				}()
			}
		}()
		for place := range line {
			m := <-place
			if m.err != nil {
				failed(m.number, m.err)
			} else if !yield(m.it) {
				return
			}
		}
	}
}

// plainBytes is how many bytes of the image or of a payload a number of the cargo stands for.
func (r *Runner) plainBytes(number int) int64 {
	if r.Cargo.IsSlab(number) {
		return r.Slabs.Slab(number).Length()
	}
	return int64(r.Cargo.Part(number).Length)
}

// content is what a number of the cargo stands for: a slab's frame, or its delta where that is
// shorter, or a payload's piece.
func (r *Runner) content(number int, byDelta bool) (parcel.Label, []byte, error) {
	if r.Cargo.IsSlab(number) {
		if byDelta {
			if delta := r.delta(number); delta != nil {
				return parcel.Delta(number), delta, nil
			}
		}
		frame, err := r.in.Slabs.Frame(r.Slabs.Slab(number).Digest)
		return parcel.Slab(number), frame, err
	}
	b, err := r.Piece(number)
	return parcel.PieceOfPayload(number), b, err
}

// delta tells a slab by what lies at its place; nil if its frame is as short, or the
// store has not got both any more.
func (r *Runner) delta(number int) []byte {
	d, base := r.Slabs.Slab(number).Digest, r.order.Bases.Slab(r.bases[number]).Digest
	if stored, err := r.in.Slabs.Delta(d); err == nil {
		if on, err := slabstore.BaseOf(stored); err == nil && on == base {
			return stored
		}
	}
	was, err := r.in.Slabs.Get(base)
	if err != nil {
		return nil
	}
	is, err := r.in.Slabs.Get(d)
	if err != nil { // it may be on its way
		frame, err := r.in.Slabs.Frame(d)
		if err != nil {
			return nil
		}
		if is, err = slabstore.ExpandChecked(nil, frame, d); err != nil {
			return nil
		}
	}
	delta, err := slabstore.CompressDelta(nil, is, was, base)
	if err != nil || len(delta) >= len(slabstore.Compress(nil, is)) {
		return nil
	}
	return delta
}

// Piece is a piece of a payload, by its number in the cargo.
func (r *Runner) Piece(number int) ([]byte, error) {
	p := r.Cargo.Part(number)
	b := make([]byte, p.Length)
	return b, r.in.Payloads.ReadPayload(p.Payload.Digest, b, p.At)
}

// beginMap starts the round that has the slab map.
func (t *sender) beginMap(ctx context.Context, number int) {
	raw := t.r.Slabs.Bytes()
	t.begin(ctx, number, int64(len(raw)), func(yield func(packed) bool) {
		for n := range parcel.Pieces(int64(len(raw))) {
			piece := parcel.Piece(raw, n)
			if !yield(t.pack(parcel.PieceOfMap(n), piece, int64(len(piece)))) {
				return
			}
		}
	})
}

// setRate has the stream go on so fast, in bits a second, or not at all.
func (t *sender) setRate(ctx context.Context, bits int64, paused bool) {
	t.send(ctx, func(now time.Time, s *norm.Sender) {
		s.SetRate(now, float64(bits))
		if paused {
			s.Pause()
		} else {
			s.Resume(now)
		}
	})
}

// send has a change made, unless the stream has ended.
func (t *sender) send(ctx context.Context, change func(time.Time, *norm.Sender)) {
	select {
	case t.do <- change:
	case <-ctx.Done():
	case <-t.r.streamEnded:
	}
}

// pack makes a parcel.
func (t *sender) pack(l parcel.Label, content []byte, plain int64) packed {
	p := packed{label: l, plain: plain}
	if t.r.Seal != nil {
		p.bytes = t.r.Seal.Pack(l, content, t.nonce())
	} else {
		p.bytes = parcel.Pack(l, content)
	}
	return p
}

// nonce is one that was not used yet: a number chosen at random when the sender
// began, and a count.
func (t *sender) nonce() (n [parcel.NonceSize]byte) {
	binary.BigEndian.PutUint32(n[:], t.prefix)
	binary.BigEndian.PutUint64(n[4:], t.nonces.Add(1))
	return n
}

// feed hands parcels to the sender while there is room.
func (t *sender) feed(now time.Time, s *norm.Sender) (more bool) {
	if now.Sub(t.progressed) >= 100*time.Millisecond {
		t.count(s)
		t.progress(now)
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
			t.r.in.Log.Error("a parcel cannot be sent", "delivery", t.r.order.ID, "kind", t.waiting.label.Kind, "number", t.waiting.label.Number, "error", err)
		} else {
			rd.last = id
			t.sizes[id] = t.waiting.plain
		}
		t.waiting = nil
	}
	if !rd.sentAt.IsZero() && now.Sub(rd.sentAt) > min(max(rd.sentAt.Sub(rd.began)/2, flushAtLeast), flushAtMost) {
		t.end(now)
	}
	return false
}

func (t *sender) on(e norm.SenderEvent) error {
	rd := t.round
	switch e.Kind {
	case norm.Sent:
		if rd != nil {
			rd.sent += t.sizes[e.Object]
			t.r.sentParcel(rd.number)
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
func (t *sender) end(now time.Time) {
	number := t.round.number
	t.round.cancel()
	t.round = nil
	t.r.roundEnded(now, number)
}

// count lets the runner know what has gone out.
func (t *sender) count(s *norm.Sender) {
	st := s.Stats()
	t.r.mu.Lock()
	defer t.r.mu.Unlock()
	t.r.wire, t.r.repairBytes = t.base+st.Bytes, st.Repairs*int64(st.Bytes/max(st.Packets, 1))
}

// progress lets the runner know how far the stream is.
func (t *sender) progress(now time.Time) {
	t.progressed = now
	t.r.mu.Lock()
	defer t.r.mu.Unlock()
	if rd := t.round; rd != nil && rd.number == t.r.passes {
		t.r.d.Sent(now, rd.sent, rd.total)
	}
	t.r.nudge()
}
