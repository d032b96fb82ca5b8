package netboot

import (
	"errors"
	"fmt"
	"iter"
	"net/netip"
	"slices"
	"strconv"
	"strings"
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

// Holder is who has an address: RFC 2131, 4.2, tells clients apart by the client
// identifier, and by the hardware address where there is none.
type Holder struct {
	// Client is the client identifier of option 61 in hexadecimal; empty for a client
	// that sends none, or one that only repeats its hardware address.
	Client   string
	Hardware hwaddr.Address
}

// is compares holders as RFC 2131 does.
func (h Holder) is(o Holder) bool {
	if h.Client != "" || o.Client != "" {
		return h.Client == o.Client
	}
	return !h.Hardware.IsZero() && h.Hardware == o.Hardware
}

// Lease is an address that somebody has, or had: the pool remembers, so that a
// machine gets the same address again. One without a holder is an address that
// somebody else uses.
type Lease struct {
	Address netip.Addr
	Holder
	Until time.Time
}

// Errors of a pool.
var (
	ErrPoolFull = errors.New("all addresses of the pool are in use")
	ErrNotOurs  = errors.New("the address is not one that this pool gives to this machine")
)

const (
	// holdFor is how long an offered address is kept back.
	holdFor = time.Minute
	// takenFor is how long an address that somebody else uses is left alone.
	takenFor = 10 * time.Minute
)

// Pool gives addresses. Whoever has had one gets it again; one that was never given
// goes out before one that somebody had. The first and the last address of the subnet,
// the router's and those of the server itself are never given. A pool is not safe for
// use by several goroutines.
type Pool struct {
	c        PoolConfig
	leases   map[netip.Addr]Lease
	held     map[netip.Addr]Lease
	fixed    map[netip.Addr][]hwaddr.Address
	reserved map[netip.Addr]bool
	relay    netip.Addr // of the relay agent that was heard last; one, as anybody can claim to be one
}

// NewPool makes a pool with the leases that it gave before. fixed are addresses that
// belong to machines by the roster, inside the range or not.
func NewPool(c PoolConfig, leases []Lease, fixed map[netip.Addr][]hwaddr.Address) (*Pool, error) {
	c.Prefix = c.Prefix.Masked()
	if !c.Prefix.Addr().Is4() || !c.Prefix.Contains(c.From) || !c.Prefix.Contains(c.To) || c.To.Less(c.From) {
		return nil, fmt.Errorf("%s to %s is not a range of addresses in %s", c.From, c.To, c.Prefix)
	}
	if c.Lease == 0 {
		c.Lease = time.Hour
	}
	p := &Pool{c: c, leases: map[netip.Addr]Lease{}, held: map[netip.Addr]Lease{}, fixed: fixed, reserved: map[netip.Addr]bool{}}
	p.Reserve(c.Router)
	if c.Prefix.Bits() < 31 { // RFC 3021: a link of two has neither
		p.Reserve(c.Prefix.Addr())
		p.Reserve(lastOf(c.Prefix))
	}
	for _, l := range leases {
		if c.Prefix.Contains(l.Address) {
			p.leases[l.Address] = l
		}
	}
	return p, nil
}

// lastOf is the address that stands for everybody in a subnet.
func lastOf(p netip.Prefix) netip.Addr {
	b := p.Masked().Addr().As4()
	for i := p.Bits(); i < 32; i++ {
		b[i/8] |= 0x80 >> (i % 8)
	}
	return netip.AddrFrom4(b)
}

// Reserve keeps an address from ever being given: this server has it, or the router.
func (p *Pool) Reserve(a netip.Addr) {
	if a.IsValid() {
		p.reserved[a] = true
	}
}

// Config returns what the pool was made of.
func (p *Pool) Config() PoolConfig { return p.c }

// Fix tells the pool which addresses belong to machines by the roster.
func (p *Pool) Fix(fixed map[netip.Addr][]hwaddr.Address) { p.fixed = fixed }

// MayFix says whether an address can belong to a workstation: it lies in the pool's
// subnet and is neither reserved nor one of those that stand for all.
func (p *Pool) MayFix(a netip.Addr) error {
	switch {
	case !p.c.Prefix.Contains(a):
		return fmt.Errorf("%s is not in %s", a, p.c.Prefix)
	case p.reserved[a] || a == p.relay:
		return fmt.Errorf("%s is the address of the network, of its router, of this service or of a relay agent, or stands for all of %s", a, p.c.Prefix)
	}
	return nil
}

// fixedFor is the address that belongs to a machine by the roster.
func (p *Pool) fixedFor(hw hwaddr.Address) (netip.Addr, bool) {
	for a, owner := range p.fixed {
		if slices.Contains(owner, hw) && p.MayFix(a) == nil {
			return a, true
		}
	}
	return netip.Addr{}, false
}

// latest is the address that a client had last, of those that it may have now.
func (p *Pool) latest(now time.Time, h Holder) (last Lease, had bool) {
	for _, m := range []map[netip.Addr]Lease{p.leases, p.held} {
		for a, l := range m {
			if l.Holder.is(h) && p.inRange(a) && p.free(now, a, h) && (!had || l.Until.After(last.Until) || l.Until.Equal(last.Until) && a.Less(last.Address)) {
				last, had = l, true
			}
		}
	}
	return last, had
}

// Pick chooses an address to offer. wanted is what the machine asked for, if it did.
// probe says that it has to be asked first whether somebody uses it already. Errors
// are ErrPoolFull.
func (p *Pool) Pick(now time.Time, h Holder, wanted netip.Addr) (a netip.Addr, probe bool, err error) {
	if a, ok := p.fixedFor(h.Hardware); ok {
		return a, false, nil
	}
	if l, had := p.latest(now, h); had {
		return l.Address, l.Until.Before(now), nil
	}
	if wanted.IsValid() && p.inRange(wanted) && p.free(now, wanted, h) {
		return wanted, true, nil
	}
	var oldest netip.Addr
	for a := range p.addresses() {
		if !p.free(now, a, h) {
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

// addresses goes through those that may be given.
func (p *Pool) addresses() iter.Seq[netip.Addr] {
	return func(yield func(netip.Addr) bool) {
		for a, n := p.c.From, 0; a.IsValid() && p.inRange(a) && n < maxPool; a, n = a.Next(), n+1 {
			if !p.reserved[a] && !yield(a) {
				return
			}
		}
	}
}

func (p *Pool) inRange(a netip.Addr) bool { return !a.Less(p.c.From) && !p.c.To.Less(a) }

// free tells whether a client may have an address now.
func (p *Pool) free(now time.Time, a netip.Addr, h Holder) bool {
	if p.reserved[a] || a == p.relay {
		return false
	}
	if owner, is := p.fixed[a]; is {
		return slices.Contains(owner, h.Hardware)
	}
	for _, m := range []map[netip.Addr]Lease{p.leases, p.held} {
		if l, had := m[a]; had && !l.Holder.is(h) && l.Until.After(now) {
			return false
		}
	}
	return true
}

// Hold keeps an address back for a client.
func (p *Pool) Hold(now time.Time, h Holder, a netip.Addr) *Terms {
	for old, l := range p.held {
		if l.Holder.is(h) || l.Until.Before(now) {
			delete(p.held, old)
		}
	}
	p.held[a] = Lease{a, h, now.Add(holdFor)}
	return p.terms(a)
}

// Forget takes the offers to a client back: it has taken another server's.
func (p *Pool) Forget(h Holder) {
	for a, l := range p.held {
		if l.Holder.is(h) {
			delete(p.held, a)
		}
	}
}

// Known tells whether there is a record of a client: an address of its own, or one
// that it has or had here.
func (p *Pool) Known(h Holder) bool {
	if _, ok := p.fixedFor(h.Hardware); ok {
		return true
	}
	for _, l := range p.leases {
		if l.Holder.is(h) {
			return true
		}
	}
	return false
}

// Has tells whether an address was given or offered to a client, or belongs to it.
func (p *Pool) Has(h Holder, a netip.Addr) bool {
	if owner, is := p.fixed[a]; is {
		return slices.Contains(owner, h.Hardware)
	}
	l, had := p.leases[a]
	o, offered := p.held[a]
	return had && l.Holder.is(h) || offered && o.Holder.is(h)
}

// Bind gives an address. left are the client's other ones, which it has no longer.
// Errors wrap ErrNotOurs.
func (p *Pool) Bind(now time.Time, h Holder, a netip.Addr) (t *Terms, bound Lease, left []Lease, err error) {
	own, has := p.fixedFor(h.Hardware)
	if has && a != own || !has && !(p.inRange(a) && p.free(now, a, h)) {
		return nil, Lease{}, nil, fmt.Errorf("%w: %s", ErrNotOurs, a)
	}
	delete(p.held, a)
	for old, l := range p.leases {
		if l.Holder.is(h) && old != a && l.Until.After(now) {
			l.Until = now // it has another one now
			p.leases[old] = l
			left = append(left, l)
		}
	}
	bound = Lease{a, h, now.Add(p.c.Lease)}
	p.leases[a] = bound
	return p.terms(a), bound, left, nil
}

// Release takes an address back from its holder (RFC 2131, 4.3.4).
func (p *Pool) Release(now time.Time, h Holder, a netip.Addr) (Lease, bool) {
	l, had := p.leases[a]
	if !had || !l.Holder.is(h) {
		return l, false
	}
	l.Until = now
	p.leases[a] = l
	return l, true
}

// Taken leaves an address alone that somebody else uses: a probe or its holder says
// so (RFC 2131, 4.3.3).
func (p *Pool) Taken(now time.Time, a netip.Addr) Lease {
	l := Lease{Address: a, Until: now.Add(takenFor)}
	delete(p.held, a)
	p.leases[a] = l
	return l
}

// Left is how many addresses nobody has now.
func (p *Pool) Left(now time.Time) (left, of int) {
	for a := range p.addresses() {
		of++
		if p.free(now, a, Holder{}) {
			left++
		}
	}
	return left, of
}

func (p *Pool) terms(a netip.Addr) *Terms {
	return &Terms{Address: a, Prefix: p.c.Prefix, Router: p.c.Router, DNS: p.c.DNS, Lease: p.c.Lease}
}

// ParsePool reads "FROM-TO/BITS [router A] [dns A]… [lease TIME]".
func ParsePool(text string) (p PoolConfig, err error) {
	words := strings.Fields(text)
	if len(words)%2 != 1 {
		return p, fmt.Errorf("%q is not FROM-TO/BITS with pairs of words after it", text)
	}
	span, bits, _ := strings.Cut(words[0], "/")
	from, to, _ := strings.Cut(span, "-")
	if p.From, err = netip.ParseAddr(from); err != nil {
		return p, err
	}
	if p.To, err = netip.ParseAddr(to); err != nil {
		return p, err
	}
	n, err := strconv.Atoi(bits)
	if err != nil {
		return p, fmt.Errorf("%q does not end in the length of the subnet's prefix, as /24", words[0])
	}
	if p.Prefix, err = p.From.Prefix(n); err != nil {
		return p, err
	}
	for w := words[1:]; len(w) > 0; w = w[2:] {
		switch w[0] {
		case "router":
			p.Router, err = netip.ParseAddr(w[1])
		case "dns":
			var a netip.Addr
			a, err = netip.ParseAddr(w[1])
			p.DNS = append(p.DNS, a)
		case "lease":
			p.Lease, err = time.ParseDuration(w[1])
		default:
			err = fmt.Errorf("%q is not one of router, dns, lease", w[0])
		}
		if err != nil {
			return p, err
		}
	}
	return p, nil
}

// String writes a pool as ParsePool reads it.
func (p PoolConfig) String() string {
	text := fmt.Sprintf("%s-%s/%d", p.From, p.To, p.Prefix.Bits())
	if p.Router.IsValid() {
		text += " router " + p.Router.String()
	}
	for _, a := range p.DNS {
		text += " dns " + a.String()
	}
	if p.Lease != 0 {
		text += " lease " + p.Lease.String()
	}
	return text
}
