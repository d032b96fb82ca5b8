package norm

import (
	"math"
	"time"
)

// Congestion bounds what congestion control does to a rate, in bits a second.
type Congestion struct{ Floor, Ceiling float64 }

// tcpRate is the throughput in bytes a second of a TCP connection with packets of
// s bytes, a round trip rtt and a loss event rate p (RFC 5348, section 3.1).
func tcpRate(s int, rtt time.Duration, p float64) float64 {
	if p <= 0 {
		return math.Inf(1)
	}
	root := math.Sqrt(2 * p / 3)
	return float64(s) / (rtt.Seconds() * (root + 12*math.Sqrt(3*p/8)*p*(1+32*p*p)))
}

// tfmccSender adapts a sender's rate to the current limiting receiver, the one
// that could take the least (RFC 5740, section 5.5.2; RFC 4654).
type tfmccSender struct {
	floor, ceiling float64 // bits a second
	rate           float64
	start          bool // slow start: no receiver has lost anything yet
	clr            NodeID
	clrHeard       time.Time
	clrRate        float64
	known          map[NodeID]*ccReceiver
	grown          time.Time
}

// ccReceiver is what the sender knows of a receiver.
type ccReceiver struct {
	rtt   time.Duration
	rate  float64 // bits a second
	heard time.Time
}

const (
	maxCCReceivers = 1024
	// A limiting receiver that is silent for so many round trips is forgotten.
	clrSilence = 10
)

func newTFMCCSender(c Congestion, rate float64) *tfmccSender {
	return &tfmccSender{floor: c.Floor, ceiling: max(c.Ceiling, rate), rate: max(rate, c.Floor), start: true, known: map[NodeID]*ccReceiver{}}
}

// feedback takes what a receiver reports; it is true if the rate changed.
func (t *tfmccSender) feedback(now time.Time, n NodeID, c CC, rtt time.Duration, measured bool, grtt time.Duration, packet int) bool {
	r := t.known[n]
	if r == nil {
		if len(t.known) >= maxCCReceivers {
			return false
		}
		r = &ccReceiver{rtt: grtt}
		t.known[n] = r
	}
	r.heard = now
	if measured { // smoothed, as RFC 4654, section 2.6, does
		if r.rtt == grtt {
			r.rtt = rtt
		}
		r.rtt = (9*r.rtt + rtt) / 10
	}
	r.rate = 8 * UnquantizeRate(c.Rate)
	if c.Flags&ccRTT == 0 && c.Flags&ccStart == 0 {
		// The receiver does not know its round trip and took the group's.
		r.rate = min(r.rate*float64(grtt)/float64(max(r.rtt, time.Millisecond)), t.ceiling)
	}
	if c.Flags&ccLeave != 0 {
		delete(t.known, n)
		if t.clr == n {
			t.clr = NodeNone
		}
		return false
	}
	if t.clr == NodeNone || n == t.clr || r.rate < t.clrRate {
		t.clr, t.clrHeard, t.clrRate = n, now, r.rate
	}
	if n != t.clr {
		return false
	}
	before := t.rate
	switch {
	case c.Flags&ccStart != 0 && t.start:
		if now.Sub(t.grown) >= max(r.rtt, 10*time.Millisecond) {
			t.rate, t.grown = min(r.rate, 2*t.rate), now
		}
	case r.rate < t.rate:
		t.start = false
		t.rate = r.rate
	default:
		t.start = false
		// One packet for each round trip at the most (RFC 4654, section 2.2).
		if trips := float64(now.Sub(t.grown)) / float64(max(r.rtt, time.Millisecond)); trips >= 1 {
			step := 8 * float64(packet) / max(r.rtt, time.Millisecond).Seconds()
			t.rate, t.grown = min(r.rate, t.rate+step*min(trips, 10)), now
		}
	}
	t.bound()
	return t.rate != before
}

// tick looks for a limiting receiver that has gone; it is true if the rate changed.
func (t *tfmccSender) tick(now time.Time, grtt time.Duration, packet int) bool {
	if t.clr == NodeNone || now.Sub(t.clrHeard) < clrSilence*max(grtt, 50*time.Millisecond) {
		return false
	}
	delete(t.known, t.clr)
	t.clr = NodeNone
	for n, r := range t.known {
		if now.Sub(r.heard) > time.Minute {
			delete(t.known, n)
		} else if t.clr == NodeNone || r.rate < t.clrRate {
			t.clr, t.clrHeard, t.clrRate = n, now, r.rate
		}
	}
	before := t.rate
	t.rate /= 2 // nobody tells how much there is room for
	t.bound()
	return t.rate != before
}

func (t *tfmccSender) bound() { t.rate = min(max(t.rate, t.floor), t.ceiling) }

// nodes are those that are to answer at once, and what their round trips are.
func (t *tfmccSender) nodes() (list []ccNode) {
	entry := func(n NodeID, flags uint8) {
		if r := t.known[n]; r != nil {
			list = append(list, ccNode{Node: n, Flags: flags | ccRTT, RTT: QuantizeRTT(r.rtt), Rate: QuantizeRate(r.rate / 8)})
		}
	}
	entry(t.clr, ccCLR)
	// The others hear their round trip in turn; map order is turn enough.
	for n := range t.known {
		if len(list) >= 8 {
			break
		}
		if n != t.clr {
			entry(n, ccPLR)
		}
	}
	return list
}

// lossHistory is a receiver's loss event rate: the weighted mean of the last eight
// intervals between losses, those within one round trip counting as one (RFC
// 5348, section 5).
type lossHistory struct {
	intervals []float64 // packets, the current one first
	eventAt   time.Time

	windowAt    time.Time // of the receive rate
	windowBytes int
	rate        float64 // bytes a second
}

var lossWeights = [...]float64{1, 1, 1, 1, 0.8, 0.6, 0.4, 0.2}

// received counts a packet and the ones lost right before it.
func (h *lossHistory) received(now time.Time, lost, bytes int, rtt time.Duration) {
	if lost > 0 && now.Sub(h.eventAt) > rtt {
		h.eventAt = now
		if h.intervals == nil {
			h.intervals = []float64{0}
		}
		h.intervals = append([]float64{0}, h.intervals[:min(len(h.intervals), len(lossWeights))]...)
	}
	if h.intervals != nil {
		h.intervals[0] += float64(1 + lost)
	} else {
		h.intervals = []float64{float64(1 + lost)}
	}
	h.windowBytes += bytes
	if h.windowAt.IsZero() {
		h.windowAt = now
	}
	if d := now.Sub(h.windowAt); d >= max(2*rtt, 50*time.Millisecond) {
		h.rate = float64(h.windowBytes) / d.Seconds()
		h.windowAt, h.windowBytes = now, 0
	}
}

// eventRate is p; 0 before the first loss.
func (h *lossHistory) eventRate() float64 {
	if len(h.intervals) < 2 {
		return 0
	}
	mean := func(list []float64) float64 {
		sum, weight := 0.0, 0.0
		for i, v := range list[:min(len(list), len(lossWeights))] {
			sum += v * lossWeights[i]
			weight += lossWeights[i]
		}
		return sum / weight
	}
	return 1 / max(mean(h.intervals), mean(h.intervals[1:]), 1)
}
