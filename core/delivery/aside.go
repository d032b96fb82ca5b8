package delivery

import (
	"cmp"
	"fmt"
	"slices"
	"time"
)

// AsideRule says when a workstation would hold the group back, and is taken out of
// the stream and served alone. Zero fields take the default.
type AsideRule struct {
	Never    bool          `json:"never,omitempty"`    // nobody is set aside
	Loss     float64       `json:"loss,omitempty"`     // loses more than this share of the packets: 0.1
	DiskLag  time.Duration `json:"disk_lag,omitempty"` // its memory has been full with what its disk has not written for this long: 4 s
	Silence  time.Duration `json:"silence,omitempty"`  // has reported nothing for this long: 20 s
	Deafness time.Duration `json:"deafness,omitempty"` // has heard no packet of a stream that runs for this long: 6 s
}

func (r *AsideRule) setDefaults() {
	r.Loss = cmp.Or(r.Loss, 0.1)
	r.DiskLag = cmp.Or(r.DiskLag, 4*time.Second)
	r.Silence = cmp.Or(r.Silence, 20*time.Second)
	r.Deafness = cmp.Or(r.Deafness, 6*time.Second)
}

// Thresholds of the pace and of setting aside.
const (
	backlogFull = 0.75 // of what a workstation can hold
	backlogLow  = 0.25
	lossSpan    = 3 * time.Second // over which a loss share is measured
	lossPackets = 300             // and the least packets for it
	paceStep    = 2 * time.Second
	paceSlower  = 0.8
	paceFaster  = 1.1
	paceLeast   = 0.02
)

// lossMeter is the loss share of the last few seconds.
type lossMeter struct {
	at            time.Time
	packets, lost int64
	share         float64
	known         bool
}

func (l *lossMeter) count(now time.Time, packets, lost int64) {
	if l.at.IsZero() || packets < l.packets || lost < l.lost {
		*l = lossMeter{at: now, packets: packets, lost: lost, share: l.share, known: l.known}
		return
	}
	p, m := packets-l.packets, lost-l.lost
	if now.Sub(l.at) < lossSpan || p+m < lossPackets {
		return
	}
	*l = lossMeter{at: now, packets: packets, lost: lost, share: float64(m) / float64(p+m), known: true}
}

// SetApart sets a workstation aside that no stream can reach, before anything is sent to it. The reason goes into its receipt.
func (d *Delivery) SetApart(now time.Time, id int64, reason string) {
	if m := d.member(id); m != nil && m.Aside == "" && m.Phase != Ended {
		m.Aside, m.Apart = reason, true
		d.note(now, id, "set aside: %s", reason)
	}
}

// judge sets aside who drags the group, and adapts the pace when the group as a
// whole cannot follow: then not a workstation is slow, but the stream too fast.
func (d *Delivery) judge(now time.Time) (aside []Member) {
	if d.state != Sending || d.paused {
		return nil
	}
	group := d.inGroup()
	full, low, lossy := 0, 0, 0
	for _, m := range group {
		if m.backlog() >= backlogFull {
			full++
		}
		if m.backlog() <= backlogLow {
			low++
		}
		if m.loss.known && m.loss.share > d.aside.Loss {
			lossy++
		}
	}
	crowd := func(n int) bool { return 2*n > len(group) }
	if now.Sub(d.pacedAt) >= paceStep {
		switch before := d.pace; {
		case crowd(full) || crowd(lossy):
			d.pace, d.pacedAt = max(d.pace*paceSlower, paceLeast), now
			if before == 1 {
				reason := "most workstations lose packets"
				if crowd(full) {
					reason = "the workstations' disks do not keep up"
				}
				d.note(now, 0, "slowed down: %s", reason)
			}
		case d.pace < 1 && low == len(group) && lossy == 0:
			d.pace, d.pacedAt = min(d.pace*paceFaster, 1), now
		}
	}
	if d.aside.Never {
		return nil
	}
	for _, m := range group {
		reason := ""
		switch silent := now.Sub(m.Seen); {
		case silent >= d.aside.Silence:
			m.wasSilent = true
			reason = fmt.Sprintf("silent for %d s", int(silent.Seconds()))
		case !m.deafSince.IsZero() && now.Sub(m.deafSince) >= d.aside.Deafness:
			reason = "hears nothing of the multicast"
		case m.loss.known && m.loss.share > d.aside.Loss && !crowd(lossy):
			reason = fmt.Sprintf("loses %.0f %% of packets", 100*m.loss.share)
		case !m.fullSince.IsZero() && now.Sub(m.fullSince) >= d.aside.DiskLag && !crowd(full):
			reason = fmt.Sprintf("its disk writes %s", speed(m.Last.DiskSpeed))
		}
		if reason != "" {
			m.Aside = reason
			d.note(now, m.ID, "set aside: %s", reason)
			aside = append(aside, *m)
		}
	}
	return aside
}

// inGroup are those that take the stream.
func (d *Delivery) inGroup() []*Member {
	return slices.DeleteFunc(slices.Clone(d.members), func(m *Member) bool { return !m.joined() || m.Aside != "" || m.Phase == Checking })
}

// backlog is how full a workstation's memory is, 0 to 1.
func (m *Member) backlog() float64 {
	if m.Last.BacklogLimit <= 0 {
		return 0
	}
	return float64(m.Last.Backlog) / float64(m.Last.BacklogLimit)
}

// speed is in words: "2 MB/s".
func speed(bytes float64) string {
	switch {
	case bytes >= 10e6:
		return fmt.Sprintf("%.0f MB/s", bytes/1e6)
	case bytes >= 1e6:
		return fmt.Sprintf("%.1f MB/s", bytes/1e6)
	}
	return fmt.Sprintf("%.0f kB/s", bytes/1e3)
}
