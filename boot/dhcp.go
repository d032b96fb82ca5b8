package boot

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"sync"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/insomniacslk/dhcp/dhcpv4/server4"
	"github.com/vishvananda/netlink"

	"jugate/core/fault"
	"jugate/core/hwaddr"
	"jugate/core/netboot"
	"jugate/wire"
)

// DHCP answers on one interface.
type DHCP struct {
	Desk *netboot.Desk
	Log  *slog.Logger
	Now  func() time.Time
	// Know says what the roster knows of a machine. It is called without a lock held,
	// and may take its own.
	Know func(hwaddr.Address) netboot.Facts
	// Silent, if set, tells whether somebody else answers now.
	Silent func() bool
	// On is told of every request and what follows; it must not wait.
	On func(netboot.Outcome)
	// Record keeps a lease before it is told to the machine. An error keeps the
	// answer back.
	Record func(context.Context, netboot.Lease) error

	mu sync.Mutex // guards the desk; nothing of others is called while it is held
}

// maxPacket is the largest DHCP packet that is read, in bytes.
const maxPacket = 4096

// probeFor is how long a probe waits for a machine that uses the address already. Firmware
// repeats its request after a second or more.
const probeFor = 400 * time.Millisecond

// Serve answers until ctx ends. Both ports are opened before ready is called.
func (d *DHCP) Serve(ctx context.Context, ready func()) error {
	var conns []net.PacketConn
	defer func() {
		for _, c := range conns {
			c.Close()
		}
	}()
	ports := []int{netboot.DHCPPort, netboot.PXEPort}
	for _, port := range ports {
		c, err := server4.NewIPv4UDPConn(d.Desk.Link.Name, &net.UDPAddr{Port: port})
		if err != nil {
			return fmt.Errorf("%s, UDP port %d: %w", d.Desk.Link.Name, port, err)
		}
		conns = append(conns, c)
	}
	stop := context.AfterFunc(ctx, func() {
		for _, c := range conns {
			c.Close()
		}
	})
	defer stop()
	ready()
	var wait sync.WaitGroup
	defer wait.Wait()
	errs := make(chan error, len(conns))
	for i, c := range conns {
		wait.Go(func() { errs <- d.listen(ctx, c, ports[i], &wait) })
	}
	err := <-errs
	for _, c := range conns {
		c.Close()
	}
	if ctx.Err() != nil {
		return nil
	}
	return err
}

func (d *DHCP) listen(ctx context.Context, c net.PacketConn, port int, wait *sync.WaitGroup) error {
	buf := make([]byte, maxPacket)
	for {
		n, from, err := c.ReadFrom(buf)
		if err != nil {
			return err
		}
		if at, is := from.(*net.UDPAddr); is && at.AddrPort().Addr().Unmap() == d.Desk.Link.Server {
			continue // Others, which asks from here whether somebody else answers
		}
		if d.Silent != nil && d.Silent() {
			continue
		}
		o, err := d.handle(port, buf[:n])
		if errors.Is(err, fault.Err) {
			d.Log.Error("a DHCP packet cannot be handled", "interface", d.Desk.Link.Name, "error", err)
		}
		if err != nil {
			continue // noise, or an attack
		}
		if o.Probe != nil {
			wait.Go(func() { d.finish(ctx, c, d.probe(ctx, o)) })
			continue
		}
		d.finish(ctx, c, o)
	}
}

func (d *DHCP) handle(port int, packet []byte) (o netboot.Outcome, err error) {
	err = fault.Guard(func() error {
		m, err := netboot.Parse(packet)
		if err != nil {
			return err
		}
		c, err := netboot.Identify(m)
		if err != nil {
			return err
		}
		facts := d.Know(c.Address)
		d.mu.Lock()
		defer d.mu.Unlock()
		o, err = d.Desk.Handle(d.Now(), port, m, facts)
		return err
	})
	return o, err
}

// Change changes the desk between two requests.
func (d *DHCP) Change(do func(*netboot.Desk)) {
	d.mu.Lock()
	defer d.mu.Unlock()
	do(d.Desk)
}

// probe asks until an address is found that nobody uses.
func (d *DHCP) probe(ctx context.Context, o netboot.Outcome) netboot.Outcome {
	for o.Probe != nil && ctx.Err() == nil {
		used, err := wire.AddressInUse(ctx, d.Desk.Link.Name, o.Probe.Address, probeFor)
		if err != nil { // whoever gets it says so, if it is (RFC 2131, 3.1)
			d.Log.Warn("whether somebody has an address cannot be asked before it is given", "address", o.Probe.Address, "error", err)
		}
		d.mu.Lock()
		next, err := d.Desk.Probed(d.Now(), o.Probe, used)
		d.mu.Unlock()
		if err != nil {
			d.Log.Error("an offer cannot be made", "error", err)
			return netboot.Outcome{}
		}
		if next.Lease != nil && next.Probe != nil {
			d.record(ctx, next.Lease)
		}
		o = next
	}
	return o
}

// finish records, answers and tells.
func (d *DHCP) finish(ctx context.Context, c net.PacketConn, o netboot.Outcome) {
	for i := range o.Left {
		if !d.record(ctx, &o.Left[i]) {
			return
		}
	}
	if !d.record(ctx, o.Lease) {
		return
	}
	if o.Reply != nil {
		if err := d.send(c, o.Reply); err != nil && !errors.Is(err, net.ErrClosed) {
			d.Log.Warn("an answer could not be sent", "interface", d.Desk.Link.Name, "to", o.Reply.To, "error", err)
			o.Why, o.Reply = err.Error(), nil
		}
	}
	d.On(o)
}

// send sends a reply. The kernel is told who will have the address, as nobody answers
// for it yet (RFC 2131, 4.1); where that cannot be, everybody gets the reply.
func (d *DHCP) send(c net.PacketConn, r *netboot.Reply) error {
	to := net.UDPAddrFromAddrPort(r.To)
	if r.Hardware != nil {
		if err := introduce(d.Desk.Link.Name, r.To.Addr(), r.Hardware); err != nil {
			to = &net.UDPAddr{IP: net.IPv4bcast, Port: netboot.ReplyPort}
		}
	}
	_, err := c.WriteTo(r.Message.ToBytes(), to)
	return err
}

// introduce puts a neighbour into the kernel's table, as an entry that the kernel may
// check later.
func introduce(ifname string, a netip.Addr, hw net.HardwareAddr) error {
	link, err := net.InterfaceByName(ifname)
	if err != nil {
		return err
	}
	return netlink.NeighSet(&netlink.Neigh{LinkIndex: link.Index, Family: netlink.FAMILY_V4, State: netlink.NUD_STALE, IP: a.AsSlice(), HardwareAddr: hw})
}

func (d *DHCP) record(ctx context.Context, l *netboot.Lease) bool {
	if l == nil {
		return true
	}
	if err := d.Record(ctx, *l); err != nil {
		d.Log.Error("a lease cannot be recorded, and is not given", "address", l.Address, "error", err)
		return false
	}
	return true
}

// Others sends a request on an interface and returns a server that offers an address, if one does. It listens for five seconds:
// servers check first whether an address is in use, so answers take a while.
func Others(ctx context.Context, ifname string) (servers []netip.Addr, err error) {
	link, err := net.InterfaceByName(ifname)
	if err != nil {
		return nil, err
	}
	c, err := server4.NewIPv4UDPConn(ifname, &net.UDPAddr{Port: netboot.ReplyPort})
	if err != nil {
		return nil, fmt.Errorf("look for other servers on %s: %w", ifname, err)
	}
	defer c.Close()
	m, err := dhcpv4.NewDiscovery(link.HardwareAddr, dhcpv4.WithBroadcast(true))
	if err != nil {
		return nil, err
	}
	if _, err := c.WriteTo(m.ToBytes(), &net.UDPAddr{IP: net.IPv4bcast, Port: netboot.DHCPPort}); err != nil {
		return nil, err
	}
	c.SetReadDeadline(time.Now().Add(othersWait))
	buf := make([]byte, maxPacket)
	for {
		n, _, err := c.ReadFrom(buf)
		if err != nil {
			return servers, nil // the time is over
		}
		r, err := dhcpv4.FromBytes(buf[:n])
		if err != nil || r.TransactionID != m.TransactionID || r.MessageType() != dhcpv4.MessageTypeOffer {
			continue
		}
		if r.YourIPAddr == nil || r.YourIPAddr.IsUnspecified() {
			continue // it only says what to boot
		}
		if a, ok := netip.AddrFromSlice(r.ServerIdentifier().To4()); ok {
			return append(servers, a), nil // one is enough
		}
	}
}
