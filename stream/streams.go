// Package stream carries deliveries through in one network: it lets core/delivery
// decide, sends slabs by multicast, shares the network's rate between deliveries, and
// says what each workstation has to do next.
//
// It knows neither records nor HTTP. Slabs come from a Store, and what a delivery leaves
// behind goes to a Ledger; a service keeps that in its records, and another process may
// hand it in over a line.
//
//	s := &stream.Streams{Multicast: m, Slabs: store, Ledger: ledger, Log: log, Now: time.Now}
//	err := s.Start(ctx, order, members)
//	directions, err := s.Runner(order.ID).Report(now, member, report)
//
// In runner.go is the loop of one delivery, in members.go what workstations say and are
// told, in sender.go its multicast, in ledger.go what it leaves behind, in rates.go how
// deliveries share the network.
package stream

import (
	"context"
	"log/slog"
	"maps"
	"net/netip"
	"slices"
	"sync"
	"time"

	"jugate/core/delivery"
	"jugate/core/fault"
	"jugate/core/image"
	"jugate/core/parcel"
	"jugate/core/roster"
	"jugate/core/slabstore"
)

// Order is one delivery as it is to be run.
type Order struct {
	ID        int64
	Version   roster.Ref
	Digest    string // of the version
	Rule      delivery.Rule
	Aside     delivery.AsideRule
	Rate      int64          // bits a second
	Channel   netip.AddrPort // of the multicast
	Session   uint32
	State     delivery.State // Gathering, or where an earlier run of the program left it
	Paused    bool
	Created   time.Time
	AtLatest  time.Time  // it starts with whoever is ready then
	Bytes     int64      // of the image that are in use
	WireBytes int64      // that went out before
	SealKey   []byte     // nil for an open one
	Slabs     *image.Map // of the version; nil in one that can only be ended
	Bases     *image.Map // what workstations may have in their places (image.Bases); nil for nothing
	Payloads  []parcel.Payload
	Others    int // workstations that may turn up here, too
	// CarriedBy is the process elsewhere that alone serves it; empty for most.
	CarriedBy string
	// BasesDigest is that of Bases as a file, for processes elsewhere.
	BasesDigest slabstore.Digest
}

// Member is a workstation of a delivery.
type Member struct {
	ID    int64
	Name  string
	Where string // the process elsewhere that serves it; empty for this one
	// Unseen says that it was never seen anywhere: it may turn up in another network.
	Unseen bool
}

// Store is where frames of slabs come from.
type Store interface {
	Frame(d slabstore.Digest) ([]byte, error)
	// Get returns the plain bytes of a slab, checked.
	Get(d slabstore.Digest) ([]byte, error)
	// Delta is a slab as it is stored, if it leans on another one.
	Delta(d slabstore.Digest) ([]byte, error)
}

// Payloads is where payloads come from.
type Payloads interface {
	// ReadPayload fills b with what a payload has from there on.
	ReadPayload(digest string, b []byte, from int64) error
}

// Streams are the deliveries of one network. Its fields are set before the first Start.
type Streams struct {
	Multicast Multicast
	Slabs     Store
	Payloads  Payloads
	Ledger    Ledger
	Ahead     int // parcels that are made at once; by default as many as there are processors
	// Here tells whether a slab is at hand; the others, which have to come first, are sent last. Nil if all are.
	Here   func(d slabstore.Digest) bool
	Secret string // what nobody else knows, the same at each start
	Log    *slog.Logger
	Now    func() time.Time

	// Ceiling, if set, is what all streams together may take now, in place of Multicast.Ceiling.
	Ceiling func() int64

	rates rates
	work  sync.WaitGroup
	trial oneTrial

	mu      sync.Mutex
	runners map[int64]*Runner
}

// Start carries a delivery through, until it is over or ctx ends. Errors say why it
// cannot be run; it can be ended by End then.
func (s *Streams) Start(ctx context.Context, o Order, members []Member) error {
	r, err := newRunner(s, o, members)
	if err != nil {
		return err
	}
	if o.State != delivery.Gathering {
		r.note(s.Now(), bySelf, "goes on after a restart")
	}
	s.run(ctx, r)
	return nil
}

// End only ends a delivery, with receipts that say why.
func (s *Streams) End(ctx context.Context, o Order, members []Member, reason string) {
	s.run(ctx, endingRunner(s, o, members, reason))
}

// run keeps a runner reachable until it ends. A fault of the program ends the delivery,
// with receipts that say so, and nothing else.
func (s *Streams) run(ctx context.Context, r *Runner) {
	s.set(r)
	s.work.Go(func() {
		if err := fault.Guard(func() error { r.run(ctx); return nil }); err != nil {
			s.Log.Error("a delivery has ended by a fault of the program", "delivery", r.order.ID, "error", err)
			last := r.remains(s.Now(), "a fault of the program ended it; the service's log says more")
			s.set(last)
			if err := fault.Guard(func() error { last.run(ctx); return nil }); err != nil {
				s.Log.Error("its receipts could not be written", "delivery", r.order.ID, "error", err)
			}
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		delete(s.runners, r.order.ID)
	})
}

func (s *Streams) set(r *Runner) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.runners == nil {
		s.runners = map[int64]*Runner{}
	}
	s.runners[r.order.ID] = r
}

// Runner is the one of a delivery; nil if that is not running.
func (s *Streams) Runner(id int64) *Runner {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.runners[id]
}

// Runners are those of all running deliveries, in the order of their numbers.
func (s *Streams) Runners() []*Runner {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.SortedFunc(maps.Values(s.runners), func(a, b *Runner) int { return int(a.order.ID - b.order.ID) })
}

// Wait waits until all have ended.
func (s *Streams) Wait() { s.work.Wait() }

// FreeChannel is an address that no running delivery uses, if there is one.
func (s *Streams) FreeChannel() netip.AddrPort {
	s.mu.Lock()
	defer s.mu.Unlock()
	n := int64(0)
	for ; n < 1<<16; n++ {
		if !slices.ContainsFunc(slices.Collect(maps.Values(s.runners)), func(r *Runner) bool { return r.order.Channel == s.Multicast.Channel(n) }) {
			break
		}
	}
	return s.Multicast.Channel(n)
}
