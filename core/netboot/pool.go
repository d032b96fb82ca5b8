package netboot

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"jugate/core/hwaddr"
)

// PoolConfig is a range of addresses of one subnet, both ends included.
type PoolConfig struct {
	Prefix   netip.Prefix
	From, To netip.Addr
	Router   netip.Addr
	DNS      []netip.Addr
	Lease    time.Duration
}

// maxPool bounds the addresses of one pool.
const maxPool = 1 << 16

// Lease is an address that somebody has, or had: the pool remembers, so that a
// machine gets the same address again.
type Lease struct {
	Address  netip.Addr
	Hardware hwaddr.Address // zero for an address that somebody else uses
	Until    time.Time
}

// Errors of a pool.
var (
	ErrPoolFull = errors.New("all addresses of the pool are in use")
	ErrNotOurs  = errors.New("the address is not one that this pool gives to this machine")
)

const (
	// offerFor is how long an offered address is kept back.
	offerFor = time.Minute
	// takenFor is how long an address that somebody else uses is left alone.
	takenFor = 10 * time.Minute
)

// Pool gives addresses. Whoever has had one gets it again; one that was never given
// goes out before one that somebody had. A pool is not safe for use by several
// goroutines.
type Pool struct {
	c       PoolConfig
	leases  map[netip.Addr]Lease
	offered map[netip.Addr]Lease
	fixed   map[netip.Addr][]hwaddr.Address
}

// NewPool makes a pool with the leases that it gave before. fixed are addresses that
// belong to machines by the roster, inside the range or not.
func NewPool(c PoolConfig, leases []Lease, fixed map[netip.Addr][]hwaddr.Address) (*Pool, error) {
	c.Prefix = c.Prefix.Masked()
	if !c.Prefix.Addr().Is4() || !c.Prefix.Contains(c.From) || !c.Prefix.Contains(c.To) || c.To.Less(c.From) {
		return nil, fmt.Errorf("%s to %s is no range of addresses in %s", c.From, c.To, c.Prefix)
	}
	if c.Lease == 0 {
		c.Lease = time.Hour
	}
	p := &Pool{c: c, leases: map[netip.Addr]Lease{}, offered: map[netip.Addr]Lease{}, fixed: fixed}
	for _, l := range leases {
		if c.Prefix.Contains(l.Address) {
			p.leases[l.Address] = l
		}
	}
	return p, nil
}

// Config returns what the pool was made of.
func (p *Pool) Config() PoolConfig { return p.c }

// Fix tells the pool which addresses belong to machines by the roster.
func (p *Pool) Fix(fixed map[netip.Addr][]hwaddr.Address) { p.fixed = fixed }

// Pick chooses an address to offer. wanted is what the machine asked for, if it did.
// probe says that it has to be asked first whether somebody uses it already. Errors
// are ErrPoolFull.
func (p *Pool) Pick(now time.Time, hw hwaddr.Address, wanted netip.Addr) (a netip.Addr, probe bool, err error) {
	for a, owner := range p.fixed {
		if slices.Contains(owner, hw) && p.c.Prefix.Contains(a) {
			return a, false, nil
		}
	}
	for _, m := range []map[netip.Addr]Lease{p.leases, p.offered} {
		for a, l := range m {
			if l.Hardware == hw && p.inRange(a) && p.free(now, a, hw) {
				return a, l.Until.Before(now), nil
			}
		}
	}
	if wanted.IsValid() && p.inRange(wanted) && p.free(now, wanted, hw) {
		return wanted, true, nil
	}
	var oldest netip.Addr
	for a, n := p.c.From, 0; p.inRange(a) && n < maxPool; a, n = a.Next(), n+1 {
		if !p.free(now, a, hw) {
			continue
		}
		l, had := p.leases[a]
		if !had {
			return a, true, nil
		}
		if !oldest.IsValid() || l.Until.Before(p.leases[oldest].Until) {
			oldest = a
		}
	}
	if oldest.IsValid() {
		return oldest, true, nil
	}
	return netip.Addr{}, false, fmt.Errorf("%w (%s to %s)", ErrPoolFull, p.c.From, p.c.To)
}

func (p *Pool) inRange(a netip.Addr) bool { return !a.Less(p.c.From) && !p.c.To.Less(a) }

// free tells whether hw may have an address now.
func (p *Pool) free(now time.Time, a netip.Addr, hw hwaddr.Address) bool {
	if owner, is := p.fixed[a]; is {
		return slices.Contains(owner, hw)
	}
	for _, m := range []map[netip.Addr]Lease{p.leases, p.offered} {
		if l, had := m[a]; had && (l.Hardware != hw || l.Hardware.IsZero()) && l.Until.After(now) {
			return false
		}
	}
	return true
}

// Offer keeps an address back for a machine.
func (p *Pool) Offer(now time.Time, hw hwaddr.Address, a netip.Addr) *Terms {
	for old, l := range p.offered {
		if l.Hardware == hw || l.Until.Before(now) {
			delete(p.offered, old)
		}
	}
	p.offered[a] = Lease{a, hw, now.Add(offerFor)}
	return p.terms(a)
}

// Bind gives an address. Errors wrap ErrNotOurs.
func (p *Pool) Bind(now time.Time, hw hwaddr.Address, a netip.Addr) (*Terms, Lease, error) {
	owner, isFixed := p.fixed[a]
	if !(isFixed && slices.Contains(owner, hw) && p.c.Prefix.Contains(a)) && !(p.inRange(a) && p.free(now, a, hw)) {
		return nil, Lease{}, fmt.Errorf("%w: %s", ErrNotOurs, a)
	}
	delete(p.offered, a)
	for old, l := range p.leases {
		if l.Hardware == hw && old != a {
			l.Until = now // it has another one now
			p.leases[old] = l
		}
	}
	l := Lease{a, hw, now.Add(p.c.Lease)}
	p.leases[a] = l
	return p.terms(a), l, nil
}

// Release takes an address back (RFC 2131, 4.3.4).
func (p *Pool) Release(now time.Time, hw hwaddr.Address, a netip.Addr) (Lease, bool) {
	l, had := p.leases[a]
	if !had || l.Hardware != hw {
		return l, false
	}
	l.Until = now
	p.leases[a] = l
	return l, true
}

// Taken leaves an address alone that somebody else uses: a probe or a machine says
// so (RFC 2131, 4.3.3).
func (p *Pool) Taken(now time.Time, a netip.Addr) Lease {
	l := Lease{Address: a, Until: now.Add(takenFor)}
	delete(p.offered, a)
	p.leases[a] = l
	return l
}

// Left is how many addresses nobody has now.
func (p *Pool) Left(now time.Time) (left, of int) {
	for a, n := p.c.From, 0; p.inRange(a) && n < maxPool; a, n = a.Next(), n+1 {
		of++
		if p.free(now, a, hwaddr.Address{}) {
			left++
		}
	}
	return left, of
}

func (p *Pool) terms(a netip.Addr) *Terms {
	return &Terms{Address: a, Prefix: p.c.Prefix, Router: p.c.Router, DNS: p.c.DNS, Lease: p.c.Lease}
}
