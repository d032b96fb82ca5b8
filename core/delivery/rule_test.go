package delivery_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/delivery"
)

func TestRules(t *testing.T) {
	for text, most := range map[string]int{"": 0, "all": 0, "first": 1, "ready:30": 30, "at:2026-03-01T18:00:00Z": 0, "at:2026-03-01T18:00:00+01:00": 0} {
		r, err := delivery.ParseRule(text)
		if text == "at:2026-03-01T18:00:00+01:00" {
			assert.ErrorIs(t, err, delivery.ErrRule, "a plus is the latest of two")
			continue
		}
		require.NoError(t, err, text)
		assert.Equal(t, most, r.Ready(), text)
		again, err := delivery.ParseRule(r.String())
		require.NoError(t, err)
		assert.Equal(t, r.String(), again.String(), text)
	}
	for _, text := range []string{"ready", "ready:0", "ready:-1", "ready:x", "tomorrow", "at:18:00", "all:3", "first,", "+"} {
		_, err := delivery.ParseRule(text)
		assert.ErrorIs(t, err, delivery.ErrRule, text)
	}
}

// Each case is four workstations that become ready one after the other, a minute
// apart, beginning at 9:01; it starts at the minute that is told.
func TestWhenTheStreamStarts(t *testing.T) {
	for _, c := range []struct {
		rule   string
		wait   time.Duration
		starts int // minute after 9:00
	}{
		{"first", 0, 1},
		{"ready:3", 0, 3},
		{"all", 0, 4},
		{"at:2026-03-01T09:10:00Z", 0, 10},
		{"at:2026-03-01T09:02:00Z", 0, 2},
		{"at:2026-03-01T08:00:00Z", 0, 1},
		{"at:2026-03-01T09:10:00Z,all", 0, 4},
		{"at:2026-03-01T09:03:00Z,all", 0, 3},
		{"at:2026-03-01T09:10:00Z+ready:2", 0, 10},
		{"at:2026-03-01T09:02:00Z+ready:3", 0, 3},
		{"all", 2 * time.Minute, 2},
		{"all", 20 * time.Minute, 4},
		{"at:2026-03-01T10:00:00Z", 30 * time.Minute, 30},
	} {
		rule, err := delivery.ParseRule(c.rule)
		require.NoError(t, err)
		now := time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)
		d := delivery.New(delivery.Options{Rule: rule, Ordered: now, WaitAtMost: c.wait}, []int64{1, 2, 3, 4})
		started := 0
		for minute := 1; minute < 60 && started == 0; minute++ {
			now = now.Add(time.Minute)
			for id := int64(1); id <= 4 && id <= int64(minute); id++ {
				require.NoError(t, d.Report(now, id, delivery.Report{Phase: delivery.Ready}))
			}
			if d.Advance(now).Stream != nil {
				started = minute
			}
		}
		assert.Equal(t, c.starts, started, "%s, at most %v", c.rule, c.wait)
	}
}
