package boot

import (
	"bytes"
	"errors"
	"net"

	"github.com/insomniacslk/dhcp/dhcpv4/server4"

	"jugate/core/hwaddr"
)

// wakePort is the discard port (RFC 863): a machine that is awake ignores the packet.
const wakePort = 9

// wakePacket is what a sleeping network card looks for: six bytes of ones, and its
// hardware address sixteen times.
func wakePacket(a hwaddr.Address) []byte {
	return append(bytes.Repeat([]byte{0xff}, 6), bytes.Repeat(a[:], 16)...)
}

// Wake switches a machine on, if its firmware allows that: the packet goes to all on
// an interface. An empty name leaves the interface to the system's routes.
func Wake(ifname string, a hwaddr.Address) error {
	c, err := server4.NewIPv4UDPConn(ifname, &net.UDPAddr{})
	if err != nil {
		return err
	}
	_, err = c.WriteTo(wakePacket(a), &net.UDPAddr{IP: net.IPv4bcast, Port: wakePort})
	return errors.Join(err, c.Close())
}
