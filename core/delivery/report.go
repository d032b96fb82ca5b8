package delivery

import (
	"fmt"
	"time"

	"jugate/core/image"
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
