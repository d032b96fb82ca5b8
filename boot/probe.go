package boot

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"net"
	"net/netip"
	"os"
	"time"

	"github.com/mdlayher/packet"
)

// An ARP probe (RFC 5227, 2.1.1; RFC 826): who has this address, asked by nobody.
const (
	etherTypeARP = 0x0806
	arpLength    = 28
	arpRequest   = 1
)

var everyone = net.HardwareAddr{0xff, 0xff, 0xff, 0xff, 0xff, 0xff}

// inUse asks on a link whether somebody has an address. Behind a relay agent ARP does
// not reach, and the answer is no. An error says that it could not be asked.
func inUse(ctx context.Context, ifname string, a netip.Addr, wait time.Duration) (bool, error) {
	link, err := net.InterfaceByName(ifname)
	if err != nil {
		return false, err
	}
	c, err := packet.Listen(link, packet.Raw, etherTypeARP, nil)
	if err != nil {
		return false, err
	}
	defer c.Close()
	stop := context.AfterFunc(ctx, func() { c.Close() })
	defer stop()
	if _, err := c.WriteTo(probeFrame(link.HardwareAddr, a), &packet.Addr{HardwareAddr: everyone}); err != nil {
		return false, err
	}
	c.SetReadDeadline(time.Now().Add(wait))
	buf := make([]byte, 1514)
	for {
		n, _, err := c.ReadFrom(buf)
		if errors.Is(err, os.ErrDeadlineExceeded) || ctx.Err() != nil {
			return false, nil
		}
		if err != nil {
			return false, err
		}
		if sender, ip, ok := arpSender(buf[:n]); ok && ip == a && !bytes.Equal(sender, link.HardwareAddr) {
			return true, nil
		}
	}
}

func probeFrame(from net.HardwareAddr, a netip.Addr) []byte {
	b := append(append([]byte{}, everyone...), from...)
	b = binary.BigEndian.AppendUint16(b, etherTypeARP)
	b = append(b, 0, 1, 8, 0, 6, 4, 0, arpRequest) // Ethernet, IPv4
	b = append(append(b, from...), 0, 0, 0, 0)
	return append(append(b, 0, 0, 0, 0, 0, 0), a.AsSlice()...)
}

// arpSender is who sent an ARP frame.
func arpSender(b []byte) (net.HardwareAddr, netip.Addr, bool) {
	const head = 14
	if len(b) < head+arpLength || !bytes.Equal(b[head:head+6], []byte{0, 1, 8, 0, 6, 4}) {
		return nil, netip.Addr{}, false
	}
	ip, _ := netip.AddrFromSlice(b[head+14 : head+18])
	return net.HardwareAddr(b[head+8 : head+14]), ip, true
}
