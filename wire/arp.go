package wire

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

// AddressInUse asks on a link whether somebody has an address, or is about to take it (RFC 5227, 2.1.1). Behind a relay agent ARP
// does not reach, and the answer is no. An error says that it could not be asked.
func AddressInUse(ctx context.Context, ifname string, a netip.Addr, wait time.Duration) (bool, error) {
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
		sender, has, wants, ok := readARP(buf[:n])
		if ok && !bytes.Equal(sender, link.HardwareAddr) && (has == a || has.IsUnspecified() && wants == a) {
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

// readARP is who sent an ARP frame, the address that it has, and the one that it asks for.
func readARP(b []byte) (sender net.HardwareAddr, has, wants netip.Addr, ok bool) {
	const head = 14
	if len(b) < head+arpLength || !bytes.Equal(b[head:head+6], []byte{0, 1, 8, 0, 6, 4}) {
		return nil, has, wants, false
	}
	has, _ = netip.AddrFromSlice(b[head+14 : head+18])
	wants, _ = netip.AddrFromSlice(b[head+24 : head+28])
	return net.HardwareAddr(b[head+8 : head+14]), has, wants, true
}
