package service

import (
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
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
	now := time.Now()
	slow, err := b.listen(now, 0)
	require.NoError(t, err)
	gone, err := b.listen(now, 0)
	require.NoError(t, err)
	b.leave(gone)
	for i := range listenerBuffer + 10 {
		b.publish(i)
	}
	assert.Empty(t, gone.events)
	for i := range listenerBuffer {
		require.Equal(t, i, (<-slow.events).event)
	}
	b.publish("next")
	assert.Equal(t, resync{Missed: 10}, (<-slow.events).event)
	next := <-slow.events
	assert.Equal(t, "next", next.event)

	t.Log("# whoever comes back hears what has been since")
	b.publish("and another")
	back, err := b.listen(now, next.id)
	require.NoError(t, err)
	assert.Equal(t, "and another", (<-back.events).event)
	late, err := b.listen(now, 5)
	require.NoError(t, err)
	assert.Equal(t, resync{}, (<-late.events).event, "too long ago")

	t.Log("# and not everybody can listen")
	for range listenersAtMost {
		_, err = b.listen(now, 0)
	}
	assert.ErrorIs(t, err, errListeners)
}

func TestAPassIsGoodUntilTheNextCheckIn(t *testing.T) {
	var a agents
	now := time.Now()
	from := netip.MustParseAddr("192.0.2.7")
	first := a.admit(7, now, "b1", from, 0)
	id, ok := a.enter(first, now)
	assert.True(t, ok)
	assert.EqualValues(t, 7, id)
	a.tell(7, api.Activity{Text: "capturing"})
	require.NoError(t, a.mayEnter(7, now, "b1"))
	second := a.admit(7, now, "b1", from, 0)
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

func TestTwoMachinesDoNotTakeTurns(t *testing.T) {
	var a agents
	now := time.Now()
	from := netip.MustParseAddr("192.0.2.7")
	a.admit(7, now, "one", from, 0)
	require.NoError(t, a.mayEnter(7, now, "two"), "it was started again, as far as anybody can tell")
	a.admit(7, now, "two", from, 0)
	assert.ErrorIs(t, a.mayEnter(7, now.Add(time.Second), "one"), errTwice, "no machine goes back to an earlier boot")
	require.NoError(t, a.mayEnter(7, now.Add(2*onlineFor), "one"), "the other one has gone")

	t.Log("# who is at work keeps its pass")
	a.at(7, 3)
	assert.ErrorIs(t, a.mayEnter(7, now.Add(time.Second), "three"), errTwice)
	assert.NoError(t, a.mayEnter(7, now.Add(time.Second), "two"), "itself, after a restart of the service")
	assert.NoError(t, a.mayEnter(7, now.Add(atWorkFor), "three"), "until it has been silent for a while")
}

func TestNobodyLocksOthersOut(t *testing.T) {
	var tr tries
	now := time.Now()
	bad, good := netip.MustParseAddr("192.0.2.66"), netip.MustParseAddr("192.0.2.7")
	for range 100 {
		tr.wrong(now, 66, bad)
	}
	assert.False(t, tr.may(now, 66, bad))
	assert.False(t, tr.may(now, 67, bad), "from the same address as another newcomer")
	assert.False(t, tr.may(now, 0, bad), "nor with tokens")
	assert.True(t, tr.may(now, 7, good))
	assert.True(t, tr.may(now, 0, good))
	assert.True(t, tr.may(now.Add(wrongWithin), 66, bad), "and not for good")
}

func TestNewcomersAreBounded(t *testing.T) {
	var n newcomers
	now := time.Now()
	allowed := 0
	for i := range 20_000 {
		if n.allow(netip.AddrFrom4([4]byte{192, 0, 2, byte(i)}), now) == nil {
			allowed++
		}
	}
	assert.Equal(t, newcomersPerHour, allowed)
	assert.NoError(t, n.allow(netip.MustParseAddr("198.51.100.1"), now), "another network has its own")
	for i := range 2 * quotasAtMost {
		n.allow(netip.AddrFrom4([4]byte{198, byte(i >> 8), byte(i), 1}), now)
	}
	assert.LessOrEqual(t, len(n.quota.each), quotasAtMost)
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

// timed is a connection of which the deadlines are written down.
type timed struct {
	http.ResponseWriter
	deadlines int
}

func (r *timed) SetWriteDeadline(time.Time) error { r.deadlines++; return nil }
func (r *timed) SetReadDeadline(time.Time) error  { r.deadlines++; return nil }

func TestAnAnswerHasToMove(t *testing.T) {
	now := time.Now()
	c := &timed{ResponseWriter: httptest.NewRecorder()}
	w := &steadyWriter{ResponseWriter: c, control: http.NewResponseController(c), began: now}
	_, err := w.Write(make([]byte, 1<<20))
	require.NoError(t, err)
	assert.Equal(t, 1, c.deadlines, "each write has its own")
	w.began = now.Add(-slowFor)
	_, err = w.Write([]byte("more"))
	require.NoError(t, err, "1 MiB in two minutes is slow, and moves")
	w.began = now.Add(-slowFor - 2*time.Minute)
	_, err = w.Write([]byte("more"))
	assert.ErrorContains(t, err, "too slow")
	w = &steadyWriter{ResponseWriter: c, control: http.NewResponseController(c), began: now.Add(-24 * time.Hour)}
	_, err = w.Write([]byte("event: hello\n\n"))
	assert.NoError(t, err, "events that are rare are not slow")

	t.Log("# a body is read against the clock, and the next request on the connection is not")
	r := httptest.NewRequest(http.MethodPost, "/", strings.NewReader("body"))
	c.deadlines = 0
	steady(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		_, err := io.ReadAll(r.Body)
		assert.NoError(t, err)
	})).ServeHTTP(c, r)
	assert.Positive(t, c.deadlines)
}
