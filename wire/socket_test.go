package wire_test

import (
	"net/netip"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/wire"
)

// Several listeners on one machine hear one stream, each as a whole.
func TestEveryListenerHearsTheGroup(t *testing.T) {
	c := channel(t) // IPv6 is tested in lab: here it has no route
	var listeners []*wire.Socket
	for range 3 {
		l, err := wire.Listen(c)
		require.NoError(t, err)
		defer l.Close()
		listeners = append(listeners, l)
	}
	other := c
	other.Group = netip.AddrPortFrom(c.Group.Addr().Next(), c.Group.Port())
	stranger, err := wire.Listen(other)
	require.NoError(t, err)
	defer stranger.Close()
	out, err := wire.Dial(c)
	require.NoError(t, err)
	defer out.Close()
	for i := range 50 {
		n, err := out.WriteBatch([]wire.Message{{Buffers: [][]byte{{byte(i)}}, Addr: out.Destination()}}, 0)
		require.NoError(t, err)
		require.Equal(t, 1, n)
	}
	for _, l := range listeners {
		var got []byte
		for len(got) < 50 {
			require.NoError(t, l.SetReadDeadline(time.Now().Add(5*time.Minute)))
			batch := make([]wire.Message, 16)
			for i := range batch {
				batch[i].Buffers = [][]byte{make([]byte, 10)}
			}
			n, err := l.ReadBatch(batch, 0)
			require.NoError(t, err)
			for _, m := range batch[:n] {
				got = append(got, m.Buffers[0][:m.N]...)
			}
		}
		assert.Equal(t, byte(49), got[49])
	}
	require.NoError(t, stranger.SetReadDeadline(time.Now().Add(10*time.Millisecond)))
	_, err = stranger.ReadBatch([]wire.Message{{Buffers: [][]byte{make([]byte, 10)}}}, 0)
	assert.ErrorIs(t, err, os.ErrDeadlineExceeded, "another group's packets are another's")
}

func TestWhatCannotBeOpenedIsNamed(t *testing.T) {
	_, err := wire.Listen(wire.Config{Group: netip.MustParseAddrPort("233.252.0.77:6003"), Interface: "nowhere0"})
	assert.ErrorContains(t, err, `"nowhere0"`)
	_, err = wire.Dial(wire.Config{Group: netip.MustParseAddrPort("192.0.2.1:6003"), Interface: "lo"})
	assert.ErrorContains(t, err, "192.0.2.1 is not a multicast address")
}

// A packet that does not fit is an error here, not a loss there.
func TestPacketsThatDoNotFit(t *testing.T) {
	c := channel(t)
	out, err := wire.Dial(c)
	require.NoError(t, err)
	defer out.Close()
	assert.Equal(t, 1440, out.SymbolSize(), "what fills an Ethernet frame, although lo could more")
	_, err = wire.SendFiles(t.Context(), c, sender(70_000), made(t, 200_000), nil, nil)
	assert.Error(t, err)
}

// A firewall lets answers through at ports that are known; each sender has one of its own.
func TestSendersAreAnsweredAtKnownPorts(t *testing.T) {
	group := netip.MustParseAddrPort("233.252.0.9:6003")
	const first = 47300
	for n := range wire.AnswerPorts {
		s, err := wire.Dial(wire.Config{Group: group, Interface: "lo", TTL: wire.NoTTL, Answers: first})
		require.NoError(t, err)
		defer s.Close()
		port := int(s.Local().Port())
		assert.True(t, port >= first+n && port < first+wire.AnswerPorts, "port %d of sender %d", port, n)
	}
	s, err := wire.Dial(wire.Config{Group: group, Interface: "lo", TTL: wire.NoTTL, Answers: first})
	require.NoError(t, err, "another one is taken when all are in use")
	defer s.Close()
	assert.NotZero(t, s.Local().Port())
}
