package norm

import (
	"time"
)

// bucket paces a sender: it fills at the rate and every packet takes its bytes
// out. It may go below zero by one packet, and opens again when four milliseconds'
// worth is there, 32 packets at the most: every batch wakes every receiver. What it would have
// sent had it not been woken late is made up for, a quarter faster than the rate.
type bucket struct {
	rate    float64 // bits a second
	tokens  float64 // bytes
	arrears float64 // bytes that were missed
	packet  float64 // bytes of the largest packet
	at      time.Time
	shut    bool
}

const (
	// makeUp is how much faster than the rate what was missed is sent.
	makeUp = 0.25
	// arrearsAtMost is how much is made up for, in seconds of the rate: one that was away for
	// longer does not come back with a flood.
	arrearsAtMost = 2
)

func newBucket(rate float64, packet int, now time.Time) bucket {
	return bucket{rate: rate, packet: float64(packet), at: now}
}

// depth is how much may be saved up, in bytes: what is sent in 8 ms, so that a
// late wake-up costs no throughput.
func (b *bucket) depth() float64 { return max(8*b.packet, b.rate/8*0.016) }

// batch is how much opens it again.
func (b *bucket) batch() float64 { return min(max(b.packet, b.rate/8*0.004), 32*b.packet, b.depth()) }

func (b *bucket) set(rate float64, now time.Time) {
	b.refill(now)
	b.rate, b.arrears = max(rate, 1), 0
}

func (b *bucket) refill(now time.Time) {
	if d := now.Sub(b.at); d > 0 {
		gain := b.rate / 8 * d.Seconds()
		again := min(b.arrears, gain*makeUp)
		b.tokens += gain + again
		b.arrears -= again
		if over := b.tokens - b.depth(); over > 0 {
			b.tokens = b.depth()
			if b.shut { // it waited for that, and was woken late
				b.arrears = min(b.arrears+over, b.rate/8*arrearsAtMost)
			}
		}
	}
	b.at = now
}

func (b *bucket) take(bytes int) { b.tokens -= float64(bytes) }

// open reports whether a packet may go.
func (b *bucket) open() bool {
	if b.shut {
		b.shut = b.tokens < b.batch()
	} else {
		b.shut = b.tokens <= 0
	}
	return !b.shut
}

// opens is when it will be open.
func (b *bucket) opens(now time.Time) time.Time {
	need := b.batch() - b.tokens
	if !b.shut && b.tokens > 0 || need <= 0 {
		return now
	}
	return b.at.Add(seconds(need*8/b.rate) + 1)
}
