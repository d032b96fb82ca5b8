package stream

import (
	"maps"
	"slices"
	"time"

	"jugate/core/delivery"
)

// A delivery may go to workstations in several networks. Those of another one are handed to a
// process there, which decides about them and streams to them by a Runner of its own; here it
// is known what that has told. Each network gathers and mends for itself.

// elsewhere is a workstation that is handed to another process.
type elsewhere struct {
	where string
	told  MemberStatus
	ends  bool // its receipt is on its way
}

// Part is how far another process is with its part of a delivery.
type Part struct {
	Where              string
	State              delivery.State
	RateNow            int64 // bits a second; 0 while nothing is sent
	Unheard            bool
	Sent, Slabs, Round int
	WireBytes          int64
	RepairBytes        int64
	Left               time.Duration
	LeftKnown          bool
	Workstations       int // that are handed to it
	Open               int // of these, that it is not through with
}

// Place has a workstation be served where it is now: here, or by a process elsewhere. It tells
// whether that is news. Who is through stays where it was.
func (r *Runner) Place(now time.Time, id int64, where string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	m, known := r.members[id]
	if !known || m.Where == where || r.phase(id) == delivery.Ended || r.stopping {
		return false
	}
	m.Where = where
	r.members[id] = m
	r.d.Leave(id)
	delete(r.away, id)
	r.settle(now, m)
	r.moved[id] = struct{}{}
	if where != "" {
		r.note(now, bySelf, m.Name+" is served at "+where)
	} else {
		r.note(now, bySelf, m.Name+" is served here")
	}
	r.nudge()
	return true
}

// settle has a member be served where it is. The caller holds mu, or is the only one yet.
func (r *Runner) settle(now time.Time, m Member) {
	if m.Where != "" {
		r.away[m.ID] = &elsewhere{where: m.Where, told: MemberStatus{Status: delivery.Member{ID: m.ID, Phase: delivery.Awaited}}}
		return
	}
	if r.d == nil {
		return // the one who makes it will
	}
	if r.d.State().Over() { // those who were here before are through
		r.d = delivery.New(r.again(now), nil)
	}
	r.d.Add([]int64{m.ID})
}

// again are the options of a delivery that was under way before.
func (r *Runner) again(now time.Time) delivery.Options {
	o := r.options
	o.Ordered, o.AtLatest, o.Rule = now, now.Add(resumeWait), delivery.Rule{}
	o.GiveUp, o.Resumed, o.Others = now.Add(delivery.Silence), true, 0
	return o
}

// Where is where a workstation is served; empty for here.
func (r *Runner) Where(id int64) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.members[id].Where
}

// At are the workstations that are handed to a process; open tells whether it is through with
// all of them.
func (r *Runner) At(where string) (all []Member, open bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for id, e := range r.away {
		if e.where == where {
			all = append(all, r.members[id])
			open = open || e.told.Status.Phase != delivery.Ended
		}
	}
	slices.SortFunc(all, func(a, b Member) int { return int(a.ID - b.ID) })
	return all, open
}

// Unseen is how many workstations are awaited here that were never seen anywhere.
func (r *Runner) Unseen() (n int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for id, m := range r.members {
		if m.Unseen && m.Where == "" && r.d.Phase(id) == delivery.Awaited {
			n++
		}
	}
	return n
}

// Unheard tells whether nobody hears the multicast, here or elsewhere.
func (r *Runner) Unheard(where string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if where != "" {
		return r.parts[where].Unheard
	}
	return r.d.Unheard()
}

// Possible holds a report against what can be in this delivery.
func (r *Runner) Possible(p delivery.Report) error { return r.options.Possible(p) }

// Stopping tells why the delivery is to end; empty while it is not.
func (r *Runner) Stopping() string {
	r.mu.Lock()
	defer r.mu.Unlock()
	if !r.stopping {
		return ""
	}
	return r.reason
}

// Order is the delivery as it was ordered, with what was changed since.
func (r *Runner) Order() Order {
	r.mu.Lock()
	defer r.mu.Unlock()
	o := r.order
	o.Rate, o.Paused = r.rate, r.paused
	return o
}

// Told takes what a process elsewhere tells of its part, and of workstations of it. What cannot
// be is left out. Ends come by EndedElsewhere.
func (r *Runner) Told(now time.Time, p Part, of []MemberStatus) {
	r.mu.Lock()
	defer r.mu.Unlock()
	before, known := r.parts[p.Where]
	r.parts[p.Where] = p
	switch { // each counts from its own start
	case known && p.WireBytes >= before.WireBytes:
		r.wireAway += p.WireBytes - before.WireBytes
	case known || r.order.State == delivery.Gathering:
		r.wireAway += p.WireBytes
	default: // counted before this program was started again
	}
	for _, m := range of {
		e := r.away[m.ID]
		if e == nil || e.where != p.Where || e.told.Status.Phase == delivery.Ended || m.Status.Phase == delivery.Ended || r.options.Possible(m.Status.Last) != nil {
			continue
		}
		seen := now
		if m.Status.Phase == delivery.Awaited {
			seen = time.Time{}
		}
		e.told = m
		e.told.Status.ID, e.told.Status.Seen = m.ID, seen
		r.moved[m.ID] = struct{}{}
	}
	r.nudge()
}

// EndedElsewhere takes that the part of a workstation has ended elsewhere, and that its receipt
// is written.
func (r *Runner) EndedElsewhere(end delivery.Member) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if e := r.away[end.ID]; e != nil {
		e.told.Status = end
		r.moved[end.ID] = struct{}{}
	}
	r.nudge()
}

// EndsElsewhere takes that a workstation is through elsewhere, and its receipt on its way.
func (r *Runner) EndsElsewhere(id int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if e := r.away[id]; e != nil {
		e.ends = true
	}
}

// Abandon ends the parts of workstations that were handed to a process which will not be heard
// of again.
func (r *Runner) Abandon(now time.Time, where, reason string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for id, e := range r.away {
		if e.where != where || e.told.Status.Phase == delivery.Ended {
			continue
		}
		end := &e.told.Status
		end.Phase, end.Outcome, end.Reason, end.Ended = delivery.Ended, delivery.Failed, reason, now
		r.abandoned = append(r.abandoned, *end)
		r.moved[id] = struct{}{}
	}
	r.nudge()
}

// SetOthers says how many workstations may still take part here that are elsewhere now.
func (r *Runner) SetOthers(n int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.d.SetOthers(n)
	r.nudge()
}

// Release takes workstations out that are served elsewhere now, without a receipt: all but those to keep.
func (r *Runner) Release(keep []Member) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for id := range r.members {
		if !slices.ContainsFunc(keep, func(m Member) bool { return m.ID == id }) && r.phase(id) != delivery.Ended {
			r.d.Leave(id)
			delete(r.members, id)
			delete(r.byNode, r.Node(id))
		}
	}
	r.nudge()
}

// phase is how far a workstation is, wherever it is served. The caller holds mu.
func (r *Runner) phase(id int64) delivery.Phase {
	if e := r.away[id]; e != nil {
		return e.told.Status.Phase
	}
	return r.d.Phase(id)
}

// allParts are the parts of other processes, by name. The caller holds mu.
func (r *Runner) allParts() []Part {
	by := map[string]Part{}
	for _, e := range r.away {
		p, known := by[e.where]
		if !known {
			if p, known = r.parts[e.where]; !known {
				p.State = delivery.Gathering
			}
			p.Where, p.Workstations, p.Open = e.where, 0, 0
		}
		p.Workstations++
		if e.told.Status.Phase != delivery.Ended {
			p.Open++
		}
		by[e.where] = p
	}
	all := make([]Part, 0, len(by))
	for _, name := range slices.Sorted(maps.Keys(by)) {
		all = append(all, by[name])
	}
	return all
}

// state is how far the delivery is as a whole: as far as the part that is behind. The caller
// holds mu.
func (r *Runner) state() delivery.State {
	state := r.d.State()
	over := state.Over()
	for _, p := range r.allParts() {
		if p.Open == 0 {
			continue
		}
		if p.State.Over() { // its receipts are on their way
			p.State = delivery.Mending
		}
		if over || slices.Index(delivery.States, p.State) < slices.Index(delivery.States, state) {
			state, over = p.State, false
		}
	}
	if over && r.stopping {
		return delivery.Stopped
	}
	return state
}
