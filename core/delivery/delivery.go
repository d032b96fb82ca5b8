// Package delivery decides how one image version gets to a set of workstations:
// when the stream starts, who takes part, who has ended how, and when all is
// over. It is pure: it takes the time and what was reported, and returns what to
// do. It has no sockets, no clock and no goroutines.
//
//	d := delivery.New(rule, workstations)
//	d.Report(now, id, delivery.Report{Phase: delivery.Ready})
//	step := d.Advance(now)
//	if step.StartStream { go … sender.Send(…); d.StreamEnded(…) }
//	for _, m := range step.Ended { … write m's receipt }
//
// Sender is what brings the bytes to the group.
package delivery

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
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

// Over reports whether nothing more will happen.
func (s State) Over() bool { return s == Finished || s == Stopped }

// Phase is what one workstation of a delivery is doing.
type Phase string

// The phases of a workstation.
const (
	Awaited   Phase = "awaited"   // it has not called in for this delivery
	Ready     Phase = "ready"     // its disk was checked, it waits for the stream
	Receiving Phase = "receiving" // it takes the stream
	Fetching  Phase = "mending"   // it fetches what it missed
	Checking  Phase = "checking"  // it reads its disk back
	Ended     Phase = "ended"
)

// Outcome is how it ended for one workstation.
type Outcome string

// The outcomes that a receipt can have.
const (
	Delivered  Outcome = "delivered" // the whole disk was checked after the write
	Failed     Outcome = "failed"
	WasStopped Outcome = "stopped"
	Absent     Outcome = "absent" // it never called in
)

// Silence is how long a workstation may report nothing before it is given up.
const Silence = 60 * time.Second

var (
	// ErrNotMember says that a workstation is not part of the delivery.
	ErrNotMember = errors.New("the workstation is not part of this delivery")
	// ErrOver says that it is over, for the workstation or as a whole.
	ErrOver = errors.New("the delivery is over for this workstation")
)

// Rule is the gather rule: the stream starts when so many workstations are ready.
type Rule struct {
	// Ready is that number; 0 means all.
	Ready int
}

// ParseRule reads "first", "all" or "ready:N".
func ParseRule(s string) (Rule, error) {
	switch number, isCount := strings.CutPrefix(s, "ready:"); {
	case s == "all" || s == "":
		return Rule{}, nil
	case s == "first":
		return Rule{Ready: 1}, nil
	case isCount:
		if n, err := strconv.Atoi(number); err == nil && n > 0 {
			return Rule{Ready: n}, nil
		}
	}
	return Rule{}, fmt.Errorf("%q is no gather rule (first, all, or ready:N with N of at least 1)", s)
}

// String gives what ParseRule reads.
func (r Rule) String() string {
	switch r.Ready {
	case 0:
		return "all"
	case 1:
		return "first"
	}
	return fmt.Sprintf("ready:%d", r.Ready)
}

// Report is what a workstation tells of itself. Counts are bytes and only grow.
type Report struct {
	Phase     Phase
	Done      int64 // of Total, in the phase
	Total     int64
	Multicast int64 // received from the stream and used
	Unicast   int64 // fetched to mend
	// Verified and Error come with Phase Ended: the whole disk was checked, or
	// why it was not.
	Verified bool
	Error    string
}

// Member is one workstation of a delivery.
type Member struct {
	ID      int64
	Phase   Phase
	Outcome Outcome // once Ended
	Reason  string  // why it failed or was stopped
	Last    Report
	Seen    time.Time // of the last report
	Began   time.Time // when it joined the stream; zero if it never did
	Ended   time.Time
}

func (m *Member) joined() bool { return m.Phase != Awaited && m.Phase != Ended }

// Delivery is the state of one delivery. It is not safe for use by several
// goroutines.
type Delivery struct {
	rule    Rule
	state   State
	members []*Member
	ended   []Member // since the last Advance
}

// New begins a delivery to the workstations with these numbers.
func New(rule Rule, ids []int64) *Delivery {
	d := &Delivery{rule: rule, state: Gathering}
	for _, id := range ids {
		d.members = append(d.members, &Member{ID: id, Phase: Awaited})
	}
	return d
}

// State tells how far it is.
func (d *Delivery) State() State { return d.state }

// Members returns a copy of what is known of each workstation.
func (d *Delivery) Members() []Member {
	all := make([]Member, len(d.members))
	for i, m := range d.members {
		all[i] = *m
	}
	return all
}

// Report takes what workstation id tells. Errors are ErrNotMember and ErrOver.
func (d *Delivery) Report(now time.Time, id int64, r Report) error {
	i := slices.IndexFunc(d.members, func(m *Member) bool { return m.ID == id })
	if i < 0 {
		return ErrNotMember
	}
	m := d.members[i]
	if m.Phase == Ended {
		return ErrOver
	}
	m.Seen, m.Last = now, r
	if d.state != Gathering && m.Began.IsZero() {
		m.Began = now
	}
	switch {
	case r.Phase != Ended:
		m.Phase = r.Phase
	case r.Verified && r.Error == "":
		d.end(now, m, Delivered, "")
	default:
		d.end(now, m, Failed, r.Error)
	}
	return nil
}

// StreamEnded says that everything was sent once.
func (d *Delivery) StreamEnded() {
	if d.state == Sending {
		d.state = Mending
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
	m.Phase, m.Outcome, m.Reason, m.Ended = Ended, o, reason, now
	d.ended = append(d.ended, *m)
}

// Step is what follows from what was reported.
type Step struct {
	StartStream bool     // the state went from gathering to sending
	Ended       []Member // each of these needs its receipt now
}

// Advance draws the conclusions at time now.
func (d *Delivery) Advance(now time.Time) Step {
	var step Step
	if !d.state.Over() {
		d.giveUpSilent(now)
	}
	if d.state == Gathering && d.gathered() {
		d.state = Sending
		step.StartStream = true
		for _, m := range d.members {
			if m.joined() {
				m.Began = now
			}
		}
	}
	if !d.state.Over() && d.nobodyLeft() {
		for _, m := range d.members {
			if m.Phase == Awaited {
				d.end(now, m, Absent, "it did not call in before the others were done")
			}
		}
		d.state = Finished
		step.StartStream = false
	}
	step.Ended, d.ended = d.ended, nil
	return step
}

// giveUpSilent ends workstations that stopped reporting, or awaits them again
// while there is nothing they could miss.
func (d *Delivery) giveUpSilent(now time.Time) {
	for _, m := range d.members {
		if silent := now.Sub(m.Seen); m.joined() && silent >= Silence {
			if d.state == Gathering {
				m.Phase = Awaited
			} else {
				d.end(now, m, Failed, fmt.Sprintf("silent for %d s", int(silent.Seconds())))
			}
		}
	}
}

// gathered applies the rule to those who can still take part.
func (d *Delivery) gathered() bool {
	ready, possible := 0, 0
	for _, m := range d.members {
		if m.Phase != Ended {
			possible++
		}
		if m.joined() {
			ready++
		}
	}
	need := d.rule.Ready
	if need == 0 || need > possible {
		need = possible
	}
	return ready > 0 && ready >= need
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
func (d *Delivery) Deadline() time.Time {
	var at time.Time
	for _, m := range d.members {
		if due := m.Seen.Add(Silence); m.joined() && (at.IsZero() || due.Before(at)) {
			at = due
		}
	}
	return at
}
