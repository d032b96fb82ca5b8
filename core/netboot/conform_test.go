package netboot_test

import (
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

// What RFC 2131 and its companions ask of a server that others rely on.

func wants(a string) dhcpv4.Modifier {
	return dhcpv4.WithOption(dhcpv4.OptRequestedIPAddress(net.ParseIP(a)))
}

// say has the desk handle a request, with no probe's answer but "nobody has it".
func say(t *testing.T, d *netboot.Desk, now time.Time, hw hwaddr.Address, kind dhcpv4.MessageType, mods ...dhcpv4.Modifier) netboot.Outcome {
	t.Helper()
	o, err := d.Handle(now, netboot.DHCPPort, firmware(t, hw, kind, "", 7, mods...), netboot.Facts{})
	require.NoError(t, err)
	for o.Probe != nil {
		o, err = d.Probed(now, o.Probe, false)
		require.NoError(t, err)
	}
	return o
}

func TestADeclineWithoutAnAddressLeavesNothingBehind(t *testing.T) {
	d := desk(t, netboot.Whole)
	o := say(t, d, noon, herb, dhcpv4.MessageTypeDecline, here)
	assert.Nil(t, o.Lease, "such a lease kept the service from starting again")
	assert.NotEmpty(t, o.Why)
}

func TestAStrangerTakesNoLeaseAway(t *testing.T) {
	d := desk(t, netboot.Whole)
	a, _ := lease(t, d, herb, noon)
	mine := dhcpv4.WithOption(dhcpv4.OptRequestedIPAddress(a.AsSlice()))
	elsewhere := dhcpv4.WithOption(dhcpv4.OptServerIdentifier(net.IPv4(192, 0, 2, 9)))
	for name, o := range map[string]netboot.Outcome{
		"a stranger declines":     say(t, d, noon, other, dhcpv4.MessageTypeDecline, mine, here),
		"declined elsewhere":      say(t, d, noon, herb, dhcpv4.MessageTypeDecline, mine, elsewhere),
		"declined to no server":   say(t, d, noon, herb, dhcpv4.MessageTypeDecline, mine),
		"a stranger releases":     say(t, d, noon, other, dhcpv4.MessageTypeRelease, dhcpv4.WithClientIP(a.AsSlice()), here),
		"released elsewhere":      say(t, d, noon, herb, dhcpv4.MessageTypeRelease, dhcpv4.WithClientIP(a.AsSlice()), elsewhere),
		"declines one of nobody":  say(t, d, noon, herb, dhcpv4.MessageTypeDecline, wants("192.0.2.102"), here),
		"declines one of no pool": say(t, d, noon, herb, dhcpv4.MessageTypeDecline, wants("203.0.113.1"), here),
	} {
		assert.Nil(t, o.Lease, name)
		assert.NotEmpty(t, o.Why, name)
	}
	o := say(t, d, noon, herb, dhcpv4.MessageTypeRelease, dhcpv4.WithClientIP(a.AsSlice()), here)
	assert.NotNil(t, o.Lease, "its own it may release")
}

func TestWhoStartsAgain(t *testing.T) {
	d := desk(t, netboot.Whole)
	t.Log("# INIT-REBOOT, RFC 2131, 4.3.2: an unknown client hears nothing, whoever has that address")
	o := say(t, d, noon, herb, dhcpv4.MessageTypeRequest, wants("192.0.2.101"))
	assert.Nil(t, o.Reply)
	assert.Nil(t, o.Lease)
	assert.Contains(t, o.Why, "nothing is known")
	t.Log("# but on a wrong network it is told so")
	o = say(t, d, noon, herb, dhcpv4.MessageTypeRequest, wants("203.0.113.9"))
	require.NotNil(t, o.Reply)
	assert.Equal(t, dhcpv4.MessageTypeNak, o.Reply.Message.MessageType())
	t.Log("# a known client gets what it had, and no other")
	a, _ := lease(t, d, herb, noon)
	o = say(t, d, noon, herb, dhcpv4.MessageTypeRequest, wants(a.String()))
	require.NotNil(t, o.Reply)
	assert.Equal(t, dhcpv4.MessageTypeAck, o.Reply.Message.MessageType())
	o = say(t, d, noon, herb, dhcpv4.MessageTypeRequest, wants("192.0.2.102"))
	require.NotNil(t, o.Reply)
	assert.Equal(t, dhcpv4.MessageTypeNak, o.Reply.Message.MessageType())
	t.Log("# one that renews what nobody knows of is left to ask anew")
	o = say(t, d, noon, other, dhcpv4.MessageTypeRequest, dhcpv4.WithClientIP(net.IPv4(192, 0, 2, 102)))
	assert.Nil(t, o.Reply)
	o = say(t, d, noon, other, dhcpv4.MessageTypeRequest, dhcpv4.WithClientIP(a.AsSlice()))
	require.NotNil(t, o.Reply, "and what another one has is refused")
	assert.Equal(t, dhcpv4.MessageTypeNak, o.Reply.Message.MessageType())
}

func TestABoundClientKeepsItsAddress(t *testing.T) {
	c := netboot.PoolConfig{Prefix: netip.MustParsePrefix("192.0.2.0/24"), From: addr("192.0.2.100"), To: addr("192.0.2.150")}
	h := netboot.Holder{Hardware: herb}
	for range 20 { // maps are gone through in any order
		p, err := netboot.NewPool(c, nil, nil)
		require.NoError(t, err)
		for i := range 20 {
			a := addr("192.0.2.100")
			for range i {
				a = a.Next()
			}
			_, _, left, err := p.Bind(noon.Add(time.Duration(i)*time.Minute), h, a)
			require.NoError(t, err)
			assert.Len(t, left, min(i, 1), "the one before is told, so that it can be recorded")
		}
		a, probe, err := p.Pick(noon.Add(30*time.Minute), h, netip.Addr{})
		require.NoError(t, err)
		assert.Equal(t, addr("192.0.2.119"), a, "the one that it has, and none that it had")
		assert.False(t, probe)
	}
}

func TestTheClientIdentifierTellsClientsApart(t *testing.T) {
	id := func(s string) dhcpv4.Modifier {
		return dhcpv4.WithOption(dhcpv4.OptClientIdentifier([]byte(s)))
	}
	d := desk(t, netboot.Whole)
	one, o := lease(t, d, herb, noon, id("\x00one"))
	two, _ := lease(t, d, herb, noon, id("\x00two"))
	assert.NotEqual(t, one, two, "two clients behind one card (RFC 2131, 4.2)")
	assert.Equal(t, "\x00one", string(o.Reply.Message.Options.Get(dhcpv4.OptionClientIdentifier)), "it goes back (RFC 6842)")
	again, _ := lease(t, d, other, noon, id("\x00one"))
	assert.Equal(t, one, again, "one client with another card")
	t.Log("# an identifier that repeats the hardware address says nothing new")
	plain, _ := lease(t, d, other, noon)
	same, _ := lease(t, d, other, noon, id("\x01"+string(other[:])))
	assert.Equal(t, plain, same)
}

func TestAddressesThatNobodyMayHave(t *testing.T) {
	p, err := netboot.NewPool(netboot.PoolConfig{Prefix: netip.MustParsePrefix("192.0.2.0/29"), From: addr("192.0.2.0"), To: addr("192.0.2.7"), Router: addr("192.0.2.6")}, nil, nil)
	require.NoError(t, err)
	d := &netboot.Desk{Link: lan, Pools: []*netboot.Pool{p}}
	seen := map[netip.Addr]bool{}
	for n := range 8 {
		hw := hwaddr.MustParse("00:00:5e:00:53:20")
		hw[5] += byte(n)
		o := say(t, d, noon, hw, dhcpv4.MessageTypeDiscover, wants([]string{"192.0.2.0", "192.0.2.7", "192.0.2.1", "192.0.2.6"}[n%4]))
		if o.Reply != nil {
			seen[o.Given] = true
		}
	}
	assert.Len(t, seen, 4)
	for _, not := range []string{"192.0.2.0", "192.0.2.1", "192.0.2.6", "192.0.2.7"} {
		assert.NotContains(t, seen, addr(not))
		assert.Error(t, p.MayFix(addr(not)))
	}
	_, of := p.Left(noon)
	assert.Equal(t, 4, of)
	assert.ErrorContains(t, p.MayFix(addr("203.0.113.7")), "is not in 192.0.2.0/29")
	assert.NoError(t, p.MayFix(addr("192.0.2.3")))
}

func TestRepliesGoWhereTheClientHears(t *testing.T) {
	d := desk(t, netboot.Whole)
	quiet := func(m *dhcpv4.DHCPv4) { m.SetUnicast() }
	o := say(t, d, noon, herb, dhcpv4.MessageTypeDiscover, quiet)
	require.NotNil(t, o.Reply)
	assert.Equal(t, netip.AddrPortFrom(o.Given, 68), o.Reply.To, "it did not ask for a broadcast (RFC 2131, 4.1)")
	assert.Equal(t, net.HardwareAddr(herb[:]), o.Reply.Hardware)
	o = say(t, d, noon, herb, dhcpv4.MessageTypeDiscover)
	assert.Equal(t, netip.MustParseAddrPort("255.255.255.255:68"), o.Reply.To)
	assert.Nil(t, o.Reply.Hardware)
	o = say(t, d, noon, herb, dhcpv4.MessageTypeInform)
	assert.Nil(t, o.Reply, "one that says no address cannot be answered")
}

func TestOptionsInTheFieldsForNames(t *testing.T) {
	m, err := dhcpv4.New(dhcpv4.WithHwAddr(herb[:]), dhcpv4.WithMessageType(dhcpv4.MessageTypeDiscover), dhcpv4.WithGeneric(dhcpv4.OptionOptionOverload, []byte{3}))
	require.NoError(t, err)
	b := m.ToBytes()
	copy(b[108:], append([]byte{60, 9}, "PXEClient\xff"...))      // file
	copy(b[44:], []byte{93, 2, 0, 7, 50, 4, 192, 0, 2, 102, 255}) // sname
	read, err := netboot.Parse(b)
	require.NoError(t, err)
	assert.Empty(t, read.BootFileName)
	d := desk(t, netboot.Whole)
	o, err := d.Handle(noon, netboot.DHCPPort, read, netboot.Facts{})
	require.NoError(t, err)
	assert.Equal(t, netboot.EFIBC, o.Client.Arch)
	require.NotNil(t, o.Probe)
	assert.Equal(t, addr("192.0.2.102"), o.Probe.Address)
}
