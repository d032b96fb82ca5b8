package service

import (
	"context"
	"net"
	"net/http"
	"net/netip"
	"sync"
	"time"

	"jugate/core/fault"

	"golang.org/x/time/rate"
)

// What somebody without any right can make the service do has bounds: this file has
// them.

// peerKey is where notePeer puts the address of whoever asks.
type peerKey struct{}

func notePeer(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), peerKey{}, remote(r))))
	})
}

func remote(r *http.Request) netip.Addr {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return netip.Addr{}
	}
	a, _ := netip.ParseAddr(host)
	return a.Unmap()
}

// peer is the address of whoever asks.
func peer(ctx context.Context) netip.Addr {
	a, _ := ctx.Value(peerKey{}).(netip.Addr)
	return a
}

// networkOf is what counts as one network: what one neighbour can have addresses of.
func networkOf(a netip.Addr) netip.Prefix {
	bits := 24
	if a.Is6() {
		bits = 64
	}
	p, _ := a.Prefix(bits)
	return p
}

// quota is so much within a time for each of many; the zero value of K is somebody, too.
type quota[K comparable] struct {
	mu   sync.Mutex
	each map[K]*rate.Limiter
}

// quotasAtMost bounds how many are remembered.
const quotasAtMost = 4096

// take takes one of the n that k has within a time, and is false if none is left.
func (q *quota[K]) take(k K, now time.Time, n int, within time.Duration) bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	l := q.each[k]
	if l == nil {
		if q.each == nil {
			q.each = map[K]*rate.Limiter{}
		}
		for old, o := range q.each { // those that are whole again say nothing
			if len(q.each) < quotasAtMost {
				break
			}
			if o.TokensAt(now) >= float64(o.Burst()) {
				delete(q.each, old)
			}
		}
		if len(q.each) >= quotasAtMost {
			return false
		}
		l = rate.NewLimiter(rate.Limit(float64(n)/within.Seconds()), n)
		q.each[k] = l
	}
	return l.AllowN(now, 1)
}

// left tells whether k could take one now.
func (q *quota[K]) left(k K, now time.Time) bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	l := q.each[k]
	return l == nil || l.TokensAt(now) >= 1
}

const (
	// newcomersPerHour is how many machines that are not known may appear in one
	// network within an hour.
	newcomersPerHour = 500
	// newcomersKept is how many the records keep: those seen last.
	newcomersKept = 2000
	// newcomerDays is how long one is kept that is not seen again.
	newcomerDays = 30
)

// newcomers bounds how many there are.
type newcomers struct{ quota quota[netip.Prefix] }

func (n *newcomers) allow(from netip.Addr, now time.Time) error {
	if network := networkOf(from); !n.quota.take(network, now, newcomersPerHour, time.Hour) {
		return fault.TooMany.Errorf("%d machines that are not known have appeared in %s within an hour; no more are recorded for now", newcomersPerHour, network)
	}
	return nil
}

const (
	// wrongAtMost is how many wrong codes or tokens one workstation may try within
	// wrongWithin, and wrongFrom how many may come from one address.
	wrongAtMost = 10
	wrongFrom   = 30
	wrongWithin = time.Minute
)

// tries bounds how many wrong secrets somebody may try. Whoever is beyond that keeps
// nobody else out.
type tries struct {
	byWorkstation quota[int64]
	byAddress     quota[netip.Addr]
}

var errTooManyTries = fault.TooMany.Errorf("too many wrong codes or tokens from here; try again in a minute")

// may tells whether one may try; workstation is 0 where it is not one.
func (t *tries) may(now time.Time, workstation int64, from netip.Addr) bool {
	return (workstation == 0 || t.byWorkstation.left(workstation, now)) && t.byAddress.left(from, now)
}

// wrong counts one that was not right.
func (t *tries) wrong(now time.Time, workstation int64, from netip.Addr) {
	if workstation != 0 {
		t.byWorkstation.take(workstation, now, wrongAtMost, wrongWithin)
	}
	t.byAddress.take(from, now, wrongFrom, wrongWithin)
}
