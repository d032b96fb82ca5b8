package norm

import (
	"time"

	"golang.org/x/time/rate"
)

// allowance bounds what one receiver can make a sender do: anybody can find out its node
// id and speak in its name. A receiver that loses a third of the packets stays well
// within it.
type allowance struct {
	nacks   int64         // that came
	words   *rate.Limiter // NACKs that it may send
	symbols *rate.Limiter // that it may ask for
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

// allowance is what a node has left. It gets half of what the stream carries, up to two
// seconds' worth.
func (s *Sender) allowance(now time.Time, n NodeID) *allowance {
	a := s.nodes[n]
	if a == nil && len(s.nodes) >= nodesAtMost {
		n = NodeAny
		a = s.nodes[n]
	}
	carries := s.bucket.rate / float64(8*s.packetSize()) // symbols a second
	limit, burst := rate.Limit(carries/2), int(max(carries, 2*255))
	if a == nil {
		a = &allowance{words: rate.NewLimiter(nacksPerSecond, nacksPerSecond), symbols: rate.NewLimiter(limit, burst)}
		s.nodes[n] = a
	}
	a.symbols.SetLimitAt(now, limit)
	a.symbols.SetBurstAt(now, burst)
	return a
}

// speak takes one NACK.
func (a *allowance) speak(now time.Time) bool {
	a.nacks++
	return a.words.AllowN(now, 1)
}
