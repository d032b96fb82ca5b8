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

// backoffFor is K for a group: the fewer speak, the less there is to suppress by having them
// wait, and the sooner repairs go out (RFC 5401, section 4.1, leaves the choice to the sender).
func backoffFor(groupSize int) int {
	switch {
	case groupSize <= 16:
		return 1
	case groupSize <= 64:
		return 2
	}
	return DefaultBackoff
}
