package outpost

import (
	"fmt"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/fault"
	"jugate/core/slabstore"
)

func TestHoursOverMidnight(t *testing.T) {
	at := func(text string) time.Time {
		instant, err := time.Parse("15:04", text)
		require.NoError(t, err)
		return instant
	}
	for text, in := range map[string]map[string]bool{
		"":            {"00:00": true, "12:00": true},
		"20:00-06:00": {"19:59": false, "20:00": true, "23:59": true, "00:00": true, "05:59": true, "06:00": false, "12:00": false},
		"12:30-13:00": {"12:29": false, "12:30": true, "13:00": false, "00:00": false},
		"07:00-07:00": {"07:00": true, "19:00": true},
	} {
		h, err := parseHours(text)
		require.NoError(t, err, text)
		for instant, want := range in {
			assert.Equal(t, want, h.has(at(instant)), "%s at %s", text, instant)
		}
	}
	for _, bad := range []string{"night", "20-06", "24:00-06:00", "20:00-06:60", "-1:00-06:00"} {
		_, err := parseHours(bad)
		assert.Equal(t, fault.Invalid, fault.KindOf(err), bad)
	}
}

// What is placed stays, and what nobody has asked for longest makes room.
func TestWhatIsPlacedStays(t *testing.T) {
	o := &Outpost{config: Config{Data: t.TempDir(), Slabs: 3 << 10, KeepFree: 1, Log: slog.New(slog.DiscardHandler), Now: time.Now}}
	s, err := openSlabs(o)
	require.NoError(t, err)
	digest := func(n int) slabstore.Digest { return slabstore.Sum(fmt.Append(nil, n)) }
	put := func(n int) error {
		if err := s.room(1 << 10); err != nil {
			return err
		}
		defer s.came(1 << 10)
		_, err := s.Put(digest(n), slabstore.Compress(nil, fmt.Append(nil, n)))
		s.note(digest(n), 1<<10)
		return err
	}
	for n := range 3 {
		require.NoError(t, put(n))
	}
	s.pin(map[slabstore.Digest]struct{}{digest(0): {}})
	require.NoError(t, put(3))
	assert.True(t, s.Has(digest(0)))
	assert.False(t, s.Has(digest(1)), "the oldest of the others")
	s.pin(map[slabstore.Digest]struct{}{digest(0): {}, digest(2): {}, digest(3): {}})
	assert.Equal(t, fault.Full, fault.KindOf(put(4)), "nothing may go")
	n, bytes := s.held()
	assert.Equal(t, 3, n)
	assert.EqualValues(t, 3<<10, bytes)
	s.pin(nil)
	require.NoError(t, put(4))
}
