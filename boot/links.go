package boot

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"sync"
	"time"

	"jugate/core/fault"
	"jugate/core/hwaddr"
	"jugate/core/netboot"
)

// link is an interface that is served.
type link struct {
	netboot.Link
	dhcp *DHCP // nil where it is off

	until   context.Context // ends when it is to end
	stop    context.CancelFunc
	serving sync.WaitGroup

	broken error // why it could not begin; nil if it could

	mu    sync.Mutex
	state string // "serving", or why not
}

// end ends what is served, and waits until it has ended.
func (l *link) end() {
	l.stop()
	l.serving.Wait()
}

func (l *link) set(state string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.state = state
}

var errTwoServers = errors.New("two servers would give the same ones twice")

// open finds the interface's address, and for mode whole its pools and whether another
// server is there.
func (b *Boot) open(ctx context.Context, want Interface) (*link, error) {
	prefix, err := interfaceAddress(want.Name)
	if err != nil {
		return nil, err
	}
	l := &link{state: "starting", Link: netboot.Link{Name: want.Name, Mode: want.Mode, Server: prefix.Addr(),
		HTTP: "http://" + netip.AddrPortFrom(prefix.Addr(), uint16(b.httpPort)).String()}}
	if want.Mode == netboot.Off {
		l.until, l.stop = context.WithCancel(b.until)
		return l, nil
	}
	desk := &netboot.Desk{Link: l.Link}
	if want.Mode == netboot.Whole {
		if desk.Pools, err = b.pools(ctx, prefix); err != nil {
			return nil, err
		}
		others, err := Others(ctx, want.Name)
		if err != nil {
			return nil, err
		}
		if len(others) > 0 && !b.Config.Force && !b.becomesSilent(ctx, want.Name) {
			return nil, fmt.Errorf("%s gives addresses there already, and %w; use mode beside, or --netboot-force if that server is to go", others[0], errTwoServers)
		}
	}
	l.until, l.stop = context.WithCancel(b.until)
	l.dhcp = &DHCP{Desk: desk, Log: b.Log, Now: b.Now, Know: b.facts, Silent: func() bool { return b.silent(want.Name) != "" }, On: func(o netboot.Outcome) { b.onDHCP(l, o) }, Record: b.Roster.Lease}
	return l, nil
}

// becomesSilent waits a little whether the other server is one in whose place this one may answer, when that has failed.
func (b *Boot) becomesSilent(ctx context.Context, ifname string) bool {
	if b.Silent == nil {
		return false
	}
	over, again := time.NewTimer(othersWait), time.NewTicker(100*time.Millisecond)
	defer over.Stop()
	defer again.Stop()
	for b.Silent(ifname) == "" {
		select {
		case <-again.C:
		case <-over.C:
			return false
		case <-ctx.Done():
			return false
		}
	}
	return true
}

// facts are what DHCP has to know of a machine.
func (b *Boot) facts(a hwaddr.Address) netboot.Facts {
	f := b.Roster.Facts(context.Background(), a)
	if f.Refused == "" && !f.Signed {
		b.mu.Lock()
		defer b.mu.Unlock()
		f.Signed = b.trail.Signed(a)
	}
	return f
}

// serve answers on a link until that ends.
func (b *Boot) serve(l *link) error {
	if err := b.serveTFTP(l); err != nil {
		return err
	}
	if l.dhcp == nil {
		l.set("serving")
		return nil
	}
	ready, failed := make(chan struct{}), make(chan error, 1)
	b.goes(l, func() {
		err := l.dhcp.Serve(l.until, sync.OnceFunc(func() { close(ready) }))
		if err != nil {
			b.Log.Error("network boot has ended on an interface", "interface", l.Name, "error", err)
			l.set(err.Error())
		}
		failed <- err
	})
	select {
	case <-ready:
		l.set("serving")
		b.Log.Info("network boot", "interface", l.Name, "mode", l.Mode, "address", l.Server)
		return nil
	case err := <-failed:
		return err
	}
}

// goes has something be served in the background, until the link ends.
func (b *Boot) goes(l *link, serve func()) {
	l.serving.Add(1)
	b.serving.Go(func() {
		defer l.serving.Done()
		serve()
	})
}

// serveTFTP answers on the interface's address.
func (b *Boot) serveTFTP(l *link) error {
	c, err := net.ListenUDP("udp4", net.UDPAddrFromAddrPort(netip.AddrPortFrom(l.Server, netboot.TFTPPort)))
	if err != nil {
		return fmt.Errorf("TFTP: %w", err)
	}
	t := &TFTP{
		Open: func(name string, client netip.Addr) (Content, error) {
			return b.Open(l.until, name, Asker{Client: client, Server: strings.TrimPrefix(l.HTTP, "http://")})
		},
		Done: func(name string, client netip.Addr, n int64, err error) {
			if err == nil {
				b.Sent(name, client, n)
			}
		},
	}
	b.goes(l, func() {
		if err := t.Serve(l.until, c); err != nil {
			b.Log.Error("TFTP has ended on an interface", "interface", l.Name, "error", err)
			l.set("TFTP: " + err.Error())
		}
	})
	return nil
}

func interfaceAddress(name string) (netip.Prefix, error) {
	i, err := net.InterfaceByName(name)
	if err != nil {
		return netip.Prefix{}, err
	}
	addresses, err := i.Addrs()
	if err != nil {
		return netip.Prefix{}, err
	}
	for _, a := range addresses {
		if p, err := netip.ParsePrefix(a.String()); err == nil && p.Addr().Is4() {
			return p, nil
		}
	}
	return netip.Prefix{}, errors.New("the interface has no IPv4 address")
}

// pools are the pools of mode whole, with what was given before. One has to be of
// the interface's own subnet.
func (b *Boot) pools(ctx context.Context, own netip.Prefix) (pools []*netboot.Pool, err error) {
	leases, err := b.Roster.Leases(ctx)
	if err != nil {
		return nil, err
	}
	fixed, err := b.Roster.Fixed(ctx)
	if err != nil {
		return nil, err
	}
	covered := false
	for _, c := range b.Config.Pools {
		p, err := netboot.NewPool(c, leases, fixed)
		if err != nil {
			return nil, err
		}
		p.Reserve(own.Addr())
		covered = covered || c.Prefix.Contains(own.Addr())
		pools = append(pools, p)
	}
	if !covered {
		return nil, fmt.Errorf("mode whole needs a pool of %s (--pool)", own.Masked())
	}
	return pools, nil
}

// Refix takes the addresses that belong to machines from the roster anew.
func (b *Boot) Refix(ctx context.Context) error {
	fixed, err := b.Roster.Fixed(ctx)
	if err != nil {
		return err
	}
	for _, l := range b.all() {
		if l.dhcp != nil {
			l.dhcp.Change(func(d *netboot.Desk) {
				for _, p := range d.Pools {
					p.Fix(fixed)
				}
			})
		}
	}
	return nil
}

// MayFix tells whether an address can belong to a machine: it lies in a subnet that is
// served in mode whole, and nobody else needs it.
func (b *Boot) MayFix(a netip.Addr) error {
	pools, why := 0, error(nil)
	for _, l := range b.all() {
		if l.Server == a {
			return fault.Invalid.Errorf("%s is this service's own address on %s", a, l.Name)
		}
		if l.dhcp == nil {
			continue
		}
		fits := false
		l.dhcp.Change(func(d *netboot.Desk) {
			for _, p := range d.Pools {
				pools++
				if err := p.MayFix(a); err == nil {
					fits = true
				} else if p.Config().Prefix.Contains(a) {
					why = err
				}
			}
		})
		if fits {
			return nil
		}
	}
	switch {
	case pools == 0:
		return fault.Conflict.Errorf("no interface gives addresses (serve --netboot NAME=whole); another server does, and the address is entered there")
	case why != nil:
		return fault.Invalid.Mark(why)
	}
	return fault.Invalid.Errorf("%s is in none of the subnets that addresses are given in", a)
}

// LinkStatus is how an interface stands.
type LinkStatus struct {
	netboot.Link
	State string // "serving", or why not
	Pools []PoolStatus
}

// Address is the service's address there; empty if the interface has none.
func (s LinkStatus) Address() string {
	if !s.Server.IsValid() {
		return ""
	}
	return s.Server.String()
}

// PoolStatus is how many addresses of a pool are left.
type PoolStatus struct {
	From, To netip.Addr
	Left, Of int
}

// Links are the interfaces, in the order of the configuration.
func (b *Boot) Links(now time.Time) []LinkStatus {
	var all []LinkStatus
	for _, l := range b.all() {
		l.mu.Lock()
		s := LinkStatus{Link: l.Link, State: l.state}
		l.mu.Unlock()
		if other := b.silent(l.Name); other != "" && s.State == "serving" {
			s.State = "silent, as the outpost " + other + " answers here"
		}
		if l.dhcp != nil {
			l.dhcp.Change(func(d *netboot.Desk) {
				for _, p := range d.Pools {
					left, of := p.Left(now)
					s.Pools = append(s.Pools, PoolStatus{p.Config().From, p.Config().To, left, of})
				}
			})
		}
		all = append(all, s)
	}
	return all
}
