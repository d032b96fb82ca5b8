package service

import (
	"cmp"
	"context"
	"crypto/subtle"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"jugate/api"
	"jugate/core/delivery"
	"jugate/core/fault"
	"jugate/core/image"
	"jugate/core/norm"
	"jugate/core/parcel"
	"jugate/core/slabstore"
	"jugate/records"
)

// runner carries one delivery through: it lets core/delivery decide and does
// what follows. Its loop is the only place that changes the delivery's state in
// the records.
type runner struct {
	s           *Service
	rec         records.Delivery
	number      uint32        // another one each time the delivery is taken up
	slabMap     *image.Map    // of the version; empty in one that only ends
	seal        *parcel.Seal  // nil unless it is sealed
	kick        chan struct{} // has room for one
	rateNow     atomic.Int64  // bits a second of the stream
	unicasts    *rate.Limiter // bytes a second by unicast
	streamEnded chan struct{} // closed when the stream ends, by itself or not

	mu          sync.Mutex
	members     map[int64]records.Workstation
	d           *delivery.Delivery
	rate        int64   // as ordered
	pace        float64 // share of it that the group can follow
	paused      bool
	streaming   bool
	reason      string // why it was stopped
	wire        int64
	repairBytes int64
	unicast     map[int64]int64    // mending bytes sent, by workstation
	drivers     map[int64][]string // packages put in, by workstation
	remarks     map[int64]string   // what workstations say of their disks
	sent        int                // slabs of this round
	slabs       int                // that it has
	round       int

	unwritten []delivery.Member // ended, receipt still to be written
	notes     []records.DeliveryChange
	trouble   string // why something could not be recorded
}

const (
	// tellEvery is how often a delivery that moves is published at the most.
	tellEvery = 250 * time.Millisecond
	// storeEvery is how often its bytes are recorded, in case the service is killed.
	storeEvery = 5 * time.Second
	// serviceNode is the service's node id in its streams.
	serviceNode = norm.NodeID(1)
	// unicastBurst lets any slab through at once.
	unicastBurst = 4 << 20
)

func newRunner(s *Service, rec records.Delivery, members []records.Workstation) (*runner, error) {
	rule, err := delivery.ParseRule(rec.Rule)
	if err != nil {
		return nil, err
	}
	_, slabs, err := s.load(&records.Version{Image: rec.Image, Number: rec.Version, Digest: rec.Digest})
	if err != nil {
		return nil, err
	}
	var aside api.AsideRule
	if err := json.Unmarshal([]byte(rec.Aside), &aside); err != nil {
		return nil, err
	}
	if _, err := netip.ParseAddrPort(rec.GroupAddr); err != nil {
		return nil, fmt.Errorf("its multicast address: %w", err)
	}
	r := emptyRunner(s, rec, members)
	r.number, r.slabMap = rand.Uint32(), slabs
	if rec.Sealed {
		if r.seal, err = parcel.NewSeal(rec.SealKey, rec.Session); err != nil {
			return nil, err
		}
	}
	whole := &delivery.SlabSet{}
	for i := range slabs.Distinct() {
		whole.Add(i)
	}
	wait := cmp.Or(time.Duration(rec.WaitAtMost)*time.Second, waitByDefault)
	options := delivery.Options{Rule: rule, Ordered: slices.MaxFunc([]time.Time{rec.Created, rule.Earliest()}, time.Time.Compare), WaitAtMost: wait, GiveUpAfter: wait + giveUpAfter, Whole: whole, Bytes: rec.UsedBytes, Aside: delivery.AsideRule{
		Never: aside.Never, Loss: aside.LossPercent / 100, DiskLag: time.Duration(aside.DiskSeconds) * time.Second, Silence: time.Duration(aside.SilentSeconds) * time.Second}}
	if rec.State != delivery.Gathering {
		// It was under way when the service ended: it goes on with whoever is there
		// again soon.
		options.Ordered, options.WaitAtMost, options.Rule = s.config.Now(), resumeWait, delivery.Rule{}
		options.GiveUpAfter, options.Resumed = delivery.Silence, true
	}
	r.d = delivery.New(options, slices.Sorted(maps.Keys(r.members)))
	if rec.Paused {
		r.d.Pause(s.config.Now())
		r.paused = true
	}
	r.setRate(s.rates.bounded(rec.Rate))
	return r, nil
}

// newStoppedRunner makes a runner that only ends the delivery, with receipts that
// say why.
func newStoppedRunner(s *Service, rec records.Delivery, members []records.Workstation, reason string) *runner {
	r := emptyRunner(s, rec, members)
	r.d = delivery.New(delivery.Options{}, slices.Sorted(maps.Keys(r.members)))
	r.stop(s.config.Now(), reason)
	return r
}

// emptyRunner has the workstations and nothing to send.
func emptyRunner(s *Service, rec records.Delivery, members []records.Workstation) *runner {
	r := &runner{
		s: s, rec: rec, slabMap: &image.Map{}, members: map[int64]records.Workstation{}, kick: make(chan struct{}, 1), wire: rec.WireBytes,
		unicast: map[int64]int64{}, drivers: map[int64][]string{}, remarks: map[int64]string{}, rate: rec.Rate, pace: 1,
		unicasts: rate.NewLimiter(rate.Inf, unicastBurst), streamEnded: make(chan struct{}),
	}
	for _, w := range members {
		r.members[w.ID] = w
	}
	return r
}

// remains is a runner that ends what this one has left.
func (r *runner) remains(now time.Time, reason string) *runner {
	r.mu.Lock() // a fault does not hold it: every lock is given back by defer
	defer r.mu.Unlock()
	var left []records.Workstation
	for id, w := range r.members {
		if r.d.Phase(id) != delivery.Ended || slices.ContainsFunc(r.unwritten, func(m delivery.Member) bool { return m.ID == id }) {
			left = append(left, w)
		}
	}
	last := newStoppedRunner(r.s, r.rec, left, reason)
	last.wire, last.notes = r.wire, r.notes
	return last
}

// nonce is what a workstation's proof begins with: nobody else knows it, and it is the
// same after a restart of the service.
func (r *runner) nonce(workstation int64) []byte {
	sum := slabstore.Sum(fmt.Appendf(nil, "proof of %d in delivery %d, session %d: %s", workstation, r.rec.ID, r.rec.Session, r.s.secret))
	return sum[:16]
}

// proven tells whether a proof is the one that reading the whole disk back gives. Of a
// workstation that has not begun to check it is not asked: its report is not believed.
func (r *runner) proven(workstation int64, proof []byte) bool {
	r.mu.Lock()
	checks := r.d.Phase(workstation) == delivery.Checking
	r.mu.Unlock()
	return !checks || subtle.ConstantTimeCompare(proof, r.slabMap.Proof(r.nonce(workstation))) == 1
}

// resumeWait is how long a delivery that is taken up again waits for its
// workstations: longer than an agent's longest pause between two tries.
const resumeWait = 15 * time.Second

// nudge makes the loop look again.
func (r *runner) nudge() {
	select {
	case r.kick <- struct{}{}:
	default:
	}
}

// node is a workstation's node id in the stream: hard to guess, and the same after
// a restart of the service.
func (r *runner) node(workstation int64) norm.NodeID {
	sum := slabstore.Sum(fmt.Appendf(nil, "node %d of session %d", workstation, r.rec.Session))
	return norm.NodeID(2 + binary.BigEndian.Uint32(sum[:])%(1<<31))
}

func (r *runner) nodes() map[norm.NodeID]int64 {
	r.mu.Lock()
	defer r.mu.Unlock()
	all := map[norm.NodeID]int64{}
	for id := range r.members {
		all[r.node(id)] = id
	}
	return all
}

func (r *runner) isNode(n norm.NodeID) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	for id := range r.members {
		if r.node(id) == n {
			return true
		}
	}
	return false
}

// pack makes a slab ready for the way.
func (r *runner) pack(slab int, frame []byte, nonce func() [parcel.NonceSize]byte) []byte {
	if r.seal != nil {
		return r.seal.Pack(slab, frame, nonce())
	}
	return parcel.Pack(slab, frame)
}

// report takes what a workstation tells and answers how far the whole is.
func (r *runner) report(now time.Time, id int64, p delivery.Report) (api.Course, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	err := r.d.Report(now, id, p)
	r.nudge()
	return r.course(id, err), err
}

func (r *runner) course(id int64, err error) api.Course {
	c := api.Course{State: string(r.d.State()), Over: err != nil || r.d.State().Over(), Run: r.number, Round: r.d.Rounds(), Aside: r.d.Aside(id)}
	fetch, decided := r.d.Fetch(id)
	if c.Decided = decided; fetch != nil {
		for _, x := range fetch.Ranges() {
			c.Fetch = append(c.Fetch, x)
		}
	}
	return c
}

// remark notes what a workstation says of its part.
func (r *runner) remark(now time.Time, id int64, text string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if w, is := r.members[id]; is && r.d.Phase(id) != delivery.Ended {
		r.note(now, w.Name, text)
		r.remarks[id] = text
	}
}

// putIn notes which drivers a workstation has put in.
func (r *runner) putIn(id int64, packages []string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.drivers[id] = packages
}

// lacking takes what a workstation lacks.
func (r *runner) lacking(now time.Time, id int64, round int, set *delivery.SlabSet) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	err := r.d.Lacking(now, id, round, set)
	r.nudge()
	return err
}

// through tells that a workstation's part has ended, although its receipt may not
// be written yet.
func (r *runner) through(id int64) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.d.Phase(id) == delivery.Ended
}

// mended counts bytes that went out to mend.
func (r *runner) mended(id, n int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.unicast[id] += n
}

func (r *runner) stop(now time.Time, reason string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if !r.d.State().Over() {
		r.reason = reason
		r.d.Stop(now, reason)
	}
	r.nudge()
}

func (r *runner) sentSlab() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.sent++
}

func (r *runner) roundEnded(now time.Time) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.streaming = false
	r.d.RoundEnded(now)
	r.nudge()
}

// setRate is told what the stream may take, in bits a second.
func (r *runner) setRate(bits int64) {
	if r.rateNow.Swap(bits) != bits {
		r.nudge()
	}
}

// change does something to the delivery and notes it.
func (r *runner) change(now time.Time, by, what string, do func()) {
	r.mu.Lock()
	defer r.mu.Unlock()
	do()
	r.note(now, by, what)
	r.nudge()
}

func (r *runner) note(now time.Time, by, what string) {
	r.notes = append(r.notes, records.DeliveryChange{At: now, By: by, What: what})
}

// run works until the delivery is over or the service closes.
func (r *runner) run(ctx context.Context) {
	streaming, stopStream := context.WithCancel(ctx)
	var working sync.WaitGroup
	defer working.Wait()
	defer stopStream()
	defer r.s.rates.want(r, 0)
	var t *stream
	var told, stored time.Time
	recorded, rateSet, held := r.rec.State, int64(0), false
	for {
		now := r.s.config.Now()
		r.mu.Lock()
		step := r.d.Advance(now)
		state, reason, deadline := r.d.State(), r.reason, r.d.Deadline(now)
		r.unwritten = append(r.unwritten, step.Ended...)
		r.pace = step.Pace
		for _, n := range step.Notes {
			text := n.Text
			if n.Workstation != 0 {
				text = r.members[n.Workstation].Name + " " + text
			}
			r.note(n.At, bySelf, text)
		}
		if step.Stream != nil {
			r.streaming, r.sent, r.slabs = true, 0, step.Stream.Len()
			r.round++
		}
		wanted, paused, busy := int64(float64(r.rate)*r.pace), r.paused, r.streaming
		r.mu.Unlock()

		if state.Over() {
			stopStream()
			working.Wait() // what it sent last is counted, too
		}
		if busy && !paused {
			r.s.rates.want(r, wanted) // before a stream begins
		} else {
			r.s.rates.want(r, 0)
			r.setRate(r.s.rates.bounded(wanted))
		}
		if step.Stream != nil && t == nil {
			t = r.open(streaming, &working)
		}
		if step.Stream != nil {
			r.s.log.Info("stream", "delivery", r.rec.ID, "image", r.rec.Image, "slabs", step.Stream.Len())
			t.begin(streaming, step.Stream)
			select {
			case <-r.streamEnded: // there is no stream any more: it all goes by unicast
				r.roundEnded(now)
			default:
			}
		}
		if step.EndStream && t != nil {
			t.send(streaming, func(now time.Time, _ *norm.Sender) {
				if t.round != nil {
					t.end(now)
				}
			})
		}
		if now := r.rateNow.Load(); now != rateSet || paused != held {
			rateSet, held = now, paused
			if t != nil {
				t.send(streaming, func(at time.Time, s *norm.Sender) {
					s.SetRate(at, float64(now))
					if paused {
						s.Pause()
					} else {
						s.Resume(at)
					}
				})
			}
		}
		r.limitUnicasts(busy)
		settled := r.writeReceipts(ctx) && r.writeNotes(ctx)
		if !settled && r.s.reserve.give() { // the disk may be full: that is what it is for
			settled = r.writeReceipts(ctx) && r.writeNotes(ctx)
		}
		if settled && (state != recorded || !state.Over() && now.Sub(stored) >= storeEvery) {
			if err := r.s.records.SetDelivery(ctx, now, r.rec.ID, state, reason, r.wireBytes()); err != nil {
				r.s.log.Error("a delivery could not be recorded", "delivery", r.rec.ID, "state", state, "error", err)
				settled = false
				r.setTrouble("what it did cannot be recorded: " + recordProblem(err))
			} else if stored = now; state != recorded {
				recorded = state
				r.s.log.Info("delivery", "delivery", r.rec.ID, "image", r.rec.Image, "state", state)
				told = time.Time{}
			}
		}
		if settled {
			r.setTrouble("")
		}
		if r.s.config.Now().Sub(told) >= tellEvery {
			told = r.s.config.Now()
			r.s.tellDelivery(ctx, r.rec.ID)
		}
		if settled && recorded.Over() {
			return
		}
		if !r.pause(ctx, now, deadline, settled, !state.Over() && state != delivery.Gathering) {
			return
		}
	}
}

// bySelf is who does what nobody ordered.
const bySelf = "the service"

// open begins the stream.
func (r *runner) open(ctx context.Context, working *sync.WaitGroup) *stream {
	t := &stream{r: r, slabs: r.slabMap, do: make(chan func(time.Time, *norm.Sender)), base: r.wire, prefix: rand.Uint32(), sizes: map[norm.ObjectID]int64{}}
	working.Go(func() {
		defer close(r.streamEnded)
		err := fault.Guard(func() error { return t.run(ctx) })
		if err != nil && ctx.Err() == nil {
			// Not the end: whatever did not go out is mended.
			r.s.log.Error("the stream broke off", "delivery", r.rec.ID, "image", r.rec.Image, "error", err)
			r.change(time.Now(), bySelf, fmt.Sprintf("the stream broke off: %v", err), func() {})
			r.roundEnded(r.s.config.Now())
		}
	})
	return t
}

// limitUnicasts leaves the network to the stream while it runs.
func (r *runner) limitUnicasts(streaming bool) {
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
func (r *runner) pause(ctx context.Context, now, deadline time.Time, settled, moving bool) bool {
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

// wireBytes is what has gone out for the delivery, in bytes.
func (r *runner) wireBytes() int64 {
	r.mu.Lock()
	defer r.mu.Unlock()
	sum := r.wire
	for _, n := range r.unicast {
		sum += n
	}
	return sum
}
