package norm

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// paced sends for some seconds with a sender that is woken late now and then, and tells how many
// bytes went out, and how many of them in the busiest 50 ms.
func paced(b bucket, now time.Time, seconds float64, late func() time.Duration) (sent, busiest float64) {
	end := now.Add(time.Duration(seconds * float64(time.Second)))
	from, window := now, 0.0
	for now.Before(end) {
		for b.refill(now); b.open(); b.take(1514) {
			sent += 1514
			window += 1514
		}
		if now.Sub(from) > 50*time.Millisecond {
			from, window = now, 0
		}
		busiest = max(busiest, window)
		now = b.opens(now).Add(late())
	}
	return sent, busiest
}

func TestALateSenderCatchesUp(t *testing.T) {
	const rate = 100e6
	dice := rand.New(rand.NewPCG(1, 2))
	for name, late := range map[string]func() time.Duration{
		"in time":                       func() time.Duration { return 0 },
		"a little late all the time":    func() time.Duration { return time.Duration(dice.IntN(3000)) * time.Microsecond },
		"30 ms late at every 20th time": func() time.Duration { return time.Duration(max(0, dice.IntN(20)-18)) * 30 * time.Millisecond },
		"100 ms late now and then":      func() time.Duration { return time.Duration(max(0, dice.IntN(100)-98)) * 100 * time.Millisecond },
	} {
		t.Run(name, func(t *testing.T) {
			now := time.Unix(0, 0)
			sent, busiest := paced(newBucket(rate, 1514, now), now, 20, late)
			assert.InDelta(t, 1, sent/(rate/8*20), 0.015)
			assert.LessOrEqual(t, busiest, rate/8*(0.05*(1+makeUp)+0.016+0.1), "it does not flood")
		})
	}
}

func TestASenderThatWasAwayForLongDoesNotFlood(t *testing.T) {
	now := time.Unix(0, 0)
	away := true
	sent, _ := paced(newBucket(100e6, 1514, now), now, 20, func() time.Duration {
		defer func() { away = false }()
		if away {
			return 10 * time.Second
		}
		return 0
	})
	assert.InDelta(t, (10+arrearsAtMost)*100e6/8, sent, 0.02*20*100e6/8)
}

// One that has nothing to send misses nothing.
func TestAnIdleSenderSavesNothingUp(t *testing.T) {
	now := time.Unix(0, 0)
	b := newBucket(100e6, 1514, now)
	for range 1000 {
		now = now.Add(10 * time.Millisecond)
		b.refill(now)
		b.open()
	}
	assert.LessOrEqual(t, b.tokens, b.depth())
	assert.LessOrEqual(t, b.arrears, b.depth())
}
