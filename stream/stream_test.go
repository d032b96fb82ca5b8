package stream

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestChannelsStayInTheirRange(t *testing.T) {
	m := Multicast{}
	m.SetDefaults()
	assert.Equal(t, "239.255.0.1:6003", m.Channel(0).String())
	seen := map[netip.AddrPort]bool{}
	for n := range int64(1000) {
		c := m.Channel(n)
		assert.True(t, m.Groups.Contains(c.Addr()))
		assert.NotEqual(t, c, m.Channel(n+1), "neighbours get different ones")
		seen[c] = true
	}
	assert.Len(t, seen, 254, "all of the range but its first and last")
	m.Groups = netip.MustParsePrefix("233.252.0.9/32")
	assert.Equal(t, m.Channel(1), m.Channel(2))
	assert.Equal(t, "233.252.0.9:6003", m.Channel(7).String())
}

func TestTheCeilingIsShared(t *testing.T) {
	for _, c := range []struct {
		ceiling int64
		wants   map[string]int64
		got     map[string]int64
	}{
		{0, map[string]int64{"a": 100, "b": 900}, map[string]int64{"a": 100, "b": 900}},
		{1000, map[string]int64{"a": 100, "b": 500}, map[string]int64{"a": 100, "b": 500}},
		{1000, map[string]int64{"a": 100, "b": 2000}, map[string]int64{"a": 100, "b": 900}},
		{900, map[string]int64{"a": 800, "b": 2000, "c": 100}, map[string]int64{"a": 400, "b": 400, "c": 100}},
	} {
		assert.Equal(t, c.got, share(c.ceiling, c.wants))
	}
}
