package access

import (
	"net/netip"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSessionsEnd(t *testing.T) {
	var s sessions
	now := time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)
	one, two := s.open(now), s.open(now)
	assert.NotEqual(t, one, two)
	assert.True(t, s.valid(one, now.Add(SessionLife-time.Second)))
	assert.False(t, s.valid(one, now.Add(SessionLife)), "in time")
	assert.False(t, s.valid("", now))
	s.close(two)
	assert.False(t, s.valid(two, now), "when closed")
	s.open(now.Add(SessionLife))
	assert.Len(t, s.ends, 1, "those that are over are forgotten")
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
