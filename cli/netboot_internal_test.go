package cli

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/netboot"
	"jugate/service"
)

func TestFlagsOfNetworkBoot(t *testing.T) {
	usual := netbootFlags{unknown: "hold", tickets: "auto"}
	var c service.Config
	require.NoError(t, usual.fill(&c))
	assert.True(t, c.BootTickets && !c.Tickets, "without network boot nobody has a ticket")

	boots := usual
	boots.interfaces, boots.pools = []string{"eth1=whole", "eth2=off"}, []string{"192.0.2.100-192.0.2.199/24"}
	c = service.Config{}
	require.NoError(t, boots.fill(&c))
	assert.Equal(t, []service.NetbootInterface{{Name: "eth1", Mode: netboot.Whole}, {Name: "eth2", Mode: netboot.Off}}, c.Netboot.Interfaces)
	assert.Len(t, c.Netboot.Pools, 1)
	assert.Equal(t, service.Hold, c.Netboot.Unknown)

	for want, spoil := range map[string]func(*netbootFlags){
		`"eth1" is not NAME=beside`:                      func(f *netbootFlags) { f.interfaces = []string{"eth1"} },
		`"eth1=both" is not NAME=beside`:                 func(f *netbootFlags) { f.interfaces = []string{"eth1=both"} },
		"--pool: ":                                       func(f *netbootFlags) { f.pools = []string{"x"} },
		`--unknown: "refuse" is not one of ignore, hold`: func(f *netbootFlags) { f.unknown = "refuse" },
		"--tickets is one of yes, no":                    func(f *netbootFlags) { f.tickets = "maybe" },
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
