package norm

import (
	"time"
)

// grtt is the sender's estimate of the greatest round trip to any receiver
// (section 5.1.1; RFC 5401, section 4.2.1): it rises fast, and sinks slowly, a
// step for each probe that was answered.
type grtt struct {
	value     time.Duration
	quantized uint8
	least     time.Duration
	measured  bool
	peak      time.Duration // of the answers to the last probe

	base     time.Time // of the times that go over the wire, which no clock jump moves
	at       time.Time // of the next probe
	interval time.Duration
	sequence uint16
	first    time.Time // no answer can be to a probe before
}

const (
	grttMax = 15 * time.Second
	// Probes begin often, for the first estimate, and become rarer: the larger the
	// group, the more answers there are.
	probeFirst     = 50 * time.Millisecond
	probeLast      = 250 * time.Millisecond
	probePerMember = 5 * time.Millisecond
)

func newGRTT(first time.Duration, now time.Time) grtt {
	g := grtt{base: now, at: now, first: now, interval: probeFirst, least: time.Millisecond}
	g.set(first)
	return g
}

func (g *grtt) set(d time.Duration) {
	g.quantized = QuantizeRTT(min(max(d, g.least), grttMax))
	g.value = UnquantizeRTT(g.quantized)
}

func (g *grtt) clamp() {
	if g.value < g.least {
		g.set(g.least)
	}
}

func (g *grtt) due(now time.Time) bool { return !now.Before(g.at) }

// clock is the time as it goes over the wire.
func (g *grtt) clock(now time.Time) time.Time { return g.base.Add(now.Sub(g.base)) }

// sent begins a new round of answers.
func (g *grtt) sent(now time.Time, interval, rarest time.Duration) {
	if g.peak > 0 {
		if !g.measured {
			g.set(g.peak)
		} else if g.peak < g.value {
			g.set(g.value - (g.value-g.peak)/3)
		}
		g.measured, g.peak = true, 0
	}
	if interval == 0 {
		interval = g.interval
		g.interval = min(g.interval*2, rarest)
	}
	g.sequence++
	g.at = now.Add(interval)
}

// response takes the time that a receiver sent back.
func (g *grtt) response(now, echoed time.Time) (rtt time.Duration, ok bool) {
	if echoed.IsZero() {
		return 0, false
	}
	rtt = g.clock(now).Sub(echoed)
	if rtt < -time.Millisecond || rtt > grttMax || echoed.Before(g.first.Add(-time.Millisecond)) {
		return 0, false // forged, or a clock that was set
	}
	rtt = max(rtt, time.Microsecond)
	g.peak = max(g.peak, rtt)
	if g.measured && rtt > g.value {
		// Half the way at once, so that one receiver's bad moment does not make all wait.
		g.set(g.value + (rtt-g.value)/2)
	}
	return rtt, true
}

// probe is NORM_CMD(CC).
func (s *Sender) probe(now time.Time, b []byte) []byte {
	interval := time.Duration(0)
	c := &cmdMessage{senderHead: s.head(), Flavor: cmdCC, SendTime: s.grtt.clock(now)}
	if s.tfmcc != nil {
		interval = max(s.grtt.value, 10*time.Millisecond)
		c.CCNodes = s.tfmcc.nodes()
		if s.tfmcc.tick(now, s.grtt.value, s.packetSize()) {
			s.setRate(s.tfmcc.rate, now)
		}
	}
	s.grtt.sent(now, interval, max(probeLast, time.Duration(s.config.GroupSize)*probePerMember))
	c.Sequence = s.grtt.sequence
	rate := QuantizeRate(s.bucket.rate / 8)
	c.Rate = &rate
	return c.append(b)
}
