package stream

import (
	"maps"
	"slices"
	"sync"
)

// rates shares the ceiling of the network interface, in bits a second, between the
// streams that use it; 0 is none.
type rates struct {
	mu      sync.Mutex
	streams map[*Runner]int64 // what each wants
}

// ceiling is what all streams together may take now, in bits a second; 0 is none.
func (s *Streams) ceiling() int64 {
	if s.Ceiling != nil {
		return s.Ceiling()
	}
	return s.Multicast.Ceiling
}

// want says what a stream wants, 0 when it ends, and tells all what they get.
func (r *rates) want(ceiling int64, stream *Runner, rate int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.streams == nil {
		r.streams = map[*Runner]int64{}
	}
	if rate > 0 {
		r.streams[stream] = rate
	} else {
		delete(r.streams, stream)
	}
	for s, n := range share(ceiling, r.streams) {
		s.setRate(n)
	}
}

// bounded is a rate that no stream exceeds, even before it gets its share.
func (r *rates) bounded(ceiling, rate int64) int64 {
	if ceiling > 0 {
		return min(rate, ceiling)
	}
	return rate
}

// share divides a ceiling evenly; what one does not need of its part goes to the others.
// Without a ceiling each gets what it wants.
func share[K comparable](ceiling int64, wants map[K]int64) map[K]int64 {
	got := map[K]int64{}
	left := slices.SortedFunc(maps.Keys(wants), func(a, b K) int { return int(min(max(wants[a]-wants[b], -1), 1)) })
	for i, k := range left {
		got[k] = wants[k]
		if ceiling > 0 {
			got[k] = min(wants[k], ceiling/int64(len(left)-i))
			ceiling = max(ceiling-got[k], 1)
		}
	}
	return got
}
