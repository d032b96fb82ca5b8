package delivery

import (
	"cmp"
	"math"
	"slices"
	"time"
)

// meter smooths a speed, so that an estimate made with it does not jump: what
// happened ten seconds ago counts about a third.
type meter struct {
	at    time.Time
	done  int64
	speed float64 // bytes a second
	span  time.Duration
}

const meterTime = 10 * time.Second

// count takes how much is done in all; less than before begins anew.
func (m *meter) count(now time.Time, done int64) {
	if m.at.IsZero() || done < m.done {
		*m = meter{at: now, done: done, speed: m.speed}
		return
	}
	d := now.Sub(m.at)
	if d < 500*time.Millisecond {
		return
	}
	speed := float64(done-m.done) / d.Seconds()
	if m.span += d; m.span < meterTime {
		m.speed += (speed - m.speed) * float64(d) / float64(m.span) // the mean so far
	} else {
		m.speed += (speed - m.speed) * (1 - math.Exp(-d.Seconds()/meterTime.Seconds()))
	}
	m.at, m.done = now, done
}

// rest makes the meter forget the time of a pause.
func (m *meter) rest(now time.Time) {
	if !m.at.IsZero() {
		m.at = now
	}
}

// left is how long the rest takes; false if nothing can be said.
func (m *meter) left(rest int64) (time.Duration, bool) {
	if rest <= 0 {
		return 0, true
	}
	if m.speed < 1 {
		return 0, false
	}
	return time.Duration(min(float64(rest)/m.speed, 1e6) * float64(time.Second)), true
}

// TimeLeft is how long the workstations in the group will still take: those that
// were set aside do not count, so that one bad disk does not make the others look
// bad. known is false while nothing can be said.
func (d *Delivery) TimeLeft() (left time.Duration, known bool) {
	known = d.state == Sending || d.state == Mending
	any := false
	for _, m := range d.members {
		if m.joined() && m.Aside == "" {
			t, ok := d.memberLeft(m)
			left, known, any = max(left, t), known && ok, true
		}
	}
	return left, known && any && !d.paused
}

// memberLeft is how long one workstation will still take.
func (d *Delivery) memberLeft(m *Member) (time.Duration, bool) {
	var left time.Duration
	switch m.Phase {
	case Checking:
		return m.speed.left(m.Last.Total - m.Last.Done)
	case Receiving, Ready, PhaseMending:
		var ok bool
		rest := m.Last.Total - m.Last.Done
		if left, ok = m.speed.left(rest); m.Aside == "" && d.state == Sending {
			// The group goes at the pace of the stream, whoever had a bad second.
			left, ok = d.stream.left(d.toSend - d.sent)
			ok = ok && d.toSend > 0 // else it has not begun
		}
		if !ok {
			return 0, false
		}
	default:
		return 0, false
	}
	// The whole disk is read back then.
	if check := d.checkSpeed(m); check > 0 {
		left += time.Duration(float64(m.Last.Total) / check * float64(time.Second))
	}
	return left, true
}

// checkSpeed is how fast a workstation's disk may be read back: as fast as those
// that were, or as disks are written; 0 if nothing is known. In the group it is the
// middle one's that counts, so that a single bad one changes nothing for all.
func (d *Delivery) checkSpeed(m *Member) float64 {
	if m.Aside != "" {
		return m.Last.DiskSpeed
	}
	var read, written []float64
	for _, o := range d.members {
		if o.Aside != "" {
			continue
		}
		if o.checkSpeed > 0 {
			read = append(read, o.checkSpeed)
		}
		if o.Last.DiskSpeed > 0 {
			written = append(written, o.Last.DiskSpeed)
		}
	}
	return cmp.Or(middle(read), middle(written))
}

func middle(speeds []float64) float64 {
	if len(speeds) == 0 {
		return 0
	}
	slices.Sort(speeds)
	return speeds[len(speeds)/2]
}
