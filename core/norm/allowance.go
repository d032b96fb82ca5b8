package norm

import "time"

// What one receiver can make a sender do is bounded, as node ids are no secret: an
// allowance is what is left to it. A receiver that loses a third of the packets stays
// well within it.
type allowance struct {
	nacks   int64
	words   float64 // NACKs that it may send now
	symbols float64 // that it may ask for now
	perSec  float64 // symbols a second that it gets
	at      time.Time
}

const (
	// nacksPerSecond is more often than timers let a receiver speak.
	nacksPerSecond = 200
	// blocksAtMost is how many source blocks one NACK is taken for.
	blocksAtMost = 512
	// nodesAtMost bounds the nodes that are told apart; those beyond share one
	// allowance.
	nodesAtMost = 1 << 12
)

// allowance is what a node has left.
func (s *Sender) allowance(now time.Time, n NodeID) *allowance {
	a := s.nodes[n]
	if a == nil && len(s.nodes) >= nodesAtMost {
		n = NodeAny
		a = s.nodes[n]
	}
	perSec := s.bucket.rate / float64(8*s.packetSize())
	if a == nil {
		a = &allowance{words: nacksPerSecond, symbols: perSec, at: now}
		s.nodes[n] = a
	}
	a.perSec = perSec
	return a
}

// refill gives a node half of what the stream carries, up to a second's worth.
func (a *allowance) refill(now time.Time) {
	passed := max(now.Sub(a.at).Seconds(), 0)
	a.at = now
	a.words = min(a.words+passed*nacksPerSecond, nacksPerSecond)
	a.symbols = min(a.symbols+passed*a.perSec/2, max(a.perSec, 2*255))
}

// speak takes one NACK.
func (a *allowance) speak(now time.Time) bool {
	a.nacks++
	a.refill(now)
	if a.words < 1 {
		return false
	}
	a.words--
	return true
}

// take takes some symbols.
func (a *allowance) take(now time.Time, n int) bool {
	a.refill(now)
	if a.symbols < float64(n) {
		return false
	}
	a.symbols -= float64(n)
	return true
}
