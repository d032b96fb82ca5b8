package cli_test

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What an engineer measures is told in terms of the work, and nothing is left behind.
func TestWhatThisMachineCanDoIsMeasured(t *testing.T) {
	d := openDesk(t)
	type figure struct {
		Measured, Unit, Means string
		Value                 float64
	}
	network := read[[]figure](d, "bench", "network", "--bytes", "1048576")
	require.Len(t, network, 2)
	assert.Positive(t, network[1].Value)
	assert.Contains(t, network[1].Means, "one workstation alone: 20 GiB takes ")

	dir := t.TempDir()
	store := read[[]figure](d, "bench", "store", dir, "--slabs", "8")
	require.Len(t, store, 3)
	for _, f := range store {
		assert.Positive(t, f.Value, f.Measured)
	}
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Empty(t, left)

	multicast := read[[]figure](d, "bench", "multicast", "--interface", "lo", "--up-to", "40Mbit")
	assert.GreaterOrEqual(t, len(multicast), 2)
	assert.Equal(t, "comes whole", multicast[len(multicast)-1].Measured)

	text, code := d.run("bench", "multicast", "--interface", "lo", "--up-to", "much")
	assert.Equal(t, 2, code, text)
	text, code = d.run("bench", "store", "/nowhere")
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "no such file")
	text, code = d.run("bench", "multicast", "--interface", "nowhere0")
	assert.Equal(t, 1, code, text)
}
