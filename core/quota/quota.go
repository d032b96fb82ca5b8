// Package quota bounds how often something may be done within a time, for each of many
// who do it. What it remembers is bounded, too.
//
//	var tries quota.Quota[netip.Addr]
//	if !tries.Take(from, now, 30, time.Minute) { … too many … }
package quota

import (
	"sync"
	"time"

	"golang.org/x/time/rate"
)

// Quota is so much within a time for each of many; the zero value of K is somebody, too.
type Quota[K comparable] struct {
	mu   sync.Mutex
	each map[K]*rate.Limiter
}

// Take takes one of the n that k has within a time, and is false if none is left.
func (q *Quota[K]) Take(k K, now time.Time, n int, within time.Duration) bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	l := q.each[k]
	if l == nil {
		if q.each == nil {
			q.each = map[K]*rate.Limiter{}
		}
		for old, o := range q.each { // those that are whole again say nothing
			if len(q.each) < atMost {
				break
			}
			if o.TokensAt(now) >= float64(o.Burst()) {
				delete(q.each, old)
			}
		}
		if len(q.each) >= atMost {
			return false
		}
		l = rate.NewLimiter(rate.Limit(float64(n)/within.Seconds()), n)
		q.each[k] = l
	}
	return l.AllowN(now, 1)
}

// atMost bounds how many are remembered.
const atMost = 4096

// Left tells whether k could take one now.
func (q *Quota[K]) Left(k K, now time.Time) bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	l := q.each[k]
	return l == nil || l.TokensAt(now) >= 1
}
