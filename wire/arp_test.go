package wire

import (
	"net"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestProbesAreRead(t *testing.T) {
	frame := probeFrame(net.HardwareAddr{2, 0, 0, 0, 0, 1}, netip.MustParseAddr("192.0.2.7"))
	assert.Len(t, frame, 14+arpLength)
	sender, has, wants, ok := readARP(frame)
	assert.True(t, ok)
	assert.Equal(t, "02:00:00:00:00:01", sender.String())
	assert.True(t, has.IsUnspecified(), "a probe is asked by nobody")
	assert.Equal(t, "192.0.2.7", wants.String())
	for i := range frame {
		_, _, _, ok := readARP(frame[:i])
		assert.False(t, ok)
	}
}
