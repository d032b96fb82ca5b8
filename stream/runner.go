package stream

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"jugate/core/delivery"
	"jugate/core/fault"
	"jugate/core/image"
	"jugate/core/norm"
	"jugate/core/parcel"
)

// Runner carries one delivery through: it lets core/delivery decide and does what
// follows. Its loop is the only place that tells the ledger of the delivery's state.
type Runner struct {
	Slabs *image.Map    // of the version; empty in one that only ends
	Cargo *parcel.Cargo // its slabs and payloads
	Seal  *parcel.Seal  // nil unless it is sealed

	in          *Streams
	order       Order
	number      uint32         // another one each time the delivery is taken up
	kick        chan struct{}  // has room for one
	rateNow     atomic.Int64   // bits a second of the stream
	unicasts    *rate.Limiter  // bytes a second by unicast
	streamEnded chan struct{}  // closed when the stream ends, by itself or not
	bases       map[int]int    // number of a slab in order.Bases, by that of the one that takes its place
	based       *image.SlabSet // those that have one

	mu          sync.Mutex
	members     map[int64]Member
	byNode      map[norm.NodeID]int64
	options     delivery.Options
	d           *delivery.Delivery   // of those who are here
	away        map[int64]*elsewhere // the others
	parts       map[string]Part      // what was told of them last, by where they are
	wireAway    int64                // bytes that have gone out there
	rate        int64                // as ordered
	pace        float64              // share of it that the group can follow
	paused      bool
	streaming   bool
	stopping    bool   // it is to end, for everybody
	reason      string // why
	wire        int64
	repairBytes int64
	unicast     map[int64]int64    // mending bytes sent, by workstation
	drivers     map[int64][]string // packages installed, by workstation
	reused      map[int64]int64    // bytes that workstations had already, as they have told before anything was sent
	remarks     map[int64]string   // what workstations say of their disks
	moved       map[int64]struct{} // workstations that something is new of
	sent        int                // slabs of this round
	slabs       int                // that it has
	round       int
	passes      int // rounds that were begun, and the one of the slab map

	unwritten []delivery.Member // ended, receipt still to be written
	abandoned []delivery.Member // those of them that the loop has not seen yet
	notes     []Note
	trouble   string // why something could not be recorded
}

const (
	// publishEvery is how often the ledger hears of a delivery that moves.
	publishEvery = 250 * time.Millisecond
	// storeEvery is how often its bytes are recorded, in case the service is killed.
	storeEvery = 5 * time.Second
	// serviceNode is the service's node id in its streams.
	serviceNode = norm.NodeID(1)
	// unicastBurst lets any slab through at once.
	unicastBurst = 4 << 20
)

func newRunner(in *Streams, o Order, members []Member) (*Runner, error) {
	r := emptyRunner(in, o, members)
	r.number = rand.Uint32()
	if o.SealKey != nil {
		var err error
		if r.Seal, err = parcel.NewSeal(o.SealKey, o.Session); err != nil {
			return nil, err
		}
	}
	every := &image.SlabSet{}
	for i := range o.Slabs.Distinct() {
		every.Add(i)
	}
	for i := o.Slabs.Len(); i < r.Cargo.Len(); i++ {
		every.Add(i)
	}
	r.options = delivery.Options{Rule: o.Rule, Ordered: o.Rule.WaitsFrom(o.Created),
		AtLatest: o.AtLatest, GiveUp: o.AtLatest.Add(giveUpAfter), Every: every, Bytes: o.Bytes, Beside: r.Cargo.PayloadBytes(), Aside: o.Aside, Others: o.Others}
	options := r.options
	if o.State != delivery.Gathering {
		// It was under way when the service ended: it goes on with whoever is there
		// again soon.
		options = r.again(in.Now())
	}
	r.d = delivery.New(options, r.here())
	if o.Paused {
		r.d.Pause(in.Now())
		r.paused = true
	}
	r.setRate(in.rates.bounded(in.ceiling(), o.Rate))
	return r, nil
}

// endingRunner makes a runner that only ends the delivery, with receipts that say why.
func endingRunner(in *Streams, o Order, members []Member, reason string) *Runner {
	members = slices.Clone(members)
	for i := range members {
		members[i].Where = ""
	}
	r := emptyRunner(in, o, members)
	r.d = delivery.New(delivery.Options{}, r.here())
	r.Stop(in.Now(), reason)
	return r
}

// emptyRunner has the workstations and nothing to send.
func emptyRunner(in *Streams, o Order, members []Member) *Runner {
	r := &Runner{
		in: in, order: o, Slabs: o.Slabs, members: map[int64]Member{}, away: map[int64]*elsewhere{}, parts: map[string]Part{}, byNode: map[norm.NodeID]int64{}, kick: make(chan struct{}, 1), wire: o.WireBytes,
		unicast: map[int64]int64{}, drivers: map[int64][]string{}, remarks: map[int64]string{}, reused: map[int64]int64{}, moved: map[int64]struct{}{}, rate: o.Rate, pace: 1,
		unicasts: rate.NewLimiter(rate.Inf, unicastBurst), streamEnded: make(chan struct{}),
	}
	if r.Slabs == nil {
		r.Slabs = &image.Map{}
	}
	r.Cargo = parcel.NewCargo(r.Slabs.Len(), o.Payloads)
	r.based = &image.SlabSet{}
	if o.Bases != nil {
		r.bases = image.Replaced(r.Slabs, o.Bases)
	}
	for i := range r.bases {
		r.based.Add(i)
	}
	r.add(in.Now(), members)
	return r
}

// add takes workstations in. The caller holds mu, or is the only one yet.
func (r *Runner) add(now time.Time, members []Member) {
	for _, m := range members {
		if _, known := r.members[m.ID]; !known {
			r.members[m.ID], r.byNode[r.Node(m.ID)] = m, m.ID
			r.settle(now, m)
		}
	}
	if r.stopping {
		r.d.Stop(now, r.reason)
	}
}

// here are those who are served here, in the order of their numbers. The caller holds mu, or is the only one yet.
func (r *Runner) here() (ids []int64) {
	for id, m := range r.members {
		if m.Where == "" {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	return ids
}

// remains is a runner that ends what this one has left.
func (r *Runner) remains(now time.Time, reason string) *Runner {
	r.mu.Lock() // a fault does not hold it: every lock is given back by defer
	defer r.mu.Unlock()
	var left []Member
	for id, m := range r.members {
		if r.phase(id) != delivery.Ended || slices.ContainsFunc(r.unwritten, func(m delivery.Member) bool { return m.ID == id }) {
			left = append(left, m)
		}
	}
	last := endingRunner(r.in, r.order, left, reason)
	last.wire, last.notes = r.wire, r.notes
	return last
}

const (
	// resumeWait is how long a delivery that is taken up again waits for its
	// workstations: longer than an agent's longest pause between two tries.
	resumeWait = 15 * time.Second
	// giveUpAfter is how much longer than until its latest start a delivery waits if
	// nobody is ready at all.
	giveUpAfter = 24 * time.Hour
)

// nudge makes the loop look again.
func (r *Runner) nudge() {
	select {
	case r.kick <- struct{}{}:
	default:
	}
}

// sentParcel counts a slab that has gone out; pieces of the slab map do not count.
func (r *Runner) sentParcel(pass int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if pass == r.passes && r.slabs > 0 {
		r.sent++
	}
}

// roundEnded ends a round, or the one of the slab map, if it is under way still: a stream
// that breaks off as it begins is noticed by both who wait for it, and the first round may
// begin while the slab map is being repaired for somebody.
func (r *Runner) roundEnded(now time.Time, pass int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if !r.streaming || pass != r.passes {
		return
	}
	r.streaming = false
	r.d.RoundEnded(now)
	r.nudge()
}

// setRate is told what the stream may take, in bits a second.
func (r *Runner) setRate(bits int64) {
	if r.rateNow.Swap(bits) != bits {
		r.nudge()
	}
}

// change does something to the delivery and notes it.
func (r *Runner) change(now time.Time, by, what string, do func()) {
	r.mu.Lock()
	defer r.mu.Unlock()
	do()
	r.note(now, by, what)
	r.nudge()
}

func (r *Runner) note(now time.Time, by, what string) {
	r.notes = append(r.notes, Note{At: now, By: by, What: what})
}

// run works until the delivery is over or the service closes.
func (r *Runner) run(ctx context.Context) {
	streaming, stopStream := context.WithCancel(ctx)
	var working sync.WaitGroup
	defer working.Wait()
	defer stopStream()
	defer func() { r.in.rates.want(r.in.ceiling(), r, 0) }()
	var t *sender
	var published time.Time
	rateSet, held := int64(0), false
	recorded := recorded{state: r.order.State}
	for {
		now := r.in.Now()
		at := r.advance(now)
		if at.state.Over() {
			stopStream()
			working.Wait() // what it sent last is counted, too
		}
		if at.streaming && !at.paused {
			r.in.rates.want(r.in.ceiling(), r, at.wanted) // before a stream begins
		} else {
			r.in.rates.want(r.in.ceiling(), r, 0)
			r.setRate(r.in.rates.bounded(r.in.ceiling(), at.wanted))
		}
		if at.Map || at.Stream != nil {
			if t == nil {
				t = r.open(streaming, &working)
			}
			r.beginRound(streaming, now, t, at)
		}
		if at.EndStream && t != nil {
			t.send(streaming, func(now time.Time, _ *norm.Sender) {
				if t.round != nil {
					t.end(now)
				}
			})
		}
		if now := r.rateNow.Load(); now != rateSet || at.paused != held {
			if rateSet, held = now, at.paused; t != nil {
				t.setRate(streaming, rateSet, held)
			}
		}
		r.limitUnicasts(at.streaming)
		settled, reached := r.record(ctx, now, at, &recorded)
		if reached || r.in.Now().Sub(published) >= publishEvery {
			published = r.in.Now()
			r.in.Ledger.Moved(ctx, r.order.ID, r.takeMoved())
		}
		if settled && recorded.state.Over() {
			return
		}
		if !r.pause(ctx, now, at.deadline, settled, !at.state.Over() && at.state != delivery.Gathering) {
			return
		}
	}
}

// turn is where a delivery stands when the loop looks at it, and what follows.
type turn struct {
	delivery.Step
	state             delivery.State
	reason            string
	deadline          time.Time // when to look again at the latest; zero if only news matter
	wanted            int64     // bits a second, as far as the group can follow
	paused, streaming bool
	pass              int // number of the round that begins
}

// advance draws the conclusions at time now.
func (r *Runner) advance(now time.Time) turn {
	r.mu.Lock()
	defer r.mu.Unlock()
	at := turn{Step: r.d.Advance(now)}
	at.state, at.reason, at.deadline = r.state(), r.reason, r.d.Deadline(now)
	at.EndStream = at.EndStream || r.d.State().Over()
	r.unwritten = slices.Concat(r.unwritten, at.Ended, r.abandoned)
	r.abandoned = nil
	for _, m := range slices.Concat(at.Ended, at.Aside) {
		r.moved[m.ID] = struct{}{}
	}
	r.pace = at.Pace
	for _, n := range at.Notes {
		text := n.Text
		if n.Workstation != 0 {
			text = r.members[n.Workstation].Name + " " + text
		}
		r.note(n.At, bySelf, text)
	}
	if at.Map {
		r.streaming = true
		r.passes++
	}
	if at.Stream != nil {
		r.streaming, r.sent, r.slabs = true, 0, at.Stream.Len()
		r.round++
		r.passes++
	}
	at.pass = r.passes
	at.wanted, at.paused, at.streaming = int64(float64(r.rate)*r.pace), r.paused, r.streaming
	return at
}

// beginRound sends slabs, or the slab map, to all.
func (r *Runner) beginRound(ctx context.Context, now time.Time, t *sender, at turn) {
	if at.Stream != nil {
		r.in.Log.Info("stream", "delivery", r.order.ID, "image", r.order.Version, "parcels", at.Stream.Len(), "by_delta", at.ByDelta.Len())
		t.beginRound(ctx, at.pass, at.Stream, at.ByDelta)
	} else {
		t.beginMap(ctx, at.pass)
	}
	select {
	case <-r.streamEnded: // there is no stream any more: it all goes by unicast
		r.roundEnded(now, at.pass)
	default:
	}
}

// recorded is what the ledger has of a delivery.
type recorded struct {
	state delivery.State
	at    time.Time
}

// record brings the ledger up to where the delivery stands. settled tells that it has
// everything, reached that it has heard of a new state.
func (r *Runner) record(ctx context.Context, now time.Time, at turn, has *recorded) (settled, reached bool) {
	settled = r.writeReceipts(ctx) && r.writeNotes(ctx)
	if !settled && r.in.Ledger.GiveRoom() { // the disk may be full: that is what it is for
		settled = r.writeReceipts(ctx) && r.writeNotes(ctx)
	}
	if settled && (at.state != has.state || !at.state.Over() && now.Sub(has.at) >= storeEvery) {
		if err := r.in.Ledger.Reached(ctx, now, r.order.ID, at.state, at.reason, r.WireBytes()); err != nil {
			r.in.Log.Error("a delivery could not be recorded", "delivery", r.order.ID, "state", at.state, "error", err)
			r.setTrouble("what it did cannot be recorded: " + recordProblem(err))
			return false, false
		}
		has.at = now
		if reached = at.state != has.state; reached {
			has.state = at.state
			r.in.Log.Info("delivery", "delivery", r.order.ID, "image", r.order.Version, "state", at.state)
		}
	}
	if settled {
		r.setTrouble("")
	}
	return settled, reached
}

// bySelf is who does what nobody ordered.
const bySelf = "the service"

// open begins the stream.
func (r *Runner) open(ctx context.Context, working *sync.WaitGroup) *sender {
	t := &sender{r: r, do: make(chan func(time.Time, *norm.Sender)), base: r.wire, prefix: rand.Uint32(), sizes: map[norm.ObjectID]int64{}}
	working.Go(func() {
		defer close(r.streamEnded)
		err := fault.Guard(func() error { return t.run(ctx) })
		if err != nil && ctx.Err() == nil {
			// Not the end: whatever did not go out is mended.
			r.in.Log.Error("the stream broke off", "delivery", r.order.ID, "image", r.order.Version, "error", err)
			r.change(r.in.Now(), bySelf, fmt.Sprintf("the stream broke off: %v", err), func() {})
			r.mu.Lock()
			pass := r.passes
			r.mu.Unlock()
			r.roundEnded(r.in.Now(), pass)
		}
	})
	return t
}

// limitUnicasts leaves the network to the stream while it runs.
func (r *Runner) limitUnicasts(streaming bool) {
	bits := float64(r.rateNow.Load())
	if streaming {
		bits /= 4
	}
	if limit := rate.Limit(bits / 8); r.unicasts.Limit() != limit {
		r.unicasts.SetLimit(limit)
	}
}

// pause waits for news, for the next deadline, or to try again what failed, and
// at least for the time between two tellings. It is false when the service closes.
func (r *Runner) pause(ctx context.Context, now, deadline time.Time, settled, moving bool) bool {
	wait := time.Minute
	if !deadline.IsZero() {
		wait = max(deadline.Sub(now), 0)
	}
	if !settled || moving { // silence is news, too
		wait = min(wait, time.Second)
	}
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case <-r.kick:
	case <-timer.C:
	case <-ctx.Done():
		return false
	}
	return true
}

// WireBytes is what has gone out for the delivery, in bytes.
func (r *Runner) WireBytes() int64 {
	r.mu.Lock()
	defer r.mu.Unlock()
	sum := r.wire + r.wireAway
	for _, n := range r.unicast {
		sum += n
	}
	return sum
}
