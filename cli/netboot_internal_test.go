package cli

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/netboot"
	"jugate/service"
)

func TestPoolsAreRead(t *testing.T) {
	p, err := parsePool("192.0.2.100-192.0.2.199/24 router 192.0.2.1 dns 192.0.2.53 dns 192.0.2.54 lease 8h")
	require.NoError(t, err)
	a := netip.MustParseAddr
	assert.Equal(t, netboot.PoolConfig{Prefix: netip.MustParsePrefix("192.0.2.0/24"), From: a("192.0.2.100"), To: a("192.0.2.199"), Router: a("192.0.2.1"),
		DNS: []netip.Addr{a("192.0.2.53"), a("192.0.2.54")}, Lease: 8 * time.Hour}, p)
	for _, bad := range []string{"", "192.0.2.100", "192.0.2.100-192.0.2.199", "192.0.2.100-x/24", "192.0.2.100-192.0.2.199/99", "192.0.2.100-192.0.2.199/24 router",
		"192.0.2.100-192.0.2.199/24 gateway 192.0.2.1", "192.0.2.100-192.0.2.199/24 lease soon", "192.0.2.100-192.0.2.199/24 dns x"} {
		_, err := parsePool(bad)
		assert.Error(t, err, bad)
	}
}

func TestFlagsOfNetworkBoot(t *testing.T) {
	usual := netbootFlags{unknown: "hold", tickets: "auto"}
	var c service.Config
	require.NoError(t, usual.fill(&c))
	assert.False(t, c.Tickets, "without network boot nobody has a ticket")

	boots := usual
	boots.interfaces, boots.pools = []string{"eth1=whole", "eth2=off"}, []string{"192.0.2.100-192.0.2.199/24"}
	c = service.Config{}
	require.NoError(t, boots.fill(&c))
	assert.True(t, c.Tickets)
	assert.Equal(t, []service.NetbootInterface{{Name: "eth1", Mode: netboot.Whole}, {Name: "eth2", Mode: netboot.Off}}, c.Netboot.Interfaces)
	assert.Len(t, c.Netboot.Pools, 1)
	assert.Equal(t, service.Hold, c.Netboot.Unknown)

	for want, spoil := range map[string]func(*netbootFlags){
		`"eth1" is not NAME=beside`:        func(f *netbootFlags) { f.interfaces = []string{"eth1"} },
		`"eth1=both" is not NAME=beside`:   func(f *netbootFlags) { f.interfaces = []string{"eth1=both"} },
		"--pool: ":                         func(f *netbootFlags) { f.pools = []string{"x"} },
		"--unknown is one of ignore, hold": func(f *netbootFlags) { f.unknown = "refuse" },
		"--tickets is one of yes, no":      func(f *netbootFlags) { f.tickets = "maybe" },
	} {
		f := usual
		spoil(&f)
		err := f.fill(&service.Config{})
		assert.ErrorContains(t, err, want)
		assert.IsType(t, usageError{}, err)
	}
}

func TestNumbersOfBuilds(t *testing.T) {
	n, err := buildNumber(nil)
	require.NoError(t, err)
	assert.Zero(t, n, "the one that is offered")
	n, err = buildNumber([]string{"7"})
	require.NoError(t, err)
	assert.Equal(t, 7, n)
	_, err = buildNumber([]string{"latest"})
	assert.IsType(t, usageError{}, err)
}
