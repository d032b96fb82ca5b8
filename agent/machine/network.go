package machine

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/insomniacslk/dhcp/dhcpv4/nclient4"
	"github.com/vishvananda/netlink"

	"jugate/core/environment"
	"jugate/core/hwaddr"
	"jugate/wire"
)

const (
	// linkWait is how long a card gets for its link: switches that look for loops
	// first take long.
	linkWait = 45 * time.Second
	// tries is how often DHCP is tried, and tryFor how long the first time; each
	// further one is twice as long.
	tries  = 4
	tryFor = 2 * time.Second
)

// up brings all cards up and asks on all of them for an address, at the same time;
// when none gets one, the fixed address goes to the first card with a link. It does not wait for other cards once the one
// that the loader came by has its address: sockets without a cable would take linkWait. If that card is not known, as on
// media, the others get a little longer than the first.
func up(ctx context.Context, cards []card, came hwaddr.Address, fixed *environment.FixedNetwork, bring func(context.Context, card) card) []card {
	asking, stop := context.WithCancel(ctx)
	defer stop()
	known := slices.ContainsFunc(cards, func(c card) bool { return c.address == came })
	cards = slices.Clone(cards)
	done := make(chan card, len(cards))
	for _, c := range cards {
		go func() { done <- bring(asking, c) }()
	}
	for range cards {
		c := <-done
		if c.state == noAddress && asking.Err() != nil && ctx.Err() == nil {
			c.note = "so far; another card has one"
		}
		cards[slices.IndexFunc(cards, func(o card) bool { return o.name == c.name })] = c
		switch {
		case c.state != hasAddress:
		case c.address == came:
			stop()
		case !known:
			defer time.AfterFunc(othersGet, stop).Stop()
		}
	}
	if slices.ContainsFunc(cards, func(c card) bool { return c.state == hasAddress }) || fixed == nil {
		return cards
	}
	for i := range cards {
		c := &cards[i]
		if c.state == noLink {
			continue
		}
		if err := c.setFixed(ctx, fixed); err != nil {
			c.note = fmt.Sprintf("and the fixed address cannot be used: %v", err)
		}
		break
	}
	return cards
}

// othersGet is how long cards may still take once one has an address, if nobody knows which one is to be used.
const othersGet = 5 * time.Second

// typed brings up the first card with a link with what was typed at the screen, in place of asking anybody, if nobody has that
// address and the service answers from there.
func typed(ctx context.Context, cards []card, fixed *environment.FixedNetwork, service string) error {
	plugged := slices.IndexFunc(cards, func(c card) bool { return hasCarrier(c.name) }) // the others are not waited for, if there is one
	for i := range cards {
		c := &cards[i]
		link, err := netlink.LinkByName(c.name)
		if err == nil {
			err = netlink.LinkSetUp(link)
		}
		if plugged >= 0 && i != plugged || err != nil || !linked(ctx, c.name, linkWait) {
			continue
		}
		if err := c.setFixed(ctx, fixed); err != nil {
			return err
		}
		if err := reaches(ctx, service); err != nil {
			c.state, c.fixed = noAddress, false
			return errors.Join(fmt.Errorf("the service does not answer from %s: %w", c.ip.Addr(), err), c.unset(link))
		}
		c.typed = true
		return nil
	}
	return errors.New("no network card has a link")
}

// answerWithin is how long the service gets to answer somebody who has typed an address.
const answerWithin = 10 * time.Second

// reaches tells whether somebody takes connections where the service should be.
func reaches(ctx context.Context, service string) error {
	u, err := url.Parse(service)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, answerWithin)
	defer cancel()
	var d net.Dialer
	c, err := d.DialContext(ctx, "tcp", u.Host)
	if err != nil {
		return err
	}
	return c.Close()
}

// unset takes the card's address away again.
func (c *card) unset(link netlink.Link) error {
	return netlink.AddrDel(link, &netlink.Addr{IPNet: &net.IPNet{IP: c.ip.Addr().AsSlice(), Mask: net.CIDRMask(c.ip.Bits(), c.ip.Addr().BitLen())}})
}

// bringUp brings a card up, and asks for an address.
func bringUp(ctx context.Context, c card) card {
	link, err := netlink.LinkByName(c.name)
	if err == nil {
		err = netlink.LinkSetUp(link)
	}
	if err != nil {
		c.note = err.Error()
		return c
	}
	if !linked(ctx, c.name, linkWait) {
		return c
	}
	c.state = noAddress
	client, err := nclient4.New(c.name, nclient4.WithTimeout(tryFor), nclient4.WithRetry(tries))
	if err != nil {
		c.note = err.Error()
		return c
	}
	lease, err := client.Request(ctx, dhcpv4.WithRequestedOptions(dhcpv4.OptionSubnetMask, dhcpv4.OptionRouter),
		dhcpv4.WithOption(dhcpv4.OptHostName("jugate-"+strings.ReplaceAll(c.address.String(), ":", ""))))
	if err == nil {
		err = c.take(lease.ACK)
	}
	if err != nil {
		client.Close()
		if ctx.Err() == nil && !errors.Is(err, nclient4.ErrNoResponse) {
			c.note = err.Error()
		}
		return c
	}
	c.renew = func(ctx context.Context) { keep(ctx, client, lease, c.name) }
	return c
}

// linked waits until a card has a link.
func linked(ctx context.Context, name string, atMost time.Duration) bool {
	ctx, cancel := context.WithTimeout(ctx, atMost)
	defer cancel()
	updates := make(chan netlink.LinkUpdate, 16)
	if err := netlink.LinkSubscribeWithOptions(updates, ctx.Done(), netlink.LinkSubscribeOptions{ListExisting: true}); err != nil {
		return hasCarrier(name)
	}
	for {
		select {
		case u, open := <-updates:
			if !open {
				return hasCarrier(name)
			}
			if u.Attrs().Name == name && hasCarrier(name) {
				return true
			}
		case <-ctx.Done():
			return hasCarrier(name)
		}
	}
}

func hasCarrier(name string) bool {
	text, err := os.ReadFile(filepath.Join("/sys/class/net", name, "carrier"))
	return err == nil && strings.TrimSpace(string(text)) == "1"
}

// take sets what a server gave.
func (c *card) take(ack *dhcpv4.DHCPv4) error {
	ip, ok := netip.AddrFromSlice(ack.YourIPAddr.To4())
	if !ok {
		return fmt.Errorf("the server gave no usable address (%s)", ack.YourIPAddr)
	}
	bits, _ := ack.SubnetMask().Size()
	if bits == 0 {
		bits = 24
	}
	var gateway net.IP
	if routers := ack.Router(); len(routers) > 0 {
		gateway = routers[0]
	}
	if err := c.set(netip.PrefixFrom(ip, bits), gateway); err != nil {
		return err
	}
	c.state = hasAddress
	if isLinkLocal(ip) {
		c.state = linkLocal
	}
	return nil
}

// setFixed takes the first fixed address that nobody has. Machines begin at different ones, as many may be switched on together.
func (c *card) setFixed(ctx context.Context, fixed *environment.FixedNetwork) error {
	all, err := fixed.Addresses()
	if err != nil {
		return err
	}
	for i := range all {
		ip := all[(int(c.address[4])<<8+int(c.address[5])+i)%len(all)]
		if used, err := wire.AddressInUse(ctx, c.name, ip.Addr(), probeFor); err != nil || used {
			if err != nil {
				return fmt.Errorf("ask whether somebody has %s: %w", ip.Addr(), err)
			}
			slog.Warn("somebody has a fixed address already", "address", ip.Addr())
			continue
		}
		if err := c.set(ip, net.ParseIP(fixed.Gateway)); err != nil {
			return err
		}
		c.state, c.fixed = hasAddress, true
		return nil
	}
	if len(all) == 1 {
		return fmt.Errorf("another machine has %s", all[0].Addr())
	}
	return fmt.Errorf("other machines have all of the %d addresses", len(all))
}

// probeFor is how long a probe waits for an answer.
const probeFor = 2 * time.Second

// set gives the card its address, and routes by way of the gateway if there is one.
func (c *card) set(ip netip.Prefix, gateway net.IP) error {
	link, err := netlink.LinkByName(c.name)
	if err != nil {
		return err
	}
	network := &net.IPNet{IP: ip.Addr().AsSlice(), Mask: net.CIDRMask(ip.Bits(), ip.Addr().BitLen())}
	if err := netlink.AddrReplace(link, &netlink.Addr{IPNet: network}); err != nil {
		return fmt.Errorf("set %s: %w", ip, err)
	}
	c.ip = ip
	if gateway != nil {
		if err := netlink.RouteReplace(&netlink.Route{LinkIndex: link.Attrs().Index, Gw: gateway}); err != nil {
			return fmt.Errorf("route by way of %s: %w", gateway, err)
		}
	}
	return nil
}

// keep renews a lease at half its time (RFC 2131, 4.4.5), for as long as it goes.
func keep(ctx context.Context, client *nclient4.Client, lease *nclient4.Lease, name string) {
	defer client.Close()
	for {
		half := lease.ACK.IPAddressLeaseTime(time.Hour) / 2
		select {
		case <-time.After(max(half, time.Minute)):
		case <-ctx.Done():
			return
		}
		next, err := client.Renew(ctx, lease)
		if err != nil {
			slog.Warn("the address could not be renewed", "card", name, "error", err)
			continue
		}
		lease = next
	}
}
