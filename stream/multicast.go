package stream

import (
	"encoding/binary"
	"net/netip"

	"jugate/wire"
)

// Multicast says where streams go.
type Multicast struct {
	// Interface is the name of the network interface; empty leaves the choice
	// to the system's routes.
	Interface string
	// Groups is the range that deliveries take their addresses from, by default
	// 239.255.0.0/24 of the site-local scope (RFC 2365). IPv6 will do, too.
	Groups netip.Prefix
	Port   uint16 // 6003 by default
	TTL    int    // 1 by default; NoTTL stands for 0, which never leaves the machine
	Rate   int64  // bits a second of one stream, 100 Mbit/s by default
	// Ceiling is what all streams together may take, in bits a second; 0 sets none.
	Ceiling int64
}

// NoTTL as Multicast.TTL keeps packets on this machine.
const NoTTL = -1

// Answers is the first of the ports that senders are answered at: those after the port of streams.
func (m *Multicast) Answers() uint16 { return m.Port + 1 }

// SetDefaults fills in what is not set.
func (m *Multicast) SetDefaults() {
	if !m.Groups.IsValid() {
		m.Groups = netip.MustParsePrefix("239.255.0.0/24")
	}
	if m.Port == 0 {
		m.Port = 6003
	}
	if m.TTL == 0 {
		m.TTL = 1
	}
	if m.Rate == 0 {
		m.Rate = 100_000_000
	}
}

// Source is the address that streams come from; empty if that cannot be told.
func (m *Multicast) Source() string {
	a, err := wire.SourceAddress(wire.Config{Group: m.Channel(0), Interface: m.Interface, TTL: m.TTL})
	if err != nil {
		return ""
	}
	return a.String()
}

// Channel is the address of delivery number n: neighbours in time get different
// ones.
func (m *Multicast) Channel(n int64) netip.AddrPort {
	base := m.Groups.Masked().Addr()
	hosts := int64(1) << min(base.BitLen()-m.Groups.Bits(), 31)
	offset := uint32(0)
	if hosts > 2 {
		offset = uint32(1 + n%(hosts-2))
	}
	b := base.AsSlice()
	low := b[len(b)-4:]
	binary.BigEndian.PutUint32(low, binary.BigEndian.Uint32(low)+offset)
	a, _ := netip.AddrFromSlice(b)
	return netip.AddrPortFrom(a, m.Port)
}
