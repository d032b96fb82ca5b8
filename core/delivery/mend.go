package delivery

import (
	"slices"
	"time"

	"jugate/core/image"
)

const (
	// maxRounds is how often slabs are sent by multicast at the most; what is
	// lacking after that comes by unicast.
	maxRounds = 4
	// lackingWait is how long after a round one waits for those who have not said
	// yet what they lack.
	lackingWait = 5 * time.Second
)

// Lacking takes what a workstation lacks after a round of the stream; before the
// first, 0, what it needs at all. Errors are ErrNotMember and ErrOver.
// has tells of which of these it has what lay at their place in the version before; nil for none.
func (d *Delivery) Lacking(now time.Time, id int64, round int, set, has *image.SlabSet) error {
	m := d.member(id)
	switch {
	case m == nil:
		return ErrNotMember
	case m.Phase == Ended:
		return ErrOver
	}
	if has == nil {
		has = &image.SlabSet{}
	}
	m.Seen = now
	m.lacking, m.has, m.lackingRound, m.told, m.fetch = set, has, round, true, nil
	return nil
}

// Fetch is what a workstation is to fetch by unicast, nil until that is decided,
// and after which round it was. One that was set aside fetches everything it lacks
// without being told.
func (d *Delivery) Fetch(id int64) (set *image.SlabSet, decided int) {
	m := d.member(id)
	if m == nil {
		return nil, 0
	}
	return m.fetch, m.decided
}

// RoundEnded says that everything of a round, or of the slab map, was sent.
func (d *Delivery) RoundEnded(now time.Time) {
	if d.mapGoes {
		d.mapGoes, d.mapEnded = false, now
		return
	}
	if d.state == Sending {
		d.state = Mending
	}
	d.rounds++
	d.streaming = false
	d.roundEnd = now
}

// Rounds is how many rounds of the stream have ended.
func (d *Delivery) Rounds() int { return d.rounds }

// FetchMap reports that the slab map was sent, or is not going to be: who lacks it fetches
// it by unicast.
func (d *Delivery) FetchMap() bool { return d.state != Gathering && !d.mapGoes }

// haveSaid reports that the first round need not wait any longer: everybody who takes the
// stream has said what it needs, or has had time to since the slab map was sent.
func (d *Delivery) haveSaid(now time.Time) bool {
	if !d.mapGoes && (d.mapEnded.IsZero() || now.Sub(d.mapEnded) >= lackingWait) {
		return true
	}
	return !slices.ContainsFunc(d.inGroup(), (*Member).lacksMap)
}

// firstRound is the union of what those of the group need that are ready.
func (d *Delivery) firstRound() *image.SlabSet {
	union := &image.SlabSet{}
	for _, m := range d.members {
		if !m.joined() || m.Aside != "" {
			continue
		}
		if !m.told {
			return d.every
		}
		union.Union(m.lacking)
	}
	return union
}

// byDelta are those slabs of a round that everybody who lacks them can make of what is on its
// disk already.
func (d *Delivery) byDelta(round *image.SlabSet) *image.SlabSet {
	can := round.Clone()
	for _, m := range d.inGroup() {
		switch {
		case m.Phase == Checking:
		case !m.told:
			return &image.SlabSet{}
		default:
			can = can.Without(m.lacking.Without(m.has))
		}
	}
	return can
}

// mend decides, once all have said what they lack, what is sent again to all: what
// two or more lack. The rest is fetched by unicast.
func (d *Delivery) mend(now time.Time) (again *image.SlabSet) {
	if d.state != Mending || d.streaming || d.paused {
		return nil
	}
	var sets []*image.SlabSet
	var asking []*Member
	for _, m := range d.members {
		if !m.joined() || m.Aside != "" || m.Phase == Checking || m.decided == d.rounds && m.fetch != nil {
			continue
		}
		if !m.told || m.lackingRound < d.rounds {
			if now.Sub(d.roundEnd) < lackingWait {
				return nil
			}
			continue
		}
		asking = append(asking, m)
		sets = append(sets, m.lacking)
	}
	if len(asking) == 0 {
		return nil
	}
	again = &image.SlabSet{}
	if d.rounds < maxRounds {
		again = image.InTwo(sets)
	}
	for _, m := range asking {
		m.fetch, m.decided = m.lacking.Without(again), d.rounds
	}
	if again.Len() == 0 {
		return nil
	}
	d.streaming = true
	d.note(now, 0, "sending again %d slabs that several lack", again.Len())
	return again
}
