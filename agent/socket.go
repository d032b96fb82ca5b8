package agent

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"syscall"
	"time"

	"golang.org/x/net/ipv4"
	"golang.org/x/sys/unix"
)

// receiveBuffer is what the kernel may hold for us between two reads, in bytes.
const receiveBuffer = 8 << 20

// ListenMulticast joins a group on the named interface; without a name the
// system's routes choose. Several agents on one machine can listen to one group.
func ListenMulticast(group netip.AddrPort, interfaceName string) (PacketReader, error) {
	if !group.Addr().Is4() || !group.Addr().IsMulticast() {
		return nil, fmt.Errorf("%s is no IPv4 multicast address", group.Addr())
	}
	var ifi *net.Interface
	if interfaceName != "" {
		var err error
		if ifi, err = net.InterfaceByName(interfaceName); err != nil {
			return nil, fmt.Errorf("multicast interface %q: %w", interfaceName, err)
		}
	}
	config := net.ListenConfig{Control: func(_, _ string, c syscall.RawConn) error {
		var err error
		return errors.Join(c.Control(func(fd uintptr) {
			// Package net binds to all addresses here, whatever group is given; without
			// the second option the socket would get every group that anyone on this
			// machine has joined.
			err = errors.Join(unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_REUSEADDR, 1),
				unix.SetsockoptInt(int(fd), unix.IPPROTO_IP, unix.IP_MULTICAST_ALL, 0))
			// The larger buffer needs a privilege; without it, what the system grants.
			if unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, receiveBuffer) != nil {
				unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_RCVBUF, receiveBuffer)
			}
		}), err)
	}}
	conn, err := config.ListenPacket(context.Background(), "udp4", group.String())
	if err != nil {
		return nil, fmt.Errorf("listen to %s: %w", group, err)
	}
	p := ipv4.NewPacketConn(conn)
	if err := p.JoinGroup(ifi, &net.UDPAddr{IP: group.Addr().AsSlice()}); err != nil {
		conn.Close()
		return nil, fmt.Errorf("join the multicast group %s: %w", group, err)
	}
	return multicastSocket{p, conn}, nil
}

type multicastSocket struct {
	*ipv4.PacketConn
	conn net.PacketConn
}

func (s multicastSocket) SetReadDeadline(t time.Time) error { return s.conn.SetReadDeadline(t) }

func (s multicastSocket) Close() error { return s.conn.Close() }
