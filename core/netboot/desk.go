package netboot

import (
	"errors"
	"fmt"
	"net/netip"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"jugate/core/hwaddr"
)

// Desk answers DHCP requests on one link. It is not safe for use by several
// goroutines.
type Desk struct {
	Link  Link
	Pools []*Pool // of Whole: the link's own, and those of subnets behind relay agents
	// Serves tells whether a machine is served at all, and if not, why.
	Serves func(hwaddr.Address) (ok bool, why string)
}

// Outcome is what follows from a request.
type Outcome struct {
	Client Client
	Asked  dhcpv4.MessageType
	Reply  *Reply     // nil if nothing is answered
	Given  netip.Addr // the address in the reply, if this server gave one
	Heard  netip.Addr // the address that the machine takes from another server
	Lease  *Lease     // to be recorded
	// Why says why nothing is answered; empty where that is as it should be.
	Why   string
	Probe *Probe // ask first whether somebody uses the address, then call Probed
}

// Probe is a question whether somebody uses an address.
type Probe struct {
	Address netip.Addr
	pool    *Pool
	request *dhcpv4.DHCPv4
	client  Client
	port    int
	tried   int
}

// probesAtMost is how many addresses are tried for one request.
const probesAtMost = 4

// Handle answers a request that came to a port. Errors wrap ErrRequest.
func (d *Desk) Handle(now time.Time, port int, m *dhcpv4.DHCPv4) (Outcome, error) {
	c, err := Identify(m)
	if err != nil {
		return Outcome{}, err
	}
	o := Outcome{Client: c, Asked: m.MessageType()}
	if ok, why := d.Serves(c.Address); !ok {
		o.Why = why
		return o, nil
	}
	if c.Boots() && c.Arch.Loader() == "" {
		o.Why = fmt.Sprintf("there is no loader for %s", c.Arch)
		if d.Link.Mode != Whole {
			return o, nil
		}
	}
	switch {
	case d.Link.Mode == Off:
		return o, nil
	case port == PXEPort || d.Link.Mode == Beside:
		return d.beside(port, m, o)
	default:
		return d.whole(now, port, m, o)
	}
}

// beside says what to boot, to machines that have their address from elsewhere.
func (d *Desk) beside(port int, m *dhcpv4.DHCPv4, o Outcome) (Outcome, error) {
	if o.Asked == dhcpv4.MessageTypeRequest && port == DHCPPort {
		// Heard by all: it says which address the machine takes.
		o.Heard, _ = netip.AddrFromSlice(m.RequestedIPAddress().To4())
		return o, nil
	}
	if !o.Client.Boots() {
		return o, nil
	}
	kind := dhcpv4.MessageTypeAck
	switch {
	case o.Asked == dhcpv4.MessageTypeDiscover:
		kind = dhcpv4.MessageTypeOffer
	case o.Asked != dhcpv4.MessageTypeRequest && o.Asked != dhcpv4.MessageTypeInform:
		return o, nil
	}
	var err error
	o.Reply, err = Answer(d.Link, port, m, o.Client, kind, nil)
	return o, err
}

// pool is the one for where a request comes from: the relay agent's subnet, or the
// link's.
func (d *Desk) pool(m *dhcpv4.DHCPv4) *Pool {
	from := d.Link.Server
	if relay, ok := netip.AddrFromSlice(m.GatewayIPAddr.To4()); ok && isSet(m.GatewayIPAddr) {
		from = relay
	} else if client, ok := netip.AddrFromSlice(m.ClientIPAddr.To4()); ok && isSet(m.ClientIPAddr) {
		from = client // it renews, past the relay agent
	}
	for _, p := range d.Pools {
		if p.c.Prefix.Contains(from) {
			return p
		}
	}
	return nil
}

// whole gives addresses, too.
func (d *Desk) whole(now time.Time, port int, m *dhcpv4.DHCPv4, o Outcome) (Outcome, error) {
	p := d.pool(m)
	if p == nil {
		o.Why = "there is no pool for where it is"
		return o, nil
	}
	wanted, _ := netip.AddrFromSlice(m.RequestedIPAddress().To4())
	client, _ := netip.AddrFromSlice(m.ClientIPAddr.To4())
	hw := o.Client.Address
	switch o.Asked {
	case dhcpv4.MessageTypeDiscover:
		return d.offer(now, &Probe{pool: p, request: m, client: o.Client, port: port, Address: wanted}, o)
	case dhcpv4.MessageTypeRequest:
		if id := m.ServerIdentifier(); isSet(id) && id.String() != d.Link.Server.String() {
			o.Why = fmt.Sprintf("it took the offer of another server, %s", id)
			o.Heard = wanted
			return o, nil
		}
		if isSet(m.ClientIPAddr) {
			wanted = client
		}
		terms, lease, err := p.Bind(now, hw, wanted)
		if errors.Is(err, ErrNotOurs) {
			o.Why = err.Error()
			o.Reply, err = Refuse(d.Link, m, o.Why)
			return o, err
		}
		if err != nil {
			return o, err
		}
		o.Lease, o.Given = &lease, terms.Address
		o.Reply, err = Answer(d.Link, port, m, o.Client, dhcpv4.MessageTypeAck, terms)
		return o, err
	case dhcpv4.MessageTypeInform:
		terms := p.terms(client)
		reply, err := Answer(d.Link, port, m, o.Client, dhcpv4.MessageTypeAck, terms)
		if err == nil { // RFC 2131, 4.3.5: neither an address nor a time
			reply.Message.YourIPAddr = nil
			reply.Message.Options.Del(dhcpv4.OptionIPAddressLeaseTime)
		}
		o.Reply = reply
		return o, err
	case dhcpv4.MessageTypeDecline:
		lease := p.Taken(now, wanted)
		o.Lease, o.Why = &lease, fmt.Sprintf("it found %s in use by another machine", wanted)
	case dhcpv4.MessageTypeRelease:
		if lease, had := p.Release(now, hw, client); had {
			o.Lease = &lease
		}
	}
	return o, nil
}

// offer picks an address, and asks for a probe where somebody might use it.
func (d *Desk) offer(now time.Time, probe *Probe, o Outcome) (Outcome, error) {
	a, ask, err := probe.pool.Pick(now, probe.client.Address, probe.Address)
	if err != nil {
		o.Why = err.Error()
		return o, nil
	}
	terms := probe.pool.Offer(now, probe.client.Address, a)
	if ask {
		next := *probe
		next.Address = a
		next.tried++
		o.Probe = &next
		return o, nil
	}
	o.Given = a
	o.Reply, err = Answer(d.Link, probe.port, probe.request, probe.client, dhcpv4.MessageTypeOffer, terms)
	return o, err
}

// Probed goes on after a probe: used tells whether somebody has the address.
func (d *Desk) Probed(now time.Time, p *Probe, used bool) (Outcome, error) {
	o := Outcome{Client: p.client, Asked: p.request.MessageType()}
	if !used {
		o.Given = p.Address
		var err error
		o.Reply, err = Answer(d.Link, p.port, p.request, p.client, dhcpv4.MessageTypeOffer, p.pool.Offer(now, p.client.Address, p.Address))
		return o, err
	}
	lease := p.pool.Taken(now, p.Address)
	o.Lease = &lease
	if p.tried >= probesAtMost {
		o.Why = fmt.Sprintf("%d addresses in a row are in use by machines that did not get them here", p.tried)
		return o, nil
	}
	next := *p
	next.Address = netip.Addr{}
	return d.offer(now, &next, o)
}
