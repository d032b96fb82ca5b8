package norm

import (
	"math"
	"math/rand/v2"
	"time"
)

// backoff draws a receiver's NACK timer: a truncated exponential distribution up
// to longest, of which the early part is thinly used, so that in a group of this
// size few speak before the first one was heard (RFC 5401, section 3.2.3.1).
func backoff(dice *rand.Rand, longest time.Duration, groupSize int) time.Duration {
	lambda := math.Log(float64(max(groupSize, 1))) + 1
	x := dice.Float64()*(math.Exp(lambda)-1) + 1
	return time.Duration(float64(longest) / lambda * math.Log(x))
}
