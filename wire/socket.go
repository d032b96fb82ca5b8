// Package wire is where multicast meets the system: sockets that send and
// receive in batches of system calls, and the loops that drive the state machines
// of package norm with them.
//
//	out, err := wire.Dial(wire.Config{Group: group, Interface: "eth0"})
//	err = wire.Transmit(ctx, out, sender, wire.Source{…})
//
//	in, err := wire.Listen(wire.Config{Group: group, Interface: "eth0"})
//	err = wire.Receive(ctx, in, receiver, func(e norm.ReceiverEvent) error { … })
package wire

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"net"
	"net/netip"
	"slices"
	"syscall"
	"time"

	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"
	"golang.org/x/sys/unix"
)

// Config says where a stream goes, or comes from.
type Config struct {
	Group     netip.AddrPort // a multicast address, IPv4 or IPv6, and port
	Interface string         // network interface; empty leaves the choice to the system's routes
	// TTL is how many networks packets pass; 1 by default, and NoTTL stands for 0,
	// which never leaves the machine.
	TTL int
	// Answers is the first of AnswerPorts ports that a sender is answered at, so that a firewall can let them through; the first that
	// is free is taken, and any if none is. 0 stands for any.
	Answers uint16
}

// AnswerPorts is how many ports a sender tries.
const AnswerPorts = 64

// NoTTL as Config.TTL keeps packets on this machine.
const NoTTL = -1

const (
	// What the kernel may hold for us, in bytes.
	receiveBuffer = 8 << 20
	sendBuffer    = 4 << 20
	// Batch is how many packets one system call takes at the most.
	Batch = 64
	// etherMTU is what ports are sure to carry, whatever the interface here could.
	etherMTU = 1500
	// maxPacket is more than a packet takes, in bytes.
	maxPacket = 2048
	// normHeader is the longest header of a data message.
	normHeader = 32
)

// Message is a packet in a batch.
type Message = ipv4.Message

// batcher is what ipv4.PacketConn and ipv6.PacketConn share.
type batcher interface {
	ReadBatch(ms []Message, flags int) (int, error)
	WriteBatch(ms []Message, flags int) (int, error)
	JoinGroup(ifi *net.Interface, group net.Addr) error
	SetMulticastInterface(ifi *net.Interface) error
	SetMulticastLoopback(on bool) error
}

// Socket is a UDP socket for one group.
type Socket struct {
	batcher
	conn   *net.UDPConn
	config Config
	ifi    *net.Interface // nil if the routes choose
	merged *merged        // nil where packets come one by one
	whole  bool           // packets go out one by one
}

// SourceAddress is the address that packets of such a socket come from.
func SourceAddress(c Config) (netip.Addr, error) {
	s, err := Dial(c)
	if err != nil {
		return netip.Addr{}, err
	}
	defer s.Close()
	raw, err := s.conn.SyscallConn()
	if err != nil {
		return netip.Addr{}, err
	}
	var to unix.Sockaddr
	if a := c.Group.Addr(); a.Is4() {
		to = &unix.SockaddrInet4{Port: int(c.Group.Port()), Addr: a.As4()}
	} else {
		six := &unix.SockaddrInet6{Port: int(c.Group.Port()), Addr: a.As16()}
		if s.ifi != nil {
			six.ZoneId = uint32(s.ifi.Index)
		}
		to = six
	}
	var local unix.Sockaddr
	var failed error
	err = raw.Control(func(fd uintptr) { // the kernel chooses when it is connected
		if failed = unix.Connect(int(fd), to); failed == nil {
			local, failed = unix.Getsockname(int(fd))
		}
	})
	if err = errors.Join(err, failed); err != nil {
		return netip.Addr{}, fmt.Errorf("find the address that %s is sent from: %w", c.Group, err)
	}
	switch l := local.(type) {
	case *unix.SockaddrInet4:
		return netip.AddrFrom4(l.Addr), nil
	case *unix.SockaddrInet6:
		return netip.AddrFrom16(l.Addr), nil
	}
	return netip.Addr{}, errors.New("a socket of another kind")
}

// Dial opens a socket to send to a group from a port of its own, where receivers
// can answer.
func Dial(c Config) (*Socket, error) { return open(c, false) }

// Listen opens a socket that has joined the group. Several on one machine can
// listen to one group.
func Listen(c Config) (*Socket, error) { return open(c, true) }

func open(c Config, join bool) (*Socket, error) {
	if !c.Group.Addr().IsMulticast() {
		return nil, fmt.Errorf("%s is not a multicast address", c.Group.Addr())
	}
	s := &Socket{config: c}
	if c.Interface != "" {
		var err error
		if s.ifi, err = net.InterfaceByName(c.Interface); err != nil {
			return nil, fmt.Errorf("multicast interface %q: %w", c.Interface, err)
		}
	}
	four := c.Group.Addr().Is4()
	network, local := "udp6", netip.IPv6Unspecified()
	if four {
		network, local = "udp4", netip.IPv4Unspecified()
	}
	config := net.ListenConfig{Control: func(_, _ string, raw syscall.RawConn) error {
		var err error
		return errors.Join(raw.Control(func(fd uintptr) { err = setOptions(int(fd), four, join) }), err)
	}}
	var conn net.PacketConn
	err := errors.New("no port")
	for _, port := range c.ports(join) {
		if conn, err = config.ListenPacket(context.Background(), network, netip.AddrPortFrom(local, port).String()); err == nil {
			break
		}
	}
	if err != nil {
		return nil, fmt.Errorf("open a socket for %s: %w", c.Group, err)
	}
	s.conn = conn.(*net.UDPConn)
	if four {
		s.batcher = ipv4.NewPacketConn(conn)
	} else {
		s.batcher = ipv6.NewPacketConn(conn)
	}
	if err := s.setUp(join); err != nil {
		conn.Close()
		return nil, err
	}
	return s, nil
}

// ports are those that the socket may have, in the order in which they are tried; 0 is any.
func (c Config) ports(join bool) (ports []uint16) {
	if join {
		return []uint16{c.Group.Port()}
	}
	if c.Answers != 0 {
		for port := int(c.Answers); port < int(c.Answers)+AnswerPorts && port <= math.MaxUint16; port++ {
			ports = append(ports, uint16(port))
		}
	}
	return append(ports, 0)
}

func setOptions(fd int, four, join bool) (err error) {
	// The larger buffers need a privilege; without it, what the system grants.
	larger := func(force, plain, size int) {
		if unix.SetsockoptInt(fd, unix.SOL_SOCKET, force, size) != nil {
			unix.SetsockoptInt(fd, unix.SOL_SOCKET, plain, size)
		}
	}
	larger(unix.SO_RCVBUFFORCE, unix.SO_RCVBUF, receiveBuffer)
	larger(unix.SO_SNDBUFFORCE, unix.SO_SNDBUF, sendBuffer)
	if join {
		// Without the second option the socket would get every group that anyone on
		// this machine has joined.
		err = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_REUSEADDR, 1)
		if four {
			return errors.Join(err, unix.SetsockoptInt(fd, unix.IPPROTO_IP, unix.IP_MULTICAST_ALL, 0))
		}
		return errors.Join(err, unix.SetsockoptInt(fd, unix.IPPROTO_IPV6, unix.IPV6_MULTICAST_ALL, 0))
	}
	// Packets are never cut: one that is too long is an error here, not a loss there.
	if four {
		return unix.SetsockoptInt(fd, unix.IPPROTO_IP, unix.IP_MTU_DISCOVER, unix.IP_PMTUDISC_DO)
	}
	return unix.SetsockoptInt(fd, unix.IPPROTO_IPV6, unix.IPV6_MTU_DISCOVER, unix.IPV6_PMTUDISC_DO)
}

func (s *Socket) setUp(join bool) error {
	if s.ifi != nil {
		if err := s.SetMulticastInterface(s.ifi); err != nil {
			return fmt.Errorf("multicast on interface %q: %w", s.config.Interface, err)
		}
	}
	ttl := s.config.TTL
	switch ttl {
	case 0:
		ttl = 1
	case NoTTL:
		ttl = 0
	}
	var err error
	switch p := s.batcher.(type) {
	case *ipv4.PacketConn:
		err = p.SetMulticastTTL(ttl)
	case *ipv6.PacketConn:
		err = p.SetMulticastHopLimit(ttl)
	}
	if err = errors.Join(err, s.SetMulticastLoopback(s.ifi == nil || s.ifi.Flags&net.FlagLoopback != 0)); err != nil {
		return fmt.Errorf("set up multicast: %w", err)
	}
	if join {
		raw, err := s.conn.SyscallConn()
		if err == nil {
			err = raw.Control(func(fd uintptr) { s.merged = merge(int(fd)) })
		}
		if err != nil {
			return err
		}
		if err := s.JoinGroup(s.ifi, &net.UDPAddr{IP: s.config.Group.Addr().AsSlice()}); err != nil {
			return fmt.Errorf("join the multicast group %s: %w", s.config.Group, err)
		}
	}
	return nil
}

// Close closes the socket.
func (s *Socket) Close() error { return s.conn.Close() }

// SetReadDeadline bounds the next ReadBatch.
func (s *Socket) SetReadDeadline(t time.Time) error { return s.conn.SetReadDeadline(t) }

// Buffer is how many bytes the system holds of what has come and nobody has read yet; the kernel counts its own room for packets, too.
func (s *Socket) Buffer() (bytes int, err error) {
	raw, err := s.conn.SyscallConn()
	if err != nil {
		return 0, err
	}
	failed := raw.Control(func(fd uintptr) { bytes, err = unix.GetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_RCVBUF) })
	return bytes, errors.Join(failed, err)
}

// Local is the address that answers come to.
func (s *Socket) Local() netip.AddrPort { return s.conn.LocalAddr().(*net.UDPAddr).AddrPort() }

// SymbolSize is how many bytes of payload fill a packet on this socket's
// interface.
func (s *Socket) SymbolSize() int {
	mtu := etherMTU
	if s.ifi != nil {
		mtu = min(mtu, s.ifi.MTU)
	}
	return mtu - s.Overhead() - normHeader
}

// Overhead is what IP and UDP add to a packet, in bytes.
func (s *Socket) Overhead() int {
	if s.config.Group.Addr().Is4() {
		return 28
	}
	return 48
}

// to makes the address for a batch; one that is not valid stands for the group.
func (s *Socket) to(a netip.AddrPort) *net.UDPAddr {
	if !a.IsValid() {
		a = s.config.Group
	}
	u := net.UDPAddrFromAddrPort(a)
	if u.IP.IsLinkLocalMulticast() || u.IP.IsLinkLocalUnicast() || u.IP.IsInterfaceLocalMulticast() {
		if s.ifi != nil && a.Addr().Is6() {
			u.Zone = s.ifi.Name
		}
	}
	return u
}

// write sends packets to the group. A card whose queue is full is waited for, and so is an
// interface that is down; away is told about the latter.
func (s *Socket) write(ctx context.Context, packets [][]byte, away func(error)) error {
	pause := 50 * time.Millisecond
	messages := s.messages(packets)
	for len(messages) > 0 {
		n, err := s.WriteBatch(messages, 0)
		wait := time.Duration(0)
		first := messages[0]
		switch {
		case err == nil:
			messages = messages[n:]
		case len(first.OOB) > 0 && cannotCut(err):
			s.whole = true
			messages = s.uncut(messages)
		case errors.Is(err, syscall.ENOBUFS), errors.Is(err, syscall.EAGAIN):
			wait = time.Millisecond
		case errors.Is(err, syscall.EMSGSIZE):
			return &TooLongError{Bytes: len(first.Buffers[0]) + s.Overhead(), Interface: s.config.Interface}
		case errors.Is(err, syscall.ENETDOWN), errors.Is(err, syscall.ENETUNREACH), errors.Is(err, syscall.EHOSTUNREACH),
			errors.Is(err, syscall.ENODEV), errors.Is(err, syscall.EADDRNOTAVAIL):
			away(fmt.Errorf("the network interface %s is down: %w", s.config.Interface, err))
			wait, pause = pause, min(2*pause, time.Second)
		case errors.Is(err, syscall.EPERM), errors.Is(err, syscall.ECONNREFUSED):
			messages = messages[1:] // a filter's, or an answer to an earlier packet
		default:
			return fmt.Errorf("send to %s: %w", first.Addr, err)
		}
		if wait > 0 {
			select {
			case <-time.After(wait):
			case <-ctx.Done():
				return ctx.Err()
			}
		}
	}
	return nil
}

// messages are what the kernel is given for packets to the group.
func (s *Socket) messages(packets [][]byte) []Message {
	group := s.Destination()
	var all []Message
	if s.whole {
		for _, p := range packets {
			all = append(all, Message{Buffers: [][]byte{p}, Addr: group})
		}
		return all
	}
	for _, p := range pieces(packets) {
		m := Message{Buffers: [][]byte{p.bytes}, Addr: group}
		if len(p.bytes) > p.size {
			m.OOB = segment(p.size)
		}
		all = append(all, m)
	}
	return all
}

// uncut are the same packets one by one.
func (s *Socket) uncut(messages []Message) []Message {
	var packets [][]byte
	for _, m := range messages {
		size := len(m.Buffers[0])
		if len(m.OOB) > 0 {
			size = int(binary.NativeEndian.Uint16(m.OOB[unix.CmsgLen(0):]))
		}
		packets = slices.AppendSeq(packets, slices.Chunk(m.Buffers[0], size))
	}
	return s.messages(packets)
}

// Send sends a packet to the group. While the interface is down it waits.
func (s *Socket) Send(ctx context.Context, b []byte) error {
	return s.write(ctx, [][]byte{b}, func(error) {})
}

// TooLongError says that packets do not fit through an interface.
type TooLongError struct {
	Bytes     int // with headers
	Interface string
}

func (e *TooLongError) Error() string {
	mtu := "?"
	if i, err := net.InterfaceByName(e.Interface); err == nil {
		mtu = fmt.Sprint(i.MTU)
	}
	return fmt.Sprintf("packets of %d bytes do not fit through interface %s, whose MTU is %s; choose smaller symbols or mend the MTU", e.Bytes, e.Interface, mtu)
}
