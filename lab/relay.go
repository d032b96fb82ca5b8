package lab

import (
	"context"
	"net"
	"net/netip"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/insomniacslk/dhcp/dhcpv4/server4"
)

// Relay passes DHCP between an interface of the host and a server elsewhere, as a
// router's relay agent does (RFC 2131, 4.1; RFC 3046), until ctx ends.
func (h *Host) Relay(ctx context.Context, ifname string, own netip.Addr, server netip.AddrPort) error {
	var inside, outside *net.UDPConn
	err := h.Inside(func() (err error) {
		if inside, err = server4.NewIPv4UDPConn(ifname, &net.UDPAddr{Port: 67}); err == nil {
			outside, err = server4.NewIPv4UDPConn(Interface, &net.UDPAddr{Port: 67})
		}
		return err
	})
	if err != nil {
		return err
	}
	context.AfterFunc(ctx, func() { inside.Close(); outside.Close() })
	go relay(inside, func(m *dhcpv4.DHCPv4) {
		if m.OpCode != dhcpv4.OpcodeBootRequest {
			return
		}
		m.GatewayIPAddr = own.AsSlice()
		m.HopCount++
		m.UpdateOption(dhcpv4.OptRelayAgentInfo(dhcpv4.OptGeneric(dhcpv4.AgentCircuitIDSubOption, []byte("room 2"))))
		outside.WriteToUDPAddrPort(m.ToBytes(), server)
	})
	go relay(outside, func(m *dhcpv4.DHCPv4) {
		if m.OpCode == dhcpv4.OpcodeBootReply && m.GatewayIPAddr.Equal(own.AsSlice()) {
			m.Options.Del(dhcpv4.OptionRelayAgentInformation)
			inside.WriteTo(m.ToBytes(), &net.UDPAddr{IP: net.IPv4bcast, Port: 68})
		}
	})
	return nil
}

func relay(c *net.UDPConn, pass func(*dhcpv4.DHCPv4)) {
	buf := make([]byte, 4096)
	for {
		n, err := c.Read(buf)
		if err != nil {
			return
		}
		if m, err := dhcpv4.FromBytes(buf[:n]); err == nil {
			pass(m)
		}
	}
}
