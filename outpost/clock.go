package outpost

import (
	"sync/atomic"
	"time"
)

// clock is the service's, as far as its answers tell: one that is wrong here decides nothing.
type clock struct {
	now   func() time.Time
	ahead atomic.Int64 // of the service's, in ns
}

// clockSlack is how far off the clock may be.
const clockSlack = 2 * time.Second

func (c *clock) Now() time.Time { return c.now().Add(-time.Duration(c.ahead.Load())) }

// saw takes what the service's clock shows.
func (c *clock) saw(service time.Time) {
	if service.IsZero() {
		return
	}
	if ahead := c.now().Sub(service); ahead.Abs() > clockSlack {
		c.ahead.Store(int64(ahead))
	} else {
		c.ahead.Store(0)
	}
}
