package service

import (
	"context"
	"database/sql"
	"errors"
	"iter"
	"maps"
	"net/netip"
	"slices"
	"sync"
	"time"

	"jugate/core/delivery"
	"jugate/core/image"
	"jugate/core/roster"
	"jugate/records"
)

// runner carries one delivery through: it lets core/delivery decide and does
// what follows. Its loop is the only place that changes the delivery's records.
type runner struct {
	s       *Service
	rec     records.Delivery
	members map[int64]records.Workstation
	kick    chan struct{} // has room for one

	mu      sync.Mutex
	d       *delivery.Delivery
	reason  string // why it was stopped
	wire    int64
	unicast map[int64]int64 // mending bytes sent, by workstation
	sent    int             // slabs
	slabs   int

	unwritten []delivery.Member // ended, receipt still to be written
}

// tellEvery is how often a delivery that moves is published at the most.
const tellEvery = 250 * time.Millisecond

func newRunner(s *Service, rec records.Delivery, members []records.Workstation) (*runner, error) {
	rule, err := delivery.ParseRule(rec.Rule)
	if err != nil {
		return nil, err
	}
	r := &runner{s: s, rec: rec, members: map[int64]records.Workstation{}, kick: make(chan struct{}, 1), wire: rec.WireBytes, unicast: map[int64]int64{}}
	for _, w := range members {
		r.members[w.ID] = w
	}
	r.d = delivery.New(rule, slices.Sorted(maps.Keys(r.members)))
	return r, nil
}

// nudge makes the loop look again.
func (r *runner) nudge() {
	select {
	case r.kick <- struct{}{}:
	default:
	}
}

// report takes what a workstation tells and answers how far the whole is.
func (r *runner) report(now time.Time, id int64, p delivery.Report) (delivery.State, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	err := r.d.Report(now, id, p)
	r.nudge()
	return r.d.State(), err
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

// run works until the delivery is over or the service closes.
func (r *runner) run(ctx context.Context) {
	streaming, stopStream := context.WithCancel(ctx)
	defer stopStream()
	var stream sync.WaitGroup
	defer stream.Wait()
	var told time.Time
	recorded := r.rec.State
	for {
		now := r.s.config.Now()
		r.mu.Lock()
		step := r.d.Advance(now)
		state, reason, wire, deadline := r.d.State(), r.reason, r.wireBytes(), r.d.Deadline()
		r.unwritten = append(r.unwritten, step.Ended...)
		r.mu.Unlock()

		if state.Over() {
			stopStream()
		}
		if step.StartStream {
			stream.Go(func() { r.stream(streaming) })
		}
		r.writeReceipts(ctx)
		settled := len(r.unwritten) == 0
		if settled && state != recorded {
			if err := r.s.records.SetDelivery(ctx, now, r.rec.ID, state, reason, wire); err != nil {
				r.s.log.Error("a delivery could not be recorded", "delivery", r.rec.ID, "state", state, "error", err)
				settled = false
			} else {
				recorded = state
				r.s.log.Info("delivery", "delivery", r.rec.ID, "image", r.rec.Image, "state", state)
				told = time.Time{}
			}
		}
		if r.s.config.Now().Sub(told) >= tellEvery {
			told = r.s.config.Now()
			r.s.tellDelivery(ctx, r.rec.ID)
		}
		if settled && recorded.Over() {
			return
		}
		if !r.pause(ctx, now, deadline, settled) {
			return
		}
	}
}

// pause waits for news, for the next deadline, or to try again what failed, and
// at least for the time between two tellings. It is false when the service closes.
func (r *runner) pause(ctx context.Context, now, deadline time.Time, settled bool) bool {
	wait := time.Minute
	if !deadline.IsZero() {
		wait = max(deadline.Sub(now), 0)
	}
	if !settled {
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

func (r *runner) wireBytes() int64 {
	sum := r.wire
	for _, n := range r.unicast {
		sum += n
	}
	return sum
}

// stream sends every slab once.
func (r *runner) stream(ctx context.Context) {
	_, slabs, err := r.s.load(&records.Version{Image: r.rec.Image, Number: r.rec.Version, Digest: r.rec.Digest})
	if err == nil {
		to := delivery.Channel{Group: netip.MustParseAddrPort(r.rec.GroupAddr), Session: r.rec.Session, Rate: r.rec.Rate}
		before := r.wire
		err = r.s.sender.Send(ctx, to, r.frames(slabs), func(_ int, wire int64) {
			r.mu.Lock()
			defer r.mu.Unlock()
			r.wire = before + wire
			r.sent++
			r.nudge()
		})
	}
	if err != nil && !errors.Is(err, context.Canceled) {
		// Not the end: whatever did not go out is mended.
		r.s.log.Error("the stream broke off", "delivery", r.rec.ID, "image", r.rec.Image, "error", err)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.d.StreamEnded()
	r.nudge()
}

func (r *runner) frames(slabs *image.Map) iter.Seq2[delivery.Frame, error] {
	total := 0
	for range slabs.Distinct() {
		total++
	}
	r.mu.Lock()
	r.slabs = total
	r.mu.Unlock()
	return func(yield func(delivery.Frame, error) bool) {
		for i, d := range slabs.Distinct() {
			frame, err := r.s.slabs.Frame(d)
			if !yield(delivery.Frame{Slab: i, Bytes: frame}, err) || err != nil {
				return
			}
		}
	}
}

// unreadable is how many bytes of the image are zeros as the golden disk could not
// read them.
func (r *runner) unreadable(ctx context.Context) int64 {
	v, err := r.s.records.Version(ctx, roster.Ref{Image: r.rec.Image, Version: r.rec.Version})
	if err != nil {
		return 0 // the version was brought here by files alone; its manifest says it still
	}
	return v.Unreadable
}

// writeReceipts writes what is owed; what cannot be written now stays owed.
func (r *runner) writeReceipts(ctx context.Context) {
	for len(r.unwritten) > 0 {
		m := r.unwritten[0]
		w := r.members[m.ID]
		receipt := records.Receipt{
			DeliveryID: r.rec.ID, WorkstationID: w.ID, Workstation: w.Name, Address: w.Addresses()[0].String(),
			Image: r.rec.Image, Version: r.rec.Version, Digest: r.rec.Digest,
			Started: sql.NullTime{Time: m.Began, Valid: !m.Began.IsZero()}, Ended: m.Ended,
			BytesMulticast: m.Last.Multicast, BytesUnicast: m.Last.Unicast,
			Verified: m.Outcome == delivery.Delivered, Outcome: m.Outcome, Reason: m.Reason, OrderedBy: r.rec.OrderedBy,
			Unreadable: r.unreadable(ctx),
		}
		if err := r.s.records.AddReceipt(ctx, receipt); err != nil {
			r.s.log.Error("a receipt could not be written", "delivery", r.rec.ID, "workstation", w.Name, "error", err)
			return
		}
		r.unwritten = r.unwritten[1:]
		r.s.log.Info("receipt", "delivery", r.rec.ID, "workstation", w.Name, "image", r.rec.Image, "version", r.rec.Version, "outcome", m.Outcome, "reason", m.Reason)
		r.s.tellReceipt(ctx, r.rec.ID, w.Name)
	}
}
