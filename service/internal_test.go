package service

import (
	"net/netip"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
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
	first, err := a.admit(7, now, who{})
	require.NoError(t, err)
	id, ok := a.enter(first, now)
	assert.True(t, ok)
	assert.EqualValues(t, 7, id)
	a.tell(7, api.Activity{Text: "capturing"})
	second, err := a.admit(7, now, who{})
	require.NoError(t, err)
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
