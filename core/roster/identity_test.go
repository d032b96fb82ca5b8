package roster_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"jugate/core/roster"
)

func TestIdentities(t *testing.T) {
	const a, b = "8D6F1A52-0C1B-4A67-9A44-0000AA310001", "8d6f1a52-0c1b-4a67-9a44-0000aa310002"
	one := roster.NewIdentity(a, " AW-0001 ")
	assert.Equal(t, roster.Identity{UUID: "8d6f1a52-0c1b-4a67-9a44-0000aa310001", Serial: "AW-0001"}, one)
	for name, c := range map[string]struct {
		other       roster.Identity
		is, differs bool
	}{
		"the same":       {roster.NewIdentity(a, "AW-0001"), true, false},
		"another board":  {roster.NewIdentity(b, "AW-0001"), false, true},
		"another serial": {roster.NewIdentity(a, "AW-0002"), false, true},
		"half of it":     {roster.NewIdentity(a, ""), false, false},
		"nothing":        {roster.NewIdentity("", ""), false, false},
	} {
		assert.Equal(t, c.is, one.Is(c.other), name)
		assert.Equal(t, c.differs, one.Differs(c.other), name)
	}
	for _, hollow := range [][2]string{
		{"00000000-0000-0000-0000-000000000000", "To be filled by O.E.M."}, {"FFFFFFFF-FFFF-FFFF-FFFF-FFFFFFFFFFFF", "Default string"},
		{"03000200-0400-0500-0006-000700080009", "00000000"}, {"no UUID", "N/A"}, {"", ""},
	} {
		assert.Equal(t, roster.Identity{}, roster.NewIdentity(hollow[0], hollow[1]), "%v", hollow)
	}
	assert.Equal(t, "neither serial number nor UUID", roster.Identity{}.String())
}
