package service

import (
	"context"
	"errors"
	"iter"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/core/delivery"
	"jugate/core/stream"
)

func TestChannelsStayInTheirRange(t *testing.T) {
	m := Multicast{}
	m.setDefaults()
	assert.Equal(t, "239.255.0.1:6003", m.channel(0).String())
	seen := map[netip.AddrPort]bool{}
	for n := range int64(1000) {
		c := m.channel(n)
		assert.True(t, m.Groups.Contains(c.Addr()))
		assert.NotEqual(t, c, m.channel(n+1), "neighbours get different ones")
		seen[c] = true
	}
	assert.Len(t, seen, 254, "all of the range but its first and last")
	m.Groups = netip.MustParsePrefix("233.252.0.9/32")
	assert.Equal(t, m.channel(1), m.channel(2))
	assert.Equal(t, "233.252.0.9:6003", m.channel(7).String())
}

func TestSessionsEnd(t *testing.T) {
	var s sessions
	now := time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)
	one, two := s.open(now), s.open(now)
	assert.NotEqual(t, one, two)
	assert.True(t, s.valid(one, now.Add(sessionLife-time.Second)))
	assert.False(t, s.valid(one, now.Add(sessionLife)), "in time")
	assert.False(t, s.valid("", now))
	s.close(two)
	assert.False(t, s.valid(two, now), "when closed")
	s.open(now.Add(sessionLife))
	assert.Len(t, s.ends, 1, "those that are over are forgotten")
}

func TestBearer(t *testing.T) {
	for header, want := range map[string]string{"Bearer abc": "abc", "bearer  abc ": "abc", "Basic abc": "", "": "", "abc": ""} {
		assert.Equal(t, want, bearer(header), header)
	}
}

func TestASlowListenerIsToldThatItMissedSomething(t *testing.T) {
	var b broker
	slow, gone := b.listen(), b.listen()
	b.leave(gone)
	for i := range listenerBuffer + 10 {
		b.publish(i)
	}
	assert.Empty(t, gone.events)
	for i := range listenerBuffer {
		require.Equal(t, i, <-slow.events)
	}
	b.publish("next")
	assert.Equal(t, resync{Missed: 10}, <-slow.events)
	assert.Equal(t, "next", <-slow.events)
}

func TestAPassIsGoodUntilTheNextCheckIn(t *testing.T) {
	var a agents
	now := time.Now()
	first := a.admit(7, now)
	id, ok := a.enter(first, now)
	assert.True(t, ok)
	assert.EqualValues(t, 7, id)
	a.tell(7, api.Activity{Text: "capturing"})
	second := a.admit(7, now)
	_, ok = a.enter(first, now)
	assert.False(t, ok)
	_, ok = a.enter(second, now)
	assert.True(t, ok)
	_, ok = a.enter("", now)
	assert.False(t, ok)
	p, _ := a.presence(7)
	assert.Empty(t, p.activity.Text, "a fresh agent does nothing yet")
	a.wake(7)
	a.wake(7) // never blocks
	<-p.bell
	a.wake(99)
}

func TestTheTokenFile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "admin.token")
	made, err := token(path)
	require.NoError(t, err)
	assert.Len(t, made, 64)
	again, err := token(path)
	require.NoError(t, err)
	assert.Equal(t, made, again)
	require.NoError(t, os.WriteFile(path, []byte("\n"), 0o600))
	_, err = token(path)
	assert.ErrorContains(t, err, "holds no token", "an empty file must not let everyone in")
}

// listen joins a group on the loopback and returns what comes until nothing does.
func listen(t *testing.T, group netip.AddrPort) func() [][]byte {
	t.Helper()
	lo, err := net.InterfaceByName("lo")
	require.NoError(t, err)
	conn, err := net.ListenMulticastUDP("udp4", lo, net.UDPAddrFromAddrPort(group))
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	require.NoError(t, conn.SetReadBuffer(4<<20))
	return func() (packets [][]byte) {
		for {
			require.NoError(t, conn.SetReadDeadline(time.Now().Add(200*time.Millisecond)))
			b := make([]byte, 2000)
			n, err := conn.Read(b)
			if errors.Is(err, os.ErrDeadlineExceeded) {
				return packets
			}
			require.NoError(t, err)
			packets = append(packets, b[:n])
		}
	}
}

func TestTheStreamIsCompleteInOrderAndCounted(t *testing.T) {
	group := netip.MustParseAddrPort("233.252.0.90:6003")
	received := listen(t, group)
	m := &multicaster{Multicast{Interface: "lo", TTL: NoTTL}}
	sizes := []int{1, 5000, 100_000}
	var told []int64
	err := m.Send(t.Context(), delivery.Channel{Group: group, Session: 9, Rate: 50e6}, func(yield func(delivery.Frame, error) bool) {
		for i, n := range sizes {
			if !yield(delivery.Frame{Slab: i, Bytes: make([]byte, n)}, nil) {
				return
			}
		}
	}, func(_ int, wire int64) { told = append(told, wire) })
	require.NoError(t, err)

	var slabs []uint32
	wire := int64(0)
	for _, p := range received() {
		d, err := stream.Parse(p)
		require.NoError(t, err)
		if d.Session != 9 {
			continue
		}
		if d.Offset == 0 {
			slabs = append(slabs, d.Slab)
		}
		wire += int64(len(p)) + stream.IPOverhead
	}
	assert.Equal(t, []uint32{0, 1, 2}, slabs)
	require.Len(t, told, 3)
	assert.Equal(t, wire, told[2], "what was counted is what arrived")
}

func TestTheStreamEndsWithItsFramesAndItsContext(t *testing.T) {
	m := &multicaster{Multicast{Interface: "lo", TTL: NoTTL}}
	to := delivery.Channel{Group: netip.MustParseAddrPort("233.252.0.91:6003"), Rate: 1e6}
	broken := errors.New("the slab is gone")
	err := m.Send(t.Context(), to, func(yield func(delivery.Frame, error) bool) { yield(delivery.Frame{}, broken) }, nil)
	assert.ErrorIs(t, err, broken)

	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	var endless iter.Seq2[delivery.Frame, error] = func(yield func(delivery.Frame, error) bool) {
		for yield(delivery.Frame{Bytes: make([]byte, 10_000)}, nil) {
		}
	}
	err = m.Send(ctx, to, endless, func(int, int64) { cancel() })
	assert.Error(t, err)

	m.config.Interface = "nowhere0"
	assert.ErrorContains(t, m.Send(t.Context(), to, endless, nil), `"nowhere0"`)
}
