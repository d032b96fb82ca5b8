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
// When the stream starts is in rule.go, what is sent again in mend.go, who is
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

// Report is what a workstation tells of itself. Counts are bytes and only grow,
// unless said otherwise.
type Report struct {
	Phase     Phase `json:"phase" enum:"ready,receiving,mending,checking,ended"`
	Done      int64 `json:"done"` // of Total, in the phase
	Total     int64 `json:"total"`
	Multicast int64 `json:"bytes_multicast"` // received from the stream and used
	Unicast   int64 `json:"bytes_unicast"`   // fetched to mend
	Repaired  int64 `json:"bytes_repaired" doc:"Of those by multicast, what was sent again"`
	Packets   int64 `json:"packets"`      // of the stream that came
	Lost      int64 `json:"packets_lost"` // and that did not
	// Backlog is what has come and is not on the disk yet, now; BacklogLimit is
	// what there is room for.
	Backlog      int64   `json:"backlog" doc:"Has come and is not on the disk yet, in bytes"`
	BacklogLimit int64   `json:"backlog_limit" doc:"What there is room for"`
	DiskSpeed    float64 `json:"disk_speed" doc:"Bytes a second that the disk takes"`
	// LacksMap says that it cannot tell yet which slabs it needs: it has not got the
	// slab map.
	LacksMap bool `json:"lacks_map,omitempty" doc:"It waits for the slab map, and cannot tell yet which slabs it needs"`
	// Verified and Error come with Phase Ended: the whole disk was checked, or
	// why it was not.
	Verified bool   `json:"verified" doc:"With ended: the whole disk was read back and is right"`
	Error    string `json:"error,omitempty" maxLength:"4000"`
}

// Directions are what a workstation is told when it reports.
type Directions struct {
	State State `json:"state" enum:"gathering,sending,mending,finished,stopped"`
	Over  bool  `json:"over"` // for this workstation, or as a whole
	// Run is another number each time the delivery is taken up; the agent then says anew what
	// it lacks.
	Run uint32 `json:"run"`
	// Round is how many rounds of the stream have ended. After each, the agent says what it
	// lacks.
	Round int `json:"round"`
	// Decided is the round after which Fetch was decided: what the agent is to fetch by
	// unicast. Whatever else it lacks comes in the next round.
	Decided int               `json:"decided"`
	Fetch   []image.SlabRange `json:"fetch,omitempty"`
	// FetchMap says that the slab map does not come by multicast, or not any more: an agent
	// that lacks it fetches it.
	FetchMap bool `json:"fetch_map,omitempty"`
	// ReportAfter is how many seconds the agent lets pass before it reports again, if
	// nothing happens: the more take part, the longer.
	ReportAfter float64 `json:"report_after,omitempty"`
	// Aside tells why this workstation is served alone; it leaves the stream and fetches
	// everything it lacks.
	Aside string `json:"aside,omitempty"`
}

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

// Leave takes a workstation out that is somebody else's to serve; there is no receipt.
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

// fastest is more bytes a second than any disk returns.
const fastest = 32 << 30

// believe holds a report against what the workstation has said before.
func (d *Delivery) believe(now time.Time, m *Member, r Report) error {
	if err := d.options.Possible(r); err != nil {
		return err
	}
	switch {
	case r.Phase != Ended || r.Error != "" || !r.Verified:
		return nil
	case m.Phase != Checking:
		return fmt.Errorf("%w: the disk is said to be right, and was not checked", ErrReport)
	case now.Sub(m.checking) < time.Duration(float64(d.options.Bytes)/fastest*float64(time.Second)):
		return fmt.Errorf("%w: %d bytes were checked in %v", ErrReport, d.options.Bytes, now.Sub(m.checking))
	}
	return nil
}

// Possible holds a report against what can be. Errors wrap ErrReport.
func (o Options) Possible(r Report) error {
	for _, n := range []int64{r.Done, r.Total, r.Multicast, r.Unicast, r.Repaired, r.Packets, r.Lost, r.Backlog, r.BacklogLimit} {
		if n < 0 {
			return fmt.Errorf("%w: it counts below nothing", ErrReport)
		}
	}
	most := (o.Bytes+o.Beside)*4 + 64<<20 // some slabs come more than once, none often
	switch {
	case o.Bytes > 0 && max(r.Multicast, r.Unicast) > most:
		return fmt.Errorf("%w: %d bytes have come of an image of %d", ErrReport, max(r.Multicast, r.Unicast), o.Bytes)
	case r.Done > r.Total:
		return fmt.Errorf("%w: %d bytes are done of %d", ErrReport, r.Done, r.Total)
	case !(r.DiskSpeed >= 0 && r.DiskSpeed < fastest):
		return fmt.Errorf("%w: a disk that takes %v bytes a second", ErrReport, r.DiskSpeed)
	}
	return nil
}

// Report takes what workstation id tells. Errors are ErrNotMember and ErrOver, or wrap
// ErrReport.
func (d *Delivery) Report(now time.Time, id int64, r Report) error {
	m := d.member(id)
	if m == nil {
		return ErrNotMember
	}
	if m.Phase == Ended {
		return ErrOver
	}
	if err := d.believe(now, m, r); err != nil {
		return err
	}
	if r.Phase == Checking && m.Phase != Checking {
		m.checking = now
	}
	if r.Phase != m.Phase {
		if m.Phase == Checking && r.Phase == Ended {
			m.checkSpeed = m.speed.speed
		}
		m.speed = meter{}
	}
	if m.wasSilent {
		m.Aside, m.wasSilent = "", false
		d.note(now, id, "is back")
	}
	m.Seen, m.Last = now, r
	m.speed.count(now, r.Done)
	m.loss.count(now, r.Packets, r.Lost)
	switch {
	case m.backlog() < backlogFull:
		m.fullSince = time.Time{}
	case m.fullSince.IsZero():
		m.fullSince = now
	}
	if !d.streaming || d.paused || r.Packets > 0 || d.sent == 0 {
		m.deafSince = time.Time{}
	} else if m.deafSince.IsZero() {
		m.deafSince = now
	}
	if d.state != Gathering && m.Began.IsZero() {
		m.Began = now
	}
	switch {
	case r.Phase != Ended:
		m.Phase = r.Phase
	case r.Verified && r.Error == "":
		d.end(now, m, Delivered, m.Aside)
	default:
		d.end(now, m, Failed, r.Error)
	}
	return nil
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
