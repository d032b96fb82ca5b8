package netboot_test

import (
	"encoding/binary"
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/hwaddr"
	"jugate/core/netboot"
)

var (
	herb  = hwaddr.MustParse("00:00:5e:00:53:11")
	other = hwaddr.MustParse("00:00:5e:00:53:12")
	noon  = time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)
	lan   = netboot.Link{Name: "eth0", Mode: netboot.Whole, Server: netip.MustParseAddr("192.0.2.1"), HTTP: "http://192.0.2.1:7460"}
)

func addr(s string) netip.Addr { return netip.MustParseAddr(s) }

// firmware is a request as firmware of an architecture sends it.
func firmware(t *testing.T, hw hwaddr.Address, kind dhcpv4.MessageType, class string, arch uint16, mods ...dhcpv4.Modifier) *dhcpv4.DHCPv4 {
	t.Helper()
	m, err := dhcpv4.New(append([]dhcpv4.Modifier{
		dhcpv4.WithHwAddr(hw[:]), dhcpv4.WithMessageType(kind), dhcpv4.WithBroadcast(true),
		dhcpv4.WithOption(dhcpv4.OptClassIdentifier(class)),
		dhcpv4.WithGeneric(dhcpv4.OptionClientSystemArchitectureType, binary.BigEndian.AppendUint16(nil, arch)),
		dhcpv4.WithGeneric(dhcpv4.OptionClientMachineIdentifier, append([]byte{0}, make([]byte, 16)...)),
	}, mods...)...)
	require.NoError(t, err)
	// Over the wire and back, so that what is tested is what is sent.
	m, err = dhcpv4.FromBytes(m.ToBytes())
	require.NoError(t, err)
	return m
}

func desk(t *testing.T, mode netboot.Mode) *netboot.Desk {
	pool, err := netboot.NewPool(netboot.PoolConfig{Prefix: netip.MustParsePrefix("192.0.2.0/24"), From: addr("192.0.2.100"), To: addr("192.0.2.102"), Router: addr("192.0.2.1")}, nil, nil)
	require.NoError(t, err)
	far, err := netboot.NewPool(netboot.PoolConfig{Prefix: netip.MustParsePrefix("198.51.100.0/24"), From: addr("198.51.100.10"), To: addr("198.51.100.20")}, nil, nil)
	require.NoError(t, err)
	link := lan
	link.Mode = mode
	return &netboot.Desk{Link: link, Pools: []*netboot.Pool{pool, far}}
}

func TestEachArchitectureGetsItsLoader(t *testing.T) {
	for _, c := range []struct {
		class string
		arch  uint16
		file  string
		back  string // option 60 of the reply
	}{
		{"PXEClient:Arch:00000:UNDI:002001", 0, "bios.0", "PXEClient"},
		{"PXEClient:Arch:00007:UNDI:003016", 7, "plainx64.efi", "PXEClient"},
		{"PXEClient:Arch:00009:UNDI:003016", 9, "plainx64.efi", "PXEClient"},
		{"HTTPClient:Arch:00016:UNDI:003001", 16, "http://192.0.2.1:7460/boot/files/plainx64.efi", "HTTPClient"},
	} {
		d := desk(t, netboot.Beside)
		o, err := d.Handle(noon, netboot.DHCPPort, firmware(t, herb, dhcpv4.MessageTypeDiscover, c.class, c.arch), netboot.Facts{})
		require.NoError(t, err)
		require.NotNil(t, o.Reply, c.class)
		m := o.Reply.Message
		assert.Equal(t, dhcpv4.MessageTypeOffer, m.MessageType())
		assert.Equal(t, c.file, m.BootFileNameOption(), c.class)
		assert.Equal(t, c.back, m.ClassIdentifier())
		assert.True(t, m.YourIPAddr.IsUnspecified(), "the address is another server's")
		assert.Equal(t, "192.0.2.1", m.ServerIdentifier().String())
		assert.Equal(t, "192.0.2.1", m.ServerIPAddr.String())
		assert.Equal(t, netip.MustParseAddrPort("255.255.255.255:68"), o.Reply.To)
		if c.back == "PXEClient" {
			assert.Equal(t, c.file, m.BootFileName, "in the header, too")
			assert.Equal(t, []byte{6, 1, 8, 255}, m.Options.Get(dhcpv4.OptionVendorSpecificInformation))
			assert.Len(t, m.Options.Get(dhcpv4.OptionClientMachineIdentifier), 17)
		}
	}
	t.Log("# firmware that loads by HTTP can be given a disc, and no other")
	for arch, want := range map[uint16]string{16: "http://192.0.2.1:7460/boot/files/entry/abc/disc.iso", 7: "plainx64.efi"} {
		class := map[uint16]string{16: "HTTPClient", 7: "PXEClient"}[arch]
		o, err := desk(t, netboot.Beside).Handle(noon, netboot.DHCPPort, firmware(t, herb, dhcpv4.MessageTypeDiscover, class, arch), netboot.Facts{Disc: "entry/abc/disc.iso"})
		require.NoError(t, err)
		require.NotNil(t, o.Reply)
		assert.Equal(t, want, o.Reply.Message.BootFileNameOption())
	}
	o, err := desk(t, netboot.Beside).Handle(noon, netboot.DHCPPort, firmware(t, herb, dhcpv4.MessageTypeDiscover, "PXEClient:Arch:00011", 11), netboot.Facts{})
	require.NoError(t, err)
	assert.Nil(t, o.Reply)
	assert.Equal(t, "there is no loader for UEFI arm64", o.Why)
}

func TestBesideAnotherServer(t *testing.T) {
	d := desk(t, netboot.Beside)
	t.Log("# an operating system that wants an address is not ours")
	m, err := dhcpv4.NewDiscovery(herb[:])
	require.NoError(t, err)
	o, err := d.Handle(noon, netboot.DHCPPort, m, netboot.Facts{})
	require.NoError(t, err)
	assert.Nil(t, o.Reply)
	t.Log("# its request to the other server tells which address it takes")
	m = firmware(t, herb, dhcpv4.MessageTypeRequest, "PXEClient", 7, dhcpv4.WithOption(dhcpv4.OptRequestedIPAddress(net.IPv4(192, 0, 2, 77))))
	o, err = d.Handle(noon, netboot.DHCPPort, m, netboot.Facts{})
	require.NoError(t, err)
	assert.Nil(t, o.Reply)
	assert.Equal(t, addr("192.0.2.77"), o.Heard)
	t.Log("# then it asks at the port for that, by its own address")
	m = firmware(t, herb, dhcpv4.MessageTypeRequest, "PXEClient", 7, dhcpv4.WithClientIP(net.IPv4(192, 0, 2, 77)))
	o, err = d.Handle(noon, netboot.PXEPort, m, netboot.Facts{})
	require.NoError(t, err)
	require.NotNil(t, o.Reply)
	assert.Equal(t, dhcpv4.MessageTypeAck, o.Reply.Message.MessageType())
	assert.Equal(t, netip.MustParseAddrPort("192.0.2.77:4011"), o.Reply.To)
	assert.Equal(t, "plainx64.efi", o.Reply.Message.BootFileNameOption())
	t.Log("# one that Secure Boot keeps from that gets the signed loader")
	o, err = d.Handle(noon, netboot.PXEPort, m, netboot.Facts{Signed: true})
	require.NoError(t, err)
	assert.Equal(t, "shimx64.efi", o.Reply.Message.BootFileNameOption())
}

// here names this server in a message.
var here = dhcpv4.WithOption(dhcpv4.OptServerIdentifier(net.IPv4(192, 0, 2, 1)))

// lease brings a machine through the whole exchange.
func lease(t *testing.T, d *netboot.Desk, hw hwaddr.Address, now time.Time, mods ...dhcpv4.Modifier) (netip.Addr, netboot.Outcome) {
	t.Helper()
	o, err := d.Handle(now, netboot.DHCPPort, firmware(t, hw, dhcpv4.MessageTypeDiscover, "PXEClient", 7, mods...), netboot.Facts{})
	require.NoError(t, err)
	for o.Probe != nil {
		o, err = d.Probed(now, o.Probe, false)
		require.NoError(t, err)
	}
	require.NotNil(t, o.Reply, o.Why)
	given := o.Reply.Message.YourIPAddr
	mods = append(mods, dhcpv4.WithOption(dhcpv4.OptRequestedIPAddress(given)), dhcpv4.WithOption(dhcpv4.OptServerIdentifier(net.IPv4(192, 0, 2, 1))))
	o, err = d.Handle(now, netboot.DHCPPort, firmware(t, hw, dhcpv4.MessageTypeRequest, "PXEClient", 7, mods...), netboot.Facts{})
	require.NoError(t, err)
	a, _ := netip.AddrFromSlice(given.To4())
	return a, o
}

func TestWholeGivesAddresses(t *testing.T) {
	d := desk(t, netboot.Whole)
	a, o := lease(t, d, herb, noon)
	assert.Equal(t, addr("192.0.2.100"), a)
	require.NotNil(t, o.Reply)
	m := o.Reply.Message
	assert.Equal(t, dhcpv4.MessageTypeAck, m.MessageType())
	assert.Equal(t, "ffffff00", m.SubnetMask().String())
	assert.Equal(t, time.Hour, m.IPAddressLeaseTime(0))
	assert.Equal(t, "192.0.2.1", m.Router()[0].String())
	assert.Equal(t, "shimx64.efi", m.BootFileNameOption())
	require.NotNil(t, o.Lease)
	assert.Equal(t, netboot.Lease{Address: a, Holder: netboot.Holder{Hardware: herb}, Until: noon.Add(time.Hour)}, *o.Lease)

	t.Log("# the same machine gets the same again, another one the next")
	again, _ := lease(t, d, herb, noon.Add(2*time.Hour))
	assert.Equal(t, a, again)
	next, _ := lease(t, d, other, noon)
	assert.Equal(t, addr("192.0.2.101"), next)

	t.Log("# behind a relay agent it is an address of that subnet, and its words go back")
	far, o := lease(t, d, other, noon, dhcpv4.WithRelay(net.IPv4(198, 51, 100, 1)), dhcpv4.WithOption(dhcpv4.OptRelayAgentInfo(dhcpv4.OptGeneric(dhcpv4.AgentCircuitIDSubOption, []byte("room 2")))))
	assert.Equal(t, addr("198.51.100.10"), far)
	assert.Equal(t, netip.MustParseAddrPort("198.51.100.1:67"), o.Reply.To)
	assert.Equal(t, "room 2", string(o.Reply.Message.RelayAgentInfo().Get(dhcpv4.AgentCircuitIDSubOption)))
	raw := o.Reply.Message.ToBytes()
	assert.Equal(t, byte(dhcpv4.OptionRelayAgentInformation), raw[len(raw)-11], "the last option before the end")
}

func TestWhatWholeRefuses(t *testing.T) {
	d := desk(t, netboot.Whole)
	t.Log("# the offer of another server was taken: nothing to say")
	o, err := d.Handle(noon, netboot.DHCPPort, firmware(t, herb, dhcpv4.MessageTypeRequest, "PXEClient", 7,
		dhcpv4.WithOption(dhcpv4.OptServerIdentifier(net.IPv4(192, 0, 2, 9))), dhcpv4.WithOption(dhcpv4.OptRequestedIPAddress(net.IPv4(192, 0, 2, 200)))), netboot.Facts{})
	require.NoError(t, err)
	assert.Nil(t, o.Reply)
	assert.Contains(t, o.Why, "192.0.2.9")
	t.Log("# an address that is not ours to give: no")
	o, err = d.Handle(noon, netboot.DHCPPort, firmware(t, herb, dhcpv4.MessageTypeRequest, "", 7, dhcpv4.WithOption(dhcpv4.OptRequestedIPAddress(net.IPv4(203, 0, 113, 5)))), netboot.Facts{})
	require.NoError(t, err)
	require.NotNil(t, o.Reply)
	assert.Equal(t, dhcpv4.MessageTypeNak, o.Reply.Message.MessageType())
	t.Log("# somebody uses addresses that were not given here: they are left alone")
	o, err = d.Handle(noon, netboot.DHCPPort, firmware(t, herb, dhcpv4.MessageTypeDiscover, "PXEClient", 7), netboot.Facts{})
	require.NoError(t, err)
	require.NotNil(t, o.Probe)
	o, err = d.Probed(noon, o.Probe, true)
	require.NoError(t, err)
	require.NotNil(t, o.Probe)
	require.NotNil(t, o.Lease)
	assert.True(t, o.Lease.Hardware.IsZero())
	assert.Equal(t, addr("192.0.2.101"), o.Probe.Address)
	t.Log("# and when all are in use, nothing is offered, and it is said")
	o, err = d.Probed(noon, o.Probe, true)
	require.NoError(t, err)
	o, err = d.Probed(noon, o.Probe, true)
	require.NoError(t, err)
	assert.Nil(t, o.Reply)
	assert.Contains(t, o.Why, "all addresses of the pool are in use")
	left, of := d.Pools[0].Left(noon)
	assert.Equal(t, []int{0, 3}, []int{left, of})
	t.Log("# a machine that is not to be served hears nothing")
	o, err = d.Handle(noon, netboot.DHCPPort, firmware(t, herb, dhcpv4.MessageTypeDiscover, "PXEClient", 7), netboot.Facts{Refused: "unknown"})
	require.NoError(t, err)
	assert.Nil(t, o.Reply)
	assert.Equal(t, "unknown", o.Why)
}

func TestReleaseDeclineAndFixedAddresses(t *testing.T) {
	d := desk(t, netboot.Whole)
	a, _ := lease(t, d, herb, noon)
	o, err := d.Handle(noon, netboot.DHCPPort, firmware(t, herb, dhcpv4.MessageTypeRelease, "", 7, dhcpv4.WithClientIP(a.AsSlice()), here), netboot.Facts{})
	require.NoError(t, err)
	require.NotNil(t, o.Lease)
	assert.Equal(t, noon, o.Lease.Until)
	o, err = d.Handle(noon, netboot.DHCPPort, firmware(t, herb, dhcpv4.MessageTypeDecline, "", 7, dhcpv4.WithOption(dhcpv4.OptRequestedIPAddress(a.AsSlice())), here), netboot.Facts{})
	require.NoError(t, err)
	assert.True(t, o.Lease.Hardware.IsZero())

	fixed := addr("192.0.2.50") // outside the range
	d.Pools[0].Fix(map[netip.Addr][]hwaddr.Address{fixed: {other, herb}, addr("192.0.2.101"): {hwaddr.MustParse("00:00:5e:00:53:77")}})
	got, _ := lease(t, d, herb, noon)
	assert.Equal(t, fixed, got)
	next, _ := lease(t, d, hwaddr.MustParse("00:00:5e:00:53:13"), noon)
	assert.Equal(t, addr("192.0.2.102"), next, "100 is in use by somebody, 101 belongs to somebody")
}

func TestAPoolRemembers(t *testing.T) {
	c := netboot.PoolConfig{Prefix: netip.MustParsePrefix("192.0.2.0/24"), From: addr("192.0.2.100"), To: addr("192.0.2.101")}
	p, err := netboot.NewPool(c, []netboot.Lease{{Address: addr("192.0.2.101"), Holder: netboot.Holder{Hardware: herb}, Until: noon.Add(-time.Hour)}}, nil)
	require.NoError(t, err)
	a, probe, err := p.Pick(noon, netboot.Holder{Hardware: herb}, netip.Addr{})
	require.NoError(t, err)
	assert.Equal(t, addr("192.0.2.101"), a, "it had that before")
	assert.True(t, probe, "but not lately")
	for _, bad := range []netboot.PoolConfig{{}, {Prefix: c.Prefix, From: c.To, To: c.From}, {Prefix: c.Prefix, From: c.From, To: addr("198.51.100.1")}} {
		_, err := netboot.NewPool(bad, nil, nil)
		assert.Error(t, err)
	}
}

func TestAdviceIsWhatIsServed(t *testing.T) {
	for _, a := range netboot.Advise(lan) {
		last := a.Options[len(a.Options)-1]
		assert.Equal(t, 67, last.Code)
		if a.Arch.HTTP() {
			assert.Equal(t, lan.HTTP+netboot.FilesPath+a.Arch.Loader(), last.Value)
		} else {
			assert.Equal(t, a.Arch.Loader(), last.Value)
		}
	}
}

func FuzzHandle(f *testing.F) {
	m, err := dhcpv4.NewDiscovery(herb[:], dhcpv4.WithOption(dhcpv4.OptClassIdentifier("PXEClient")))
	require.NoError(f, err)
	f.Add(m.ToBytes(), true, uint16(67))
	f.Add(m.ToBytes()[:200], false, uint16(4011))
	f.Fuzz(func(t *testing.T, b []byte, whole bool, port uint16) {
		m, err := dhcpv4.FromBytes(b)
		if err != nil {
			return
		}
		mode := netboot.Beside
		if whole {
			mode = netboot.Whole
		}
		d := desk(t, mode)
		o, err := d.Handle(noon, int(port), m, netboot.Facts{})
		for n := 0; err == nil && o.Probe != nil; n++ {
			require.Less(t, n, 10)
			o, err = d.Probed(noon, o.Probe, n%2 == 0)
		}
		if err == nil && o.Reply != nil {
			_, err := dhcpv4.FromBytes(o.Reply.Message.ToBytes())
			assert.NoError(t, err)
			assert.True(t, o.Reply.To.IsValid())
		}
	})
}
