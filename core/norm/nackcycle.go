package norm

import (
	"time"
)

// nackCycle is the way from noticing a loss to having it repaired (section 5.3):
// wait a random time, in which others may ask for the same; ask; and then keep
// still until the sender can have answered.
type nackCycle struct {
	state cycleState
	timer time.Time
	heard map[blockID]int // what others have asked for meanwhile, in symbols
}

type cycleState uint8

const (
	resting cycleState = iota
	backingOff
	holdingOff
)

type blockID struct {
	object ObjectID
	block  uint32
}

// hurry brings a timer forward that was set for a longer round trip.
func (c *nackCycle) hurry(latest time.Time) {
	if c.state != resting && c.timer.After(latest) {
		c.timer = latest
	}
}

// Whole objects and blocks that others asked for.
const (
	wholeObject = 1<<32 - 1
	everySymbol = 1 << 16
	infoOnly    = 1<<32 - 2
)

// wanting begins a cycle if something is missing.
func (m *remote) wanting(now time.Time) {
	if m.cycle.state != resting || m.r.config.Silent || !m.needs() {
		return
	}
	m.cycle = nackCycle{state: backingOff, heard: map[blockID]int{},
		timer: now.Add(backoff(m.r.dice, time.Duration(m.k)*m.grtt, m.group))}
}

// keptAtMost is how often in a row a receiver keeps silent because others have asked
// for the same: if that was answered, it would not lack it any more.
const keptAtMost = 3

func (m *remote) nackTimer(now time.Time) {
	c := &m.cycle
	if c.state == resting || now.Before(c.timer) {
		return
	}
	switch c.state {
	case backingOff:
		if m.kept >= keptAtMost {
			clear(c.heard)
		}
		requests, suppressed := m.requests()
		if len(requests) == 0 && !suppressed {
			*c = nackCycle{}
			return
		}
		for _, r := range requests {
			n := nackMessage{feedback: m.feedback(now), Requests: r}
			n.CC = m.congestion()
			m.send(n.append(nil))
			m.r.stats.Nacks++
			m.kept = 0
		}
		if len(requests) == 0 {
			m.r.stats.Suppressed++
			m.kept++
		}
		c.state, c.timer = holdingOff, now.Add(time.Duration(m.k+2)*m.grtt)
	case holdingOff:
		*c = nackCycle{}
		m.wanting(now)
	}
}

// needs reports whether anything that was sent is missing.
func (m *remote) needs() bool {
	if m.low.Before(m.due.object) {
		return true
	}
	o := m.objects[m.due.object]
	if m.low != m.due.object || o != nil && o.over {
		return false
	}
	if o == nil || !o.known {
		return m.due.block > 0
	}
	return o.needs(m.due)
}

// nackSize bounds a NACK, in bytes of requests, and nackBurst how many are sent together: where a round trip takes long, a few hundred
// blocks that each lack a symbol would wait for many of them.
const (
	nackSize  = 1200
	nackBurst = 8
)

// requests lists what is missing, as far as a burst of messages goes, without what
// others have asked for.
func (m *remote) requests() (messages [][]request, suppressed bool) {
	q := requestBuilder{left: nackSize, more: nackBurst - 1}
	n := 0 // objects that were looked at
	for id := m.low; id.Before(m.due.object) || id == m.due.object; id++ {
		if n++; n > m.r.config.Window || q.full() {
			break
		}
		o := m.objects[id]
		switch {
		case o != nil && o.over:
		case o == nil || !o.known:
			if id == m.due.object && m.due.block == 0 {
				continue
			}
			if m.cycle.heard[blockID{id, wholeObject}] > 0 {
				suppressed = true
				continue
			}
			q.addRange(wantObject, position{Object: id}, position{Object: id})
		default:
			suppressed = o.requests(&q, m.due) || suppressed
		}
	}
	return q.messages(), suppressed
}

// addRange asks for everything from first to last, joined to the range before if
// that ends right there.
func (q *requestBuilder) addRange(l level, first, last position) bool {
	if n := len(q.requests); n > 0 && q.requests[n-1].Form == formRanges && q.requests[n-1].Level == l {
		end := &q.requests[n-1].Items[len(q.requests[n-1].Items)-1]
		if l == wantObject && end.Object+1 == first.Object || l == wantBlock && end.Object == first.Object && end.Block+1 == first.Block {
			*end = last
			return true
		}
	}
	return q.add(formRanges, l, first, last)
}

// overhear takes what another receiver has asked for.
func (m *remote) overhear(requests []request) {
	if m.cycle.state != backingOff {
		return
	}
	note := func(b blockID, n int) {
		if len(m.cycle.heard) < 1<<14 {
			m.cycle.heard[b] = max(m.cycle.heard[b], n)
		}
	}
	for _, r := range requests {
		step := 1
		if r.Form == formRanges {
			step = 2
		}
		counts := map[blockID]int{}
		for i := 0; i+step <= len(r.Items); i += step {
			first, last := r.Items[i], r.Items[i+step-1]
			switch {
			case r.Level&wantObject != 0:
				for id, n := first.Object, 0; n < m.r.config.Window; id, n = id+1, n+1 {
					note(blockID{id, wholeObject}, 1)
					if id == last.Object {
						break
					}
				}
			case r.Level&wantBlock != 0:
				for b := first.Block; b <= last.Block && b-first.Block < 1<<12; b++ {
					note(blockID{first.Object, b}, everySymbol)
				}
			case r.Level&wantSegment != 0 && r.Form == formErasures:
				counts[blockID{first.Object, first.Block}] += int(first.Symbol)
			case r.Level&wantSegment != 0 && first.Block == last.Block:
				counts[blockID{first.Object, first.Block}] += int(last.Symbol) - int(first.Symbol) + 1
			}
			if r.Level&wantInfo != 0 {
				note(blockID{first.Object, infoOnly}, 1)
			}
		}
		for b, n := range counts {
			note(b, n)
		}
	}
}
