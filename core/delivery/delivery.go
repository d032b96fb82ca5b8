// Package delivery decides how one image version gets to a set of workstations:
// when the stream starts, who takes part, who has ended how, and when all is
// over. It is pure: it takes the time and what was reported, and returns what to
// do. It has no sockets, no clock and no goroutines.
//
//	d := delivery.New(delivery.Options{Rule: rule, Every: slabs}, workstations)
//	d.Report(now, id, delivery.Report{Phase: delivery.Ready})
//	step := d.Advance(now)
//	if step.Map { … send the slab map to the group; d.RoundEnded(now) }
//	if step.Stream != nil { … send these slabs to the group; d.RoundEnded(now) }
//	for _, m := range step.Ended { … write m's receipt }
//
// What workstations tell and are told is in report.go, when the stream starts in rule.go, what is sent again in mend.go, who is
// taken out of the stream in aside.go, and what time is left in estimate.go.
package delivery

import (
	"fmt"
	"slices"
	"time"

	"jugate/core/fault"
	"jugate/core/image"
)

// State is how far a delivery is.
type State string

// The states, in their order. Mending sends again just what someone still lacks.
const (
	Gathering State = "gathering"
	Sending   State = "sending"
	Mending   State = "mending"
	Finished  State = "finished"
	Stopped   State = "stopped"
)

// States are all states.
var States = []State{Gathering, Sending, Mending, Finished, Stopped}

// Over reports whether nothing more will happen.
func (s State) Over() bool { return s == Finished || s == Stopped }

// Phase is what one workstation of a delivery is doing.
type Phase string

// The phases of a workstation.
const (
	Awaited      Phase = "awaited"   // it has not called in for this delivery
	Ready        Phase = "ready"     // its disk was checked, it waits for the stream
	Receiving    Phase = "receiving" // it takes the stream
	PhaseMending Phase = "mending"   // it fetches what it missed
	Checking     Phase = "checking"  // it reads its disk back
	Ended        Phase = "ended"
)

// Phases are all phases.
var Phases = []Phase{Awaited, Ready, Receiving, PhaseMending, Checking, Ended}

// Outcome is how it ended for one workstation.
type Outcome string

// The outcomes that a receipt can have.
const (
	Delivered  Outcome = "delivered" // the whole disk was checked after the write
	Failed     Outcome = "failed"
	WasStopped Outcome = "stopped"
	Absent     Outcome = "absent" // it never called in
	Wiped      Outcome = "wiped"  // no delivery ends so: the receipt is of a wipe, and the disk was read back
)

// Outcomes are all outcomes.
var Outcomes = []Outcome{Delivered, Failed, WasStopped, Absent, Wiped}

const (
	// Silence is how long a workstation may report nothing before it is given up:
	// time enough to be switched off and on, and to boot over the network.
	Silence = 5 * time.Minute
	// gatherSilence is how long until it is awaited again, while nothing is sent.
	gatherSilence = time.Minute
)

var (
	// ErrNotMember says that a workstation is not part of the delivery.
	ErrNotMember = fault.Forbidden.Errorf("the workstation is not part of this delivery")
	// ErrReport says that a report cannot be true.
	ErrReport = fault.Invalid.Errorf("the report cannot be true")
	// ErrOver says that it is over, for the workstation or as a whole.
	ErrOver = fault.Conflict.Errorf("the delivery is over for this workstation")
)

// Member is one workstation of a delivery.
type Member struct {
	ID      int64
	Phase   Phase
	Outcome Outcome // once Ended
	Reason  string  // why it failed or was stopped
	Aside   string  // why it was set aside; empty if it was not
	Apart   bool    // set aside because no stream reaches it, and not for what it does
	Last    Report
	Seen    time.Time // of the last report
	Began   time.Time // when it joined the stream; zero if it never did
	Ended   time.Time

	speed      meter
	checking   time.Time // since when it checks
	checkSpeed float64   // bytes a second, once it has checked
	loss       lossMeter
	wasSilent  bool      // that is why it was set aside
	deafSince  time.Time // of a running stream it has heard nothing since
	fullSince  time.Time // its memory has been full since

	told         bool // it has said what it lacks
	lacking      *image.SlabSet
	has          *image.SlabSet // of these, those whose base is on its disk
	lackingRound int
	fetch        *image.SlabSet
	decided      int
}

func (m *Member) joined() bool { return m.Phase != Awaited && m.Phase != Ended }

// lacksMap reports that it cannot say what it needs, as it has no slab map.
func (m *Member) lacksMap() bool { return m.Last.LacksMap && !m.told }

// LossShare is the share of packets that it lost in the last seconds.
func (m Member) LossShare() float64 { return m.loss.share }

// Speed is how many bytes a second it gets on with.
func (m Member) Speed() float64 { return m.speed.speed }

// Options say how a delivery goes. The zero value waits for all.
type Options struct {
	Rule     Rule
	Ordered  time.Time // or, if that is later, the earliest time of the rule
	AtLatest time.Time // it starts with whoever is ready then; zero waits for the rule
	// GiveUp is when it ends if nobody is there at all; zero waits for ever.
	GiveUp time.Time
	// Resumed says that it was under way before: those who are awaited had begun.
	Resumed bool
	// Others is how many more may still take part that are not known yet to be here: the gather
	// rule counts them.
	Others int
	// Bytes is what a workstation has to read back; what claims to have done that
	// faster than memory is not believed. 0 believes everything.
	Bytes int64
	// Beside is how many bytes come beside the image, and are not read back.
	Beside int64
	Aside  AsideRule
	// Every has all that a workstation with nothing on its disk needs, by the numbers of
	// parcel.Cargo.
	Every *image.SlabSet
}

// Note is something that happened, for the delivery's record.
type Note struct {
	At          time.Time
	Workstation int64 // 0 if it is about all
	Text        string
}

// Delivery is the state of one delivery. It is not safe for use by several
// goroutines.
type Delivery struct {
	options Options
	aside   AsideRule
	every   *image.SlabSet
	state   State
	paused  bool
	members []*Member
	byID    map[int64]*Member
	ended   []Member // since the last Advance
	notes   []Note   // since the last Advance

	mapGoes      bool      // the slab map is being sent to all
	mapEnded     time.Time // when that ended; zero if it was not sent
	rounds       int       // of the stream that have ended
	streaming    bool
	roundEnd     time.Time
	stream       meter
	sent, toSend int64 // bytes of this round
	pace         float64
	pacedAt      time.Time
	unheard      bool // the network carries no multicast
}

// New begins a delivery to the workstations with these numbers.
func New(o Options, ids []int64) *Delivery {
	d := &Delivery{options: o, aside: o.Aside, every: o.Every, state: Gathering, pace: 1}
	d.aside.setDefaults()
	if d.every == nil {
		d.every = &image.SlabSet{}
	}
	d.Add(ids)
	return d
}

// Add takes more workstations in. They get what has gone out already in mending.
func (d *Delivery) Add(ids []int64) {
	if d.byID == nil {
		d.byID = map[int64]*Member{}
	}
	for _, id := range ids {
		if d.byID[id] == nil {
			m := &Member{ID: id, Phase: Awaited}
			d.members, d.byID[id] = append(d.members, m), m
		}
	}
}

// Leave takes a workstation out that another process serves from now on. It gets no receipt here.
func (d *Delivery) Leave(id int64) {
	delete(d.byID, id)
	d.members = slices.DeleteFunc(d.members, func(m *Member) bool { return m.ID == id })
}

// SetOthers sets Options.Others.
func (d *Delivery) SetOthers(n int) { d.options.Others = n }

func (d *Delivery) member(id int64) *Member { return d.byID[id] }

func (d *Delivery) note(now time.Time, workstation int64, format string, args ...any) {
	d.notes = append(d.notes, Note{now, workstation, fmt.Sprintf(format, args...)})
}

// State tells how far it is.
func (d *Delivery) State() State { return d.state }

// Paused tells whether the stream is held.
func (d *Delivery) Paused() bool { return d.paused }

// Unheard tells that nobody hears the multicast, and all is sent by unicast.
func (d *Delivery) Unheard() bool { return d.unheard }

// Members returns a copy of what is known of each workstation.
func (d *Delivery) Members() []Member {
	all := make([]Member, len(d.members))
	for i, m := range d.members {
		all[i] = *m
	}
	return all
}

// Member returns a copy of what is known of one workstation.
func (d *Delivery) Member(id int64) (Member, bool) {
	m := d.byID[id]
	if m == nil {
		return Member{}, false
	}
	return *m, true
}

// MemberLeft is how long one workstation will still take.
func (d *Delivery) MemberLeft(id int64) (time.Duration, bool) {
	m := d.member(id)
	if m == nil || d.paused && m.Aside == "" {
		return 0, false
	}
	return d.memberLeft(m)
}

// Aside tells why a workstation was set aside; empty if it was not.
func (d *Delivery) Aside(id int64) string {
	if m := d.member(id); m != nil {
		return m.Aside
	}
	return ""
}

// Phase tells how far a workstation is; it is empty for one that does not take part.
func (d *Delivery) Phase(id int64) Phase {
	if m := d.member(id); m != nil {
		return m.Phase
	}
	return ""
}

// Sent says how many bytes of a round have gone out, of how many; those of the slab map
// say nothing of how long the image takes.
func (d *Delivery) Sent(now time.Time, sent, of int64) {
	if d.mapGoes {
		return
	}
	d.sent, d.toSend = sent, of
	d.stream.count(now, sent)
}

// Pause holds the stream; Resume lets it go on.
func (d *Delivery) Pause(now time.Time) { d.paused = true }

// Resume ends a pause.
func (d *Delivery) Resume(now time.Time) {
	d.paused = false
	d.stream.rest(now)
	for _, m := range d.members {
		m.speed.rest(now)
		m.deafSince = time.Time{}
	}
}

// Stop ends the delivery for everyone who is not through.
func (d *Delivery) Stop(now time.Time, reason string) {
	if d.state.Over() {
		return
	}
	for _, m := range d.members {
		if m.Phase != Ended {
			d.end(now, m, WasStopped, reason)
		}
	}
	d.state = Stopped
}

func (d *Delivery) end(now time.Time, m *Member, o Outcome, reason string) {
	if o == Delivered && reason != "" {
		reason = "served alone: " + reason
	}
	m.Phase, m.Outcome, m.Reason, m.Ended = Ended, o, reason, now
	d.ended = append(d.ended, *m)
}

// Step is what follows from what was reported.
type Step struct {
	// Map says that the slab map has to be sent to all first; RoundEnded has to follow,
	// unless a Stream comes before.
	Map bool
	// Stream, if set, begins a round of the stream with these slabs; RoundEnded
	// has to follow.
	Stream *image.SlabSet
	// ByDelta are those of Stream that go out as what differs from the version before.
	ByDelta *image.SlabSet
	// EndStream says that nobody listens any more.
	EndStream bool
	Pace      float64  // share of the ordered rate that the group can follow
	Ended     []Member // each of these needs its receipt now
	Aside     []Member // these were set aside
	Notes     []Note   // for the record
}

// Advance draws the conclusions at time now.
func (d *Delivery) Advance(now time.Time) Step {
	var step Step
	if !d.state.Over() {
		d.giveUpSilent(now)
		step.Aside = d.judge(now)
	}
	if d.state == Gathering {
		d.giveUpAbsent(now)
	}
	if d.state == Gathering && d.gathered(now) {
		d.state = Sending
		for _, m := range d.members {
			if m.joined() {
				m.Began = now
				d.mapGoes = d.mapGoes || m.Aside == "" && m.lacksMap()
			}
		}
		step.Map = d.mapGoes
	}
	if d.state == Sending && !d.streaming && d.haveSaid(now) {
		d.mapGoes, d.streaming = false, true
		step.Stream = d.firstRound()
	}
	if again := d.mend(now); again != nil {
		step.Stream = again
	}
	if step.Stream != nil {
		step.ByDelta = d.byDelta(step.Stream)
	}
	if (d.streaming || d.mapGoes) && len(d.inGroup()) == 0 && d.anyJoined() {
		step.EndStream = true
		if d.allDeaf() && !d.unheard {
			d.unheard = true
			d.note(now, 0, "the network carries no multicast to these workstations; all are served by unicast")
		}
	}
	if !d.state.Over() && d.nobodyLeft() {
		for _, m := range d.members {
			if m.Phase == Awaited {
				if d.options.Resumed {
					d.end(now, m, Failed, "it did not come back after a restart of the service before the others were done")
				} else {
					d.end(now, m, Absent, "it did not call in before the others were done")
				}
			}
		}
		d.state = Finished
		step.Map, step.Stream = false, nil
	}
	step.Pace = d.pace
	step.Ended, d.ended = d.ended, nil
	step.Notes, d.notes = d.notes, nil
	return step
}

func (d *Delivery) anyJoined() bool { return slices.ContainsFunc(d.members, (*Member).joined) }

// allDeaf reports that there are workstations, and none has heard a packet.
func (d *Delivery) allDeaf() bool {
	for _, m := range d.members {
		if m.joined() && m.Last.Packets > 0 {
			return false
		}
	}
	return d.sent > 0 && d.anyJoined()
}

// giveUpSilent ends workstations that stopped reporting, or awaits them again
// while there is nothing they could miss.
func (d *Delivery) giveUpSilent(now time.Time) {
	for _, m := range d.members {
		silent := now.Sub(m.Seen)
		switch {
		case !m.joined():
		case d.state == Gathering && silent >= gatherSilence:
			m.Phase, m.told = Awaited, false
		case silent >= Silence:
			d.end(now, m, Failed, fmt.Sprintf("silent for %d s", int(silent.Seconds())))
		}
	}
}

// giveUpAbsent ends what nobody comes for.
func (d *Delivery) giveUpAbsent(now time.Time) {
	if d.options.GiveUp.IsZero() || d.anyJoined() || now.Before(d.options.GiveUp) {
		return
	}
	for _, m := range d.members {
		switch {
		case m.Phase != Awaited:
		case d.options.Resumed:
			d.end(now, m, Failed, "it did not come back after a restart of the service")
		default:
			d.end(now, m, Absent, fmt.Sprintf("it did not call in within %.0f h", d.options.GiveUp.Sub(d.options.Ordered).Hours()))
		}
	}
}

// Starts is when it starts at the latest, with whoever is ready then; zero if it waits
// for its rule alone.
func (d *Delivery) Starts() time.Time { return d.options.AtLatest }

// gathered applies the rule to those who can still take part.
func (d *Delivery) gathered(now time.Time) bool {
	ready, possible := 0, d.options.Others
	for _, m := range d.members {
		if m.Phase != Ended {
			possible++
		}
		if m.joined() {
			ready++
		}
	}
	if at := d.options.AtLatest; !at.IsZero() && ready > 0 && !now.Before(at) {
		return true
	}
	return d.options.Rule.met(now, ready, possible)
}

// nobodyLeft is true when nobody takes part any more and, while gathering,
// nobody can.
func (d *Delivery) nobodyLeft() bool {
	for _, m := range d.members {
		if m.joined() || (d.state == Gathering && m.Phase == Awaited) {
			return false
		}
	}
	return true
}

// Deadline is when Advance has to be called at the latest; zero if only reports
// can change anything.
func (d *Delivery) Deadline(now time.Time) time.Time {
	var at time.Time
	sooner := func(t time.Time) {
		if t.After(now) && (at.IsZero() || t.Before(at)) {
			at = t
		}
	}
	for _, m := range d.members {
		if m.joined() {
			sooner(m.Seen.Add(Silence))
			if d.state == Gathering {
				sooner(m.Seen.Add(gatherSilence))
			}
			if d.state == Sending && m.Aside == "" {
				sooner(m.Seen.Add(d.aside.Silence))
			}
		}
	}
	switch d.state {
	case Sending:
		if !d.streaming && !d.mapEnded.IsZero() {
			sooner(d.mapEnded.Add(lackingWait))
		}
	case Gathering:
		sooner(d.options.Rule.next(now))
		sooner(d.options.AtLatest)
		sooner(d.options.GiveUp)
	case Mending:
		if !d.streaming {
			sooner(d.roundEnd.Add(lackingWait))
		}
	}
	return at
}
