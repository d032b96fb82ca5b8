package netboot

import (
	"errors"
	"fmt"
	"net/netip"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
)

// Desk answers DHCP requests on one link. It is not safe for use by several
// goroutines.
type Desk struct {
	Link  Link
	Pools []*Pool // of Whole: the link's own, and those of subnets behind relay agents
}

// Outcome is what follows from a request.
type Outcome struct {
	Client Client
	Asked  dhcpv4.MessageType
	Reply  *Reply     // nil if nothing is answered
	Given  netip.Addr // the address in the reply, if this server gave one
	Heard  netip.Addr // the address that the machine takes from another server
	Lease  *Lease     // to be recorded
	Left   []Lease    // other addresses that the client had, to be recorded, too
	// Why says why nothing is answered; empty where that is as it should be.
	Why   string
	Full  bool   // that is because no address is left
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

// Handle answers a request that came to a port; facts are about its sender. Errors
// wrap ErrRequest.
func (d *Desk) Handle(now time.Time, port int, m *dhcpv4.DHCPv4, facts Facts) (Outcome, error) {
	c, err := Identify(m)
	if err != nil {
		return Outcome{}, err
	}
	c.Signed, c.Disc = facts.Signed, facts.Disc
	o := Outcome{Client: c, Asked: m.MessageType()}
	if facts.Refused != "" {
		o.Why = facts.Refused
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
	p.Reserve(d.Link.Server)
	if relay, ok := netip.AddrFromSlice(m.GatewayIPAddr.To4()); ok && isSet(m.GatewayIPAddr) {
		p.relay = relay
	}
	wanted, _ := netip.AddrFromSlice(m.RequestedIPAddress().To4())
	client, _ := netip.AddrFromSlice(m.ClientIPAddr.To4())
	switch o.Asked {
	case dhcpv4.MessageTypeDiscover:
		return d.propose(now, &Probe{pool: p, request: m, client: o.Client, port: port, Address: wanted}, o)
	case dhcpv4.MessageTypeRequest:
		return d.request(now, port, p, m, o, wanted, client)
	case dhcpv4.MessageTypeInform:
		if !isSet(m.ClientIPAddr) {
			o.Why = "it asks about an address and does not say which"
			return o, nil
		}
		terms := p.terms(client)
		reply, err := Answer(d.Link, port, m, o.Client, dhcpv4.MessageTypeAck, terms)
		if err == nil { // RFC 2131, 4.3.5: neither an address nor a time
			reply.Message.YourIPAddr = nil
			reply.Message.Options.Del(dhcpv4.OptionIPAddressLeaseTime)
		}
		o.Reply = reply
		return o, err
	case dhcpv4.MessageTypeDecline:
		switch h := o.Client.Holder(); {
		case !d.named(m):
			o.Why = "it declines an address of another server"
		case !isSet(m.RequestedIPAddress()) || !p.Has(h, wanted):
			o.Why = "it declines an address that it was not given here"
		default:
			lease := p.Taken(now, wanted)
			o.Lease, o.Why = &lease, fmt.Sprintf("it found %s in use by another machine", wanted)
		}
	case dhcpv4.MessageTypeRelease:
		if !d.named(m) {
			o.Why = "it releases an address of another server"
		} else if lease, had := p.Release(now, o.Client.Holder(), client); had {
			o.Lease = &lease
		} else {
			o.Why = "it releases an address that it was not given here"
		}
	}
	return o, nil
}

// named tells whether a message is for this server.
func (d *Desk) named(m *dhcpv4.DHCPv4) bool {
	return isSet(m.ServerIdentifier()) && m.ServerIdentifier().String() == d.Link.Server.String()
}

// request binds an address, by the state that the client is in (RFC 2131, 4.3.2): it
// takes an offer, it verifies what it had before a restart, or it renews.
func (d *Desk) request(now time.Time, port int, p *Pool, m *dhcpv4.DHCPv4, o Outcome, wanted, client netip.Addr) (Outcome, error) {
	h := o.Client.Holder()
	takesOffer := isSet(m.ServerIdentifier())
	switch {
	case takesOffer && !d.named(m):
		p.Forget(h)
		o.Why = fmt.Sprintf("it took the offer of another server, %s", m.ServerIdentifier())
		o.Heard = wanted
		return o, nil
	case takesOffer:
	case isSet(m.ClientIPAddr): // it renews
		wanted = client
		if p.c.Prefix.Contains(wanted) && !p.Known(h) && p.free(now, wanted, h) {
			o.Why = fmt.Sprintf("it renews %s, of which nothing is known here", wanted)
			return o, nil
		}
	case !isSet(m.RequestedIPAddress()):
		o.Why = "it asks for an address and does not say which"
		return o, nil
	case p.c.Prefix.Contains(wanted) && !p.Known(h): // "it MUST remain silent"
		o.Why = fmt.Sprintf("it asks for %s again, of which nothing is known here", wanted)
		return o, nil
	case !p.Has(h, wanted):
		return d.refuse(m, o, fmt.Errorf("%w: %s", ErrNotOurs, wanted))
	}
	terms, lease, left, err := p.Bind(now, h, wanted)
	if errors.Is(err, ErrNotOurs) {
		return d.refuse(m, o, err)
	}
	if err != nil {
		return o, err
	}
	o.Lease, o.Left, o.Given = &lease, left, terms.Address
	o.Reply, err = Answer(d.Link, port, m, o.Client, dhcpv4.MessageTypeAck, terms)
	return o, err
}

func (d *Desk) refuse(m *dhcpv4.DHCPv4, o Outcome, why error) (Outcome, error) {
	var err error
	o.Why = why.Error()
	o.Reply, err = Refuse(d.Link, m, o.Why)
	return o, err
}

// propose picks an address, and asks for a probe where somebody might use it.
func (d *Desk) propose(now time.Time, probe *Probe, o Outcome) (Outcome, error) {
	a, ask, err := probe.pool.Pick(now, probe.client.Holder(), probe.Address)
	if err != nil {
		o.Why, o.Full = err.Error(), true
		return o, nil
	}
	terms := probe.pool.Hold(now, probe.client.Holder(), a)
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
		o.Reply, err = Answer(d.Link, p.port, p.request, p.client, dhcpv4.MessageTypeOffer, p.pool.Hold(now, p.client.Holder(), p.Address))
		return o, err
	}
	lease := p.pool.Taken(now, p.Address)
	o.Lease = &lease
	if p.tried >= probesAtMost {
		o.Full = true
		o.Why = fmt.Sprintf("%d addresses in a row are in use by machines that did not get them here", p.tried)
		return o, nil
	}
	next := *p
	next.Address = netip.Addr{}
	return d.propose(now, &next, o)
}
