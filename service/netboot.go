package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"jugate/core/environment/builds"

	"jugate/core/fault"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/vishvananda/netlink"

	"jugate/api"
	"jugate/bootwire"
	"jugate/core/hwaddr"
	"jugate/core/netboot"
	"jugate/core/roster"
)

// Netboot says how the service answers machines that boot over the network.
type Netboot struct {
	Interfaces []NetbootInterface
	Pools      []netboot.PoolConfig // of mode whole
	Unknown    Unknown              // what becomes of machines that nobody has admitted; Hold by default
	// Force has mode whole start although another server gives addresses.
	Force bool
	// Agent is the agent's file, for builds of the boot environment.
	Agent string
}

// NetbootInterface is one interface with its mode.
type NetbootInterface struct {
	Name string
	Mode netboot.Mode
}

// Unknown is what becomes of machines that nobody has admitted.
type Unknown string

// Policies for unknown hardware addresses.
const (
	Ignore  Unknown = "ignore"  // they get no answer
	Hold    Unknown = "hold"    // they boot, and wait on screen to be admitted
	Welcome Unknown = "welcome" // they show a menu, of which more is to be had by signing in
)

// boot is what the service knows of machines that boot.
type boot struct {
	builds *builds.Store
	making sync.Mutex // held while a build is made

	mu    sync.Mutex
	trail netboot.Trail
	byIP  map[netip.Addr]hwaddr.Address
	told  map[hwaddr.Address]string // models, as firmware told them
	links []*link
}

// link is an interface that is served.
type link struct {
	netboot.Link
	dhcp  *bootwire.DHCP // nil where it is off
	state string         // "serving", or why not
}

const (
	// othersWait is how long one listens for another server before mode whole
	// begins: servers look first whether anybody uses an address.
	othersWait = 5 * time.Second
	// addressesAtMost bounds the addresses that are remembered.
	addressesAtMost = 8192
)

// startNetboot opens what the configuration asks for, around the port that HTTP
// answers on. An interface that cannot be served keeps the service from starting:
// who asked for it relies on it.
func (s *Service) startNetboot(ctx context.Context, httpPort int) error {
	for _, want := range s.config.Netboot.Interfaces {
		l, err := s.openLink(ctx, want, httpPort)
		if err != nil {
			return fmt.Errorf("network boot on %s: %w", want.Name, err)
		}
		s.boot.links = append(s.boot.links, l)
		if err := s.serveTFTP(l); err != nil {
			return fmt.Errorf("network boot on %s: %w", want.Name, err)
		}
		if l.dhcp == nil {
			l.state = "serving"
			continue
		}
		ready, failed := make(chan struct{}), make(chan error, 1)
		s.work.Go(func() {
			err := l.dhcp.Serve(s.ctx, sync.OnceFunc(func() { close(ready) }))
			if err != nil {
				s.log.Error("network boot has ended on an interface", "interface", want.Name, "error", err)
				s.boot.setState(l, err.Error())
			}
			failed <- err
		})
		select {
		case <-ready:
			s.boot.setState(l, "serving")
			s.log.Info("network boot", "interface", want.Name, "mode", want.Mode, "address", l.Server)
		case err := <-failed:
			return fmt.Errorf("network boot: %w", err)
		}
	}
	return nil
}

func (b *boot) setState(l *link, state string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	l.state = state
}

// openLink finds the interface's address, and for mode whole its pools and whether
// another server is there.
func (s *Service) openLink(ctx context.Context, want NetbootInterface, httpPort int) (*link, error) {
	prefix, err := interfaceAddress(want.Name)
	if err != nil {
		return nil, err
	}
	l := &link{state: "starting", Link: netboot.Link{Name: want.Name, Mode: want.Mode, Server: prefix.Addr(),
		HTTP: "http://" + netip.AddrPortFrom(prefix.Addr(), uint16(httpPort)).String()}}
	if want.Mode == netboot.Off {
		return l, nil
	}
	desk := &netboot.Desk{Link: l.Link}
	if want.Mode == netboot.Whole {
		if desk.Pools, err = s.pools(ctx, prefix); err != nil {
			return nil, err
		}
		others, err := bootwire.Others(ctx, want.Name, othersWait)
		if err != nil {
			return nil, err
		}
		if len(others) > 0 && !s.config.Netboot.Force {
			return nil, fmt.Errorf("%s gives addresses there already, and two servers would give the same ones twice; use mode beside, or --netboot-force if that server is to go", others[0])
		}
	}
	l.dhcp = &bootwire.DHCP{Desk: desk, Log: s.log, Know: s.bootFacts, On: func(o netboot.Outcome) { s.onDHCP(l, o) }, Record: s.records.SetLease}
	return l, nil
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
func (s *Service) pools(ctx context.Context, own netip.Prefix) (pools []*netboot.Pool, err error) {
	leases, err := s.records.Leases(ctx)
	if err != nil {
		return nil, err
	}
	fixed, err := s.records.FixedAddresses(ctx)
	if err != nil {
		return nil, err
	}
	covered := false
	for _, c := range s.config.Netboot.Pools {
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

// refix tells the pools of addresses that belong to workstations.
func (s *Service) refix(ctx context.Context) error {
	fixed, err := s.records.FixedAddresses(ctx)
	if err != nil {
		return err
	}
	for _, l := range s.boot.links {
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

// serveTFTP answers on the interface's address.
func (s *Service) serveTFTP(l *link) error {
	c, err := net.ListenUDP("udp4", net.UDPAddrFromAddrPort(netip.AddrPortFrom(l.Server, netboot.TFTPPort)))
	if err != nil {
		return fmt.Errorf("TFTP: %w", err)
	}
	t := &bootwire.TFTP{
		Open: func(name string, client netip.Addr) (bootwire.Content, error) {
			return s.openBootFile(s.ctx, name, seen{client: client, server: strings.TrimPrefix(l.HTTP, "http://")})
		},
		Done: func(name string, client netip.Addr, n int64, err error) { s.bootFileDone(name, client, n, err) },
	}
	s.work.Go(func() {
		if err := t.Serve(s.ctx, c); err != nil {
			s.log.Error("TFTP has ended on an interface", "interface", l.Name, "error", err)
			s.boot.setState(l, "TFTP: "+err.Error())
		}
	})
	return nil
}

// bootFacts is what the roster says of a machine that asks for an address. It is
// called without a lock held.
func (s *Service) bootFacts(a hwaddr.Address) netboot.Facts {
	refused, err := s.records.Refused(s.ctx, a)
	if err == nil && refused {
		return netboot.Facts{Refused: "an engineer has refused it"}
	}
	w, err := s.records.FindWorkstation(s.ctx, a.String())
	ignored := s.config.Netboot.Unknown == Ignore
	switch {
	case errors.Is(err, fault.NotFound) && ignored:
		return netboot.Facts{Refused: "nobody has admitted it, and unknown machines are ignored"}
	case err != nil && !errors.Is(err, fault.NotFound):
		return netboot.Facts{Refused: err.Error()}
	case err == nil && w.State == roster.Newcomer && ignored:
		return netboot.Facts{Refused: "it is a newcomer, and unknown machines are ignored"}
	}
	var inventory api.Inventory
	if err == nil && json.Unmarshal([]byte(w.Inventory), &inventory) == nil && inventory.SecureBoot {
		return netboot.Facts{Signed: true}
	}
	s.boot.mu.Lock()
	defer s.boot.mu.Unlock()
	return netboot.Facts{Signed: s.boot.trail.Signed(a)}
}

// onDHCP notes what became of a request.
func (s *Service) onDHCP(l *link, o netboot.Outcome) {
	s.logDHCP(l, o)
	if s.noteDHCP(l, o) {
		s.events.publish(bootEvent{Address: o.Client.Address.String()})
	}
}

// logDHCP writes a line for what an engineer looks for when an address is missing or
// there twice.
func (s *Service) logDHCP(l *link, o netboot.Outcome) {
	line := s.log.With("interface", l.Name, "workstation", o.Client.Address)
	switch {
	case o.Lease != nil && o.Lease.Hardware.IsZero() && o.Lease.Client == "":
		line.Warn("address set aside, as another machine uses it", "address", o.Lease.Address, "why", o.Why)
	case o.Asked == dhcpv4.MessageTypeRelease && o.Lease != nil:
		line.Info("address released", "address", o.Lease.Address)
	case o.Lease != nil:
		line.Info("address given", "address", o.Lease.Address, "until", o.Lease.Until)
	case o.Full:
		line.Warn("no address left", "why", o.Why)
	case o.Why != "":
		line.Debug("not answered", "asked", o.Asked, "why", o.Why)
	}
}

// noteDHCP notes the step of a machine that boots, and tells whether it was one.
func (s *Service) noteDHCP(l *link, o netboot.Outcome) bool {
	s.boot.mu.Lock()
	defer s.boot.mu.Unlock()
	for _, a := range []netip.Addr{o.Given, o.Heard} {
		if a.IsValid() {
			s.boot.knowAddress(a, o.Client.Address)
		}
	}
	now := s.config.Now()
	switch {
	case o.Why != "" && (o.Client.Boots() || o.Reply == nil):
		s.boot.trail.Note(now, o.Client.Address, netboot.StepRefused, l.Name+": "+o.Why)
	case o.Reply != nil && o.Client.Boots():
		detail := fmt.Sprintf("%s: %s", l.Name, o.Client.Arch)
		if o.Given.IsValid() {
			detail += ", " + o.Given.String()
		} else {
			detail += ", its address comes from another server"
		}
		if o.Client.Relayed {
			detail += ", by way of a relay agent"
		}
		s.boot.trail.Note(now, o.Client.Address, netboot.StepAddress, detail)
	default:
		return false
	}
	return true
}

// knowAddress remembers who has an address. The caller holds mu.
func (b *boot) knowAddress(a netip.Addr, hw hwaddr.Address) {
	if b.byIP == nil || len(b.byIP) >= addressesAtMost {
		b.byIP = map[netip.Addr]hwaddr.Address{}
	}
	b.byIP[a] = hw
}

// whoHas finds the hardware address behind an address: from what was heard, or from
// the kernel's table of neighbours.
func (b *boot) whoHas(a netip.Addr) (hwaddr.Address, bool) {
	b.mu.Lock()
	hw, known := b.byIP[a]
	b.mu.Unlock()
	if known {
		return hw, true
	}
	neighbours, err := netlink.NeighList(0, netlink.FAMILY_V4)
	if err != nil {
		return hwaddr.Address{}, false
	}
	i := slices.IndexFunc(neighbours, func(n netlink.Neigh) bool {
		ip, ok := netip.AddrFromSlice(n.IP.To4())
		return ok && ip == a && len(n.HardwareAddr) > 0
	})
	if i < 0 {
		return hwaddr.Address{}, false
	}
	hw, err = hwaddr.Parse(neighbours[i].HardwareAddr.String())
	return hw, err == nil
}

// step notes a step of a machine and tells whoever watches.
func (s *Service) step(a hwaddr.Address, step netboot.Step, detail string) {
	s.boot.mu.Lock()
	s.boot.trail.Note(s.config.Now(), a, step, detail)
	s.boot.mu.Unlock()
	s.events.publish(bootEvent{Address: a.String()})
}

// bootEvent says that a machine took a step.
type bootEvent struct {
	Address string `json:"hardware_address"`
}

// tell remembers what a machine's firmware says of its model.
func (b *boot) tell(a hwaddr.Address, model string) {
	if model == "" {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.told == nil || len(b.told) >= addressesAtMost {
		b.told = map[hwaddr.Address]string{}
	}
	b.told[a] = model
}

// bootStatus is how network boot stands.
func (s *Service) bootStatus(ctx context.Context) (api.NetbootStatus, error) {
	out := api.NetbootStatus{Links: []api.NetbootLink{}, Machines: []api.BootTrail{}, Unknown: string(s.config.Netboot.Unknown)}
	var err error
	if out.Offered, err = s.records.Offered(ctx); err != nil {
		return out, err
	}
	silent := s.fillStatus(&out)
	return out, s.whySilent(ctx, &out, silent)
}

// fillStatus takes what is known of links and machines, and returns which machines
// never called.
func (s *Service) fillStatus(out *api.NetbootStatus) (silent []int) {
	now := s.config.Now()
	for _, l := range s.boot.links {
		out.Links = append(out.Links, s.linkStatus(now, l))
	}
	s.boot.mu.Lock()
	defer s.boot.mu.Unlock()
	for _, a := range s.boot.trail.Machines() {
		t := api.BootTrail{Address: a.String(), Stuck: s.boot.trail.Stuck(now, a), Steps: []api.BootStep{}, Model: s.boot.told[a]}
		if t.Stuck != "" && s.boot.trail.Silent(now, a) {
			silent = append(silent, len(out.Machines))
		}
		for _, m := range s.boot.trail.Steps(a) {
			t.Steps = append(t.Steps, api.BootStep{At: m.At, Step: string(m.Step), Detail: m.Detail})
		}
		out.Machines = append(out.Machines, t)
	}
	return silent
}

// linkStatus takes one lock after the other: the DHCP server's must never be waited for
// with that of boot held.
func (s *Service) linkStatus(now time.Time, l *link) api.NetbootLink {
	s.boot.mu.Lock()
	out := api.NetbootLink{Interface: l.Name, Mode: string(l.Mode), Address: l.Server.String(), State: l.state}
	s.boot.mu.Unlock()
	if l.dhcp == nil {
		return out
	}
	l.dhcp.Change(func(d *netboot.Desk) {
		for _, p := range d.Pools {
			left, of := p.Left(now)
			out.Pools = append(out.Pools, api.NetbootPool{Range: fmt.Sprintf("%s-%s", p.Config().From, p.Config().To), Left: left, Of: of})
		}
	})
	return out
}

// mayFix tells whether an address can belong to a workstation: it lies in a subnet that
// is served in mode whole, and nobody else needs it.
func (s *Service) mayFix(a netip.Addr) error {
	pools, why := 0, error(nil)
	for _, l := range s.boot.links {
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
