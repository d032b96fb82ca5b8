package agent

import (
	"context"
	"errors"
	"net/netip"
	"sync"
	"time"

	"jugate/core/delivery"
	"jugate/core/norm"
	"jugate/core/parcel"
	"jugate/core/slabstore"
	"jugate/wire"
)

const (
	// queueLimit bounds the frames that wait for the disk, and partsLimit the
	// parcels that are not whole, in bytes. What has no room is dropped, and mended
	// later: the socket must be read, or everybody's losses grow.
	queueLimit = 64 << 20
	partsLimit = 32 << 20
	// writers expand, check and write at the same time.
	writers = 2
)

// arrived is a whole frame from the stream.
type arrived struct {
	slab  int
	bytes []byte
	delta bool // it is told by what lies at its place
}

// intake takes the stream: pieces become the slab map, and with that known, parcels become
// frames, and frames wait for the disk.
type intake struct {
	r       *receiver
	norm    *norm.Receiver
	queue   chan arrived
	symbols int64 // of the stream before the slab map was known

	mu     sync.Mutex
	pieces *pieces // of the slab map; nil once that is known
	queued int64   // bytes in the queue, or being written
	parts  int64   // bytes of parcels that are not whole
	bytes  int64   // plain bytes written
	busy   time.Duration
	idle   chan struct{} // rings when nothing is queued; has room for one
}

func newIntake(r *receiver) *intake {
	var auth *norm.Auth
	if len(r.to.SealKey) > 0 {
		auth = norm.NewAuth(r.to.SealKey)
	}
	from, _ := netip.ParseAddr(r.to.Source) // where the service cannot tell, from anywhere
	t := &intake{r: r, queue: make(chan arrived, 4096), idle: make(chan struct{}, 1)}
	if r.slabs == nil {
		t.pieces = newPieces(r.manifest.MapSize)
	}
	t.norm = norm.NewReceiver(norm.ReceiverConfig{
		Node: norm.NodeID(r.to.Node), Open: t.open, Unicast: true, Buffer: partsLimit, MaxObject: parcel.MaxSize, Window: 8192, Seed: uint64(r.to.Node), Erasures: true,
		From: from, Auth: auth,
	})
	return t
}

// run reads the stream until ctx ends.
func (t *intake) run(ctx context.Context, in wire.Reader) error {
	err := wire.Receive(ctx, in, t.norm, t.on, func(time.Time) error { t.count(); return nil })
	if ctx.Err() != nil {
		return nil
	}
	return err
}

// count tells what the reports say of the stream.
func (t *intake) count() {
	st := t.norm.Stats()
	r := t.r
	if t.learning() != nil {
		t.symbols = st.Symbols
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.progress.Packets, r.progress.Lost = st.Packets, st.Lost
	if st.Symbols > 0 {
		r.progress.Repaired = int64(float64(r.progress.Multicast) * float64(st.Repairs) / float64(st.Symbols))
	}
	if st.Symbols > t.symbols && r.progress.Phase == delivery.Ready {
		r.progress.Phase = delivery.Receiving
		ring(r.hurry)
	}
}

// part is a parcel that is not whole.
type part struct {
	t     *intake
	size  int64
	bytes []byte
}

var errNoRoom = errors.New("no memory for another parcel")

func (t *intake) open(h norm.Head) norm.Sink {
	if h.Kind != norm.Data || h.Size < parcel.HeadSize || h.Size > parcel.MaxSize {
		return nil
	}
	return &part{t: t, size: h.Size}
}

// Peek is norm.Peeker's: what is here already is passed over.
func (p *part) Peek(first []byte) bool {
	label, err := parcel.Peek(first)
	return err == nil && p.t.wants(label)
}

// learning are the pieces of the slab map; nil once that is known.
func (t *intake) learning() *pieces {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.pieces
}

// learned says that the slab map is known, wherever it came from.
func (t *intake) learned() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.pieces = nil
}

// wants tells whether a parcel is of use now.
func (t *intake) wants(l parcel.Label) bool {
	if p := t.learning(); p != nil {
		return l.Kind == parcel.OfMap && p.lacks(l.Number)
	}
	slab := t.r.freight.cargo.IsSlab(l.Number)
	return (l.Kind == parcel.OfSlab && slab || l.Kind == parcel.OfDelta && slab && t.r.hasBase(l.Number) || l.Kind == parcel.OfPayload && !slab) && t.r.needs(l.Number)
}

func (p *part) WriteAt(b []byte, off int64) (int, error) {
	if p.bytes == nil {
		p.t.mu.Lock()
		room := p.t.parts+p.size <= partsLimit
		if room {
			p.t.parts += p.size
		}
		p.t.mu.Unlock()
		if !room {
			return 0, errNoRoom
		}
		p.bytes = make([]byte, p.size)
	}
	return copy(p.bytes[off:], b), nil
}

func (t *intake) on(e norm.ReceiverEvent) error {
	p, ok := e.Sink.(*part)
	if !ok {
		return nil
	}
	if p.bytes != nil {
		t.mu.Lock()
		t.parts -= p.size
		t.mu.Unlock()
	}
	if e.Kind != norm.Completed {
		return nil
	}
	label, content, err := t.r.unpack(p.bytes)
	if err != nil || !t.wants(label) {
		return nil // another delivery's, forged, or here already
	}
	switch label.Kind {
	case parcel.OfMap:
		if p := t.learning(); p != nil {
			p.put(label.Number, content)
		}
	case parcel.OfPayload:
		t.r.keep(label.Number, content)
	default:
		t.enqueue(arrived{label.Number, content, label.Kind == parcel.OfDelta})
		return nil
	}
	ring(t.r.changed) // it may have been the last one
	return nil
}

// enqueue has a slab wait for the disk, if there is room.
func (t *intake) enqueue(a arrived) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.queued+int64(len(a.bytes)) > queueLimit {
		return
	}
	select {
	case t.queue <- a:
		t.queued += int64(len(a.bytes))
	default:
	}
}

// write puts frames onto the disk until ctx ends.
func (t *intake) write(ctx context.Context) error {
	for {
		select {
		case f := <-t.queue:
			began := time.Now()
			err := t.r.write(f, int64(len(f.bytes)), 0)
			t.mu.Lock()
			t.queued -= int64(len(f.bytes))
			if err == nil {
				t.bytes += t.r.slabs.Slab(f.slab).Length()
				t.busy += time.Since(began)
			}
			t.measure()
			if t.queued == 0 {
				ring(t.idle)
			}
			t.mu.Unlock()
			if err != nil && !isBadFrame(err) {
				return err
			}
			ring(t.r.changed) // it may have been the last one
		case <-ctx.Done():
			return nil
		}
	}
}

// measure tells how fast the disk takes what comes, by the time that writing took.
func (t *intake) measure() {
	t.r.mu.Lock()
	defer t.r.mu.Unlock()
	t.r.progress.Backlog, t.r.progress.BacklogLimit = t.queued, queueLimit
	if t.busy > writers*100*time.Millisecond {
		t.r.progress.DiskSpeed = writers * float64(t.bytes) / t.busy.Seconds()
		t.bytes, t.busy = 0, 0
	}
}

// drained waits until everything that was received is on the disk.
func (t *intake) drained(ctx context.Context) error {
	for {
		t.mu.Lock()
		empty := t.queued == 0
		t.mu.Unlock()
		if empty {
			return nil
		}
		select {
		case <-t.idle:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// unpack opens a parcel of this delivery.
func (r *receiver) unpack(b []byte) (parcel.Label, []byte, error) {
	if r.seal != nil {
		return r.seal.Open(b)
	}
	return parcel.Open(b)
}

// write puts a slab onto the disk and counts it.
func (r *receiver) write(a arrived, multicast, unicast int64) error {
	if !r.restore.Needs(a.slab) {
		return nil
	}
	if err := r.begin(); err != nil {
		return err
	}
	write := r.restore.WriteFrame
	if a.delta {
		write = r.restore.WriteDelta
	}
	lacked, err := write(a.slab, a.bytes)
	if a.delta && isBadFrame(err) {
		r.loseBase(a.slab)
	}
	if err != nil || !lacked { // it came in two ways at once, and the other was counted
		return err
	}
	r.wrote(r.slabs.Slab(a.slab).Length(), multicast, unicast)
	return nil
}

func isBadFrame(err error) bool {
	return errors.Is(err, slabstore.ErrDigest) || errors.Is(err, slabstore.ErrFrame) || errors.Is(err, slabstore.ErrDelta)
}
