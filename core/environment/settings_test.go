package environment_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/environment"
)

func TestAddressesOfMedia(t *testing.T) {
	one, err := environment.FixedNetwork{Address: "192.0.2.70/24"}.Addresses()
	require.NoError(t, err)
	require.Len(t, one, 1)
	many, err := environment.FixedNetwork{Address: "192.0.2.70-192.0.2.99/24"}.Addresses()
	require.NoError(t, err)
	require.Len(t, many, 30)
	assert.Equal(t, "192.0.2.99/24", many[29].String())
	for _, bad := range []string{"", "192.0.2.70", "192.0.2.70/99", "2001:db8::1/64", "192.0.2.99-192.0.2.70/24", "192.0.2.70-192.0.3.70/24", "192.0.2.70-/24", "192.0.2.70-x/24", "10.0.0.1-10.200.0.1/8"} {
		_, err := environment.FixedNetwork{Address: bad}.Addresses()
		assert.Error(t, err, bad)
	}
}
