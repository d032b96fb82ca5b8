// Package lab makes networks to test in: hosts in network namespaces of their own
// around a bridge, with links that can be slow, lose packets, or be pulled out.
// Nothing of it reaches the outside. It needs root, ip, tc and nft.
//
//	n, err := lab.NewNetwork(ctx, "desk", "herb-01", "herb-02")
//	defer n.Close()
//	n.Host("desk").Rate(ctx, 200e6)
//	n.Host("herb-01").Lose(ctx, 0.01)
//	cmd := n.Host("desk").Command(ctx, "jugate", "wire", "send", …, "--interface", lab.Interface)
package lab

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"runtime"
	"strconv"
	"strings"
	"sync/atomic"

	"golang.org/x/sys/unix"
)

// Interface is the name of every host's network interface.
const Interface = "eth0"

// networks counts those that were made, for their names.
var networks atomic.Int64

// Network is a bridge with hosts around it.
type Network struct {
	name   string // begins the names of all its namespaces
	subnet netip.Prefix
	hosts  map[string]*Host
}

// Host is one machine of a network, with an address of its subnet and of
// 2001:db8::/64.
type Host struct {
	Name    string
	Address netip.Addr
	network *Network
}

// NewNetwork makes a network with these hosts in 192.0.2.0/24, 250 at most.
func NewNetwork(ctx context.Context, hosts ...string) (*Network, error) {
	return NewSubnet(ctx, netip.MustParsePrefix("192.0.2.0/24"), hosts...)
}

// NewSubnet makes a network with these hosts, whose addresses follow that of the subnet.
func NewSubnet(ctx context.Context, subnet netip.Prefix, hosts ...string) (_ *Network, err error) {
	n := &Network{name: fmt.Sprintf("jugate-lab-%d-%d", os.Getpid(), networks.Add(1)), subnet: subnet, hosts: map[string]*Host{}}
	defer func() {
		if err != nil {
			err = errors.Join(err, n.Close())
		}
	}()
	if len(hosts) > 250 {
		return n, fmt.Errorf("a network of %d hosts is too large", len(hosts))
	}
	if err := run(ctx, "ip", "netns", "add", n.name); err != nil {
		return n, err
	}
	if err := n.in(ctx, "ip", "link", "add", "br0", "type", "bridge", "mcast_snooping", "0"); err != nil {
		return n, err
	}
	if err := n.in(ctx, "ip", "link", "set", "br0", "up"); err != nil {
		return n, err
	}
	for i, name := range hosts {
		a := subnet.Masked().Addr().As4()
		a[3] += byte(i + 1)
		h := &Host{Name: name, Address: netip.AddrFrom4(a), network: n}
		n.hosts[name] = h
		port := fmt.Sprintf("port%d", i+1)
		for _, args := range [][]string{
			{"ip", "netns", "add", h.namespace()},
			{"ip", "-n", n.name, "link", "add", port, "type", "veth", "peer", "name", Interface, "netns", h.namespace()},
			{"ip", "-n", n.name, "link", "set", port, "master", "br0", "up"},
			{"ip", "-n", h.namespace(), "address", "add", netip.PrefixFrom(h.Address, subnet.Bits()).String(), "dev", Interface},
			{"ip", "-n", h.namespace(), "address", "add", fmt.Sprintf("2001:db8::%x/64", i+1), "dev", Interface, "nodad"},
			{"ip", "-n", h.namespace(), "link", "set", "lo", "up"},
		} {
			if err := run(ctx, args[0], args[1:]...); err != nil {
				return n, err
			}
		}
		if err := h.Up(ctx); err != nil {
			return n, err
		}
	}
	return n, nil
}

// Close takes the network away. What still runs in it loses it.
func (n *Network) Close() error {
	var problems []error
	for _, h := range n.hosts {
		problems = append(problems, run(context.Background(), "ip", "netns", "delete", h.namespace()))
	}
	return errors.Join(append(problems, run(context.Background(), "ip", "netns", "delete", n.name))...)
}

// Join gives a host of this network a second interface in another one, of this name
// and with this address, and has it pass packets on between the two.
func (n *Network) Join(ctx context.Context, host string, other *Network, ifname string, address netip.Prefix) error {
	h := n.hosts[host]
	port := "join" + strconv.FormatInt(taps.Add(1), 10)
	for _, args := range [][]string{
		{"ip", "-n", other.name, "link", "add", port, "type", "veth", "peer", "name", ifname, "netns", h.namespace()},
		{"ip", "-n", other.name, "link", "set", port, "master", "br0", "up"},
		{"ip", "-n", h.namespace(), "address", "add", address.String(), "dev", ifname},
		{"ip", "-n", h.namespace(), "link", "set", ifname, "up"},
		{"ip", "netns", "exec", h.namespace(), "sysctl", "-q", "-w", "net.ipv4.ip_forward=1"},
	} {
		if err := run(ctx, args[0], args[1:]...); err != nil {
			return err
		}
	}
	return nil
}

// Route sends what is for a subnet by way of another host.
func (h *Host) Route(ctx context.Context, subnet netip.Prefix, by netip.Addr) error {
	return h.do(ctx, "ip", "route", "add", subnet.String(), "via", by.String())
}

// Host is the host with that name.
func (n *Network) Host(name string) *Host { return n.hosts[name] }

func (n *Network) in(ctx context.Context, args ...string) error {
	return run(ctx, "ip", append([]string{"netns", "exec", n.name}, args...)...)
}

func (h *Host) namespace() string { return h.network.name + "-" + h.Name }

// Command is a program that runs on the host.
func (h *Host) Command(ctx context.Context, name string, args ...string) *exec.Cmd {
	return exec.CommandContext(ctx, "ip", append([]string{"netns", "exec", h.namespace(), name}, args...)...)
}

func (h *Host) do(ctx context.Context, args ...string) error {
	return run(ctx, "ip", append([]string{"netns", "exec", h.namespace()}, args...)...)
}

// Up switches the host's interface on; multicast goes there.
func (h *Host) Up(ctx context.Context) error {
	return errors.Join(h.do(ctx, "ip", "link", "set", Interface, "up"), h.do(ctx, "ip", "route", "replace", "224.0.0.0/4", "dev", Interface))
}

// Down switches it off.
func (h *Host) Down(ctx context.Context) error {
	return h.do(ctx, "ip", "link", "set", Interface, "down")
}

// MTU sets the longest packet of the interface, in bytes.
func (h *Host) MTU(ctx context.Context, bytes int) error {
	return h.do(ctx, "ip", "link", "set", Interface, "mtu", strconv.Itoa(bytes))
}

// Rate bounds what the host sends, in bits a second.
func (h *Host) Rate(ctx context.Context, bits float64) error { return h.RateOf(ctx, Interface, bits) }

// RateOf bounds what the host sends by one of its interfaces, in bits a second.
func (h *Host) RateOf(ctx context.Context, ifname string, bits float64) error {
	return h.do(ctx, "tc", "qdisc", "replace", "dev", ifname, "root", "tbf", "rate", fmt.Sprintf("%.0fbit", bits), "burst", "256k", "latency", "100ms")
}

// OneByOne has packets leave the host one by one, as they are on a wire: between namespaces
// they would stay together as the sender has handed them over, and be lost together.
func (h *Host) OneByOne(ctx context.Context) error {
	return h.do(ctx, "ip", "link", "set", Interface, "gso_max_segs", "1")
}

// Lose makes the host lose this share of the multicast packets that come.
func (h *Host) Lose(ctx context.Context, share float64) error {
	some := fmt.Sprintf("numgen random mod 10000 < %.0f ", share*10000)
	if share >= 1 {
		some = ""
	}
	return errors.Join(
		h.do(ctx, "nft", "add table ip loss; flush table ip loss"),
		h.do(ctx, "nft", "add chain ip loss in { type filter hook input priority 0; }"),
		h.do(ctx, "nft", "add rule ip loss in ip daddr 224.0.0.0/4 "+some+"drop"))
}

// Cut has the host pass no packets on any more, and end connections that others send over it; Mend ends that.
func (h *Host) Cut(ctx context.Context) error {
	return errors.Join(
		h.do(ctx, "nft", "add table ip cut; flush table ip cut"),
		h.do(ctx, "nft", "add chain ip cut forward { type filter hook forward priority 0; }"),
		h.do(ctx, "nft", "add rule ip cut forward meta l4proto tcp reject with tcp reset"),
		h.do(ctx, "nft", "add rule ip cut forward drop"))
}

// Mend has the host pass packets on again.
func (h *Host) Mend(ctx context.Context) error { return h.do(ctx, "nft", "delete table ip cut") }

// Sent is how many bytes the interface has sent, headers included.
func (h *Host) Sent(ctx context.Context) (int64, error) { return h.counted(ctx, "tx_bytes") }

// Received is how many bytes have come to the interface, headers included.
func (h *Host) Received(ctx context.Context) (int64, error) { return h.counted(ctx, "rx_bytes") }

func (h *Host) counted(ctx context.Context, what string) (int64, error) {
	out, err := h.Command(ctx, "cat", "/sys/class/net/"+Interface+"/statistics/"+what).Output()
	if err != nil {
		return 0, fmt.Errorf("count the bytes of %s: %w", h.Name, err)
	}
	return strconv.ParseInt(strings.TrimSpace(string(out)), 10, 64)
}

// Dial connects from the host, for a client of its own process.
func (h *Host) Dial(ctx context.Context, network, address string) (conn net.Conn, err error) {
	err = h.Inside(func() error {
		var d net.Dialer
		conn, err = d.DialContext(ctx, network, address)
		return err
	})
	return conn, err
}

// Inside calls do with the calling thread in the host's namespace: sockets that
// it opens belong there.
func (h *Host) Inside(do func() error) error {
	done := make(chan error)
	go func() {
		runtime.LockOSThread() // never unlocked: the thread ends with the goroutine
		f, err := os.Open("/run/netns/" + h.namespace())
		if err == nil {
			defer f.Close()
			err = unix.Setns(int(f.Fd()), unix.CLONE_NEWNET)
		}
		if err == nil {
			err = do()
		}
		done <- err
	}()
	return <-done
}

func run(ctx context.Context, name string, args ...string) error {
	out, err := exec.CommandContext(ctx, name, args...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("%s %s: %w: %s", name, strings.Join(args, " "), err, bytes.TrimSpace(out))
	}
	return nil
}
