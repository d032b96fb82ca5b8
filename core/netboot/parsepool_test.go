package netboot_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/netboot"
)

func TestPoolsAreRead(t *testing.T) {
	p, err := netboot.ParsePool("192.0.2.100-192.0.2.199/24 router 192.0.2.1 dns 192.0.2.53 dns 192.0.2.54 lease 8h")
	require.NoError(t, err)
	a := netip.MustParseAddr
	assert.Equal(t, netboot.PoolConfig{Prefix: netip.MustParsePrefix("192.0.2.0/24"), From: a("192.0.2.100"), To: a("192.0.2.199"), Router: a("192.0.2.1"),
		DNS: []netip.Addr{a("192.0.2.53"), a("192.0.2.54")}, Lease: 8 * time.Hour}, p)
	for _, bad := range []string{"", "192.0.2.100", "192.0.2.100-192.0.2.199", "192.0.2.100-x/24", "192.0.2.100-192.0.2.199/99", "192.0.2.100-192.0.2.199/24 router",
		"192.0.2.100-192.0.2.199/24 gateway 192.0.2.1", "192.0.2.100-192.0.2.199/24 lease soon", "192.0.2.100-192.0.2.199/24 dns x"} {
		_, err := netboot.ParsePool(bad)
		assert.Error(t, err, bad)
	}
}
