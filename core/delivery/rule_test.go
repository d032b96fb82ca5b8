package delivery_test

import (
	"math"
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
		atLatest := time.Time{}
		if c.wait > 0 {
			atLatest = now.Add(c.wait)
		}
		d := delivery.New(delivery.Options{Rule: rule, Ordered: now, AtLatest: atLatest}, []int64{1, 2, 3, 4})
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

func TestBeforeWhenItCannotStart(t *testing.T) {
	six, seven := time.Date(2026, 3, 1, 18, 0, 0, 0, time.UTC), time.Date(2026, 3, 1, 19, 0, 0, 0, time.UTC)
	for text, want := range map[string]time.Time{
		"all": {}, "first": {}, "at:2026-03-01T18:00:00Z": six, "at:2026-03-01T18:00:00Z,first": {}, "at:2026-03-01T18:00:00Z+ready:2": six,
		"at:2026-03-01T18:00:00Z,at:2026-03-01T19:00:00Z": six, "at:2026-03-01T18:00:00Z+at:2026-03-01T19:00:00Z": seven,
	} {
		r, err := delivery.ParseRule(text)
		require.NoError(t, err)
		assert.Equal(t, want, r.Earliest(), text)
	}
}

func TestNobodyIsWaitedForForEver(t *testing.T) {
	now := time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)
	outcomes := func(o delivery.Options, come ...int64) (after time.Duration, outcomes map[int64]delivery.Outcome) {
		o.Ordered = now
		d := delivery.New(o, []int64{1, 2})
		for ; after < 48*time.Hour && !d.State().Over(); after += 5 * time.Second {
			at := now.Add(after)
			for _, id := range come {
				switch d.Phase(id) {
				case delivery.Awaited:
					require.NoError(t, d.Report(at, id, delivery.Report{Phase: delivery.Ready}))
				case delivery.Ended:
				default:
					require.NoError(t, d.Report(at, id, delivery.Report{Phase: delivery.Checking}))
					require.NoError(t, d.Report(at, id, delivery.Report{Phase: delivery.Ended, Verified: true}))
				}
			}
			d.Advance(at)
			if d.State() == delivery.Sending {
				d.RoundEnded(at)
			}
		}
		outcomes = map[int64]delivery.Outcome{}
		for _, m := range d.Members() {
			outcomes[m.ID] = m.Outcome
		}
		return after, outcomes
	}
	rule, err := delivery.ParseRule("all")
	require.NoError(t, err)

	t.Log("# nobody comes at all: it ends by itself")
	after, is := outcomes(delivery.Options{Rule: rule, AtLatest: now.Add(time.Hour), GiveUp: now.Add(25 * time.Hour)})
	assert.Equal(t, map[int64]delivery.Outcome{1: delivery.Absent, 2: delivery.Absent}, is)
	assert.InDelta(t, 25, after.Hours(), 0.01)

	t.Log("# taken up after a restart, with one machine that is dead: the other gets its disk, and that one a receipt")
	after, is = outcomes(delivery.Options{AtLatest: now.Add(15 * time.Second), GiveUp: now.Add(delivery.Silence), Resumed: true}, 1)
	assert.Equal(t, map[int64]delivery.Outcome{1: delivery.Delivered, 2: delivery.Failed}, is)
	assert.LessOrEqual(t, after, delivery.Silence+5*time.Second)

	t.Log("# and with both dead")
	after, is = outcomes(delivery.Options{AtLatest: now.Add(15 * time.Second), GiveUp: now.Add(delivery.Silence), Resumed: true})
	assert.Equal(t, map[int64]delivery.Outcome{1: delivery.Failed, 2: delivery.Failed}, is)
	assert.LessOrEqual(t, after, delivery.Silence+5*time.Second)
}

func TestReportsThatCannotBeTrue(t *testing.T) {
	now := time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)
	d := delivery.New(delivery.Options{Ordered: now, Bytes: 64 << 30}, []int64{1})
	for name, r := range map[string]delivery.Report{
		"more than all":     {Phase: delivery.Ready, Done: 2, Total: 1},
		"below nothing":     {Phase: delivery.Ready, Lost: -1},
		"no number":         {Phase: delivery.Ready, DiskSpeed: math.NaN()},
		"four images":       {Phase: delivery.Ready, Multicast: 500 << 30},
		"not checked":       {Phase: delivery.Ended, Verified: true},
		"for ever and more": {Phase: delivery.Ready, Unicast: math.MaxInt64},
	} {
		assert.ErrorIs(t, d.Report(now, 1, r), delivery.ErrReport, name)
	}
	require.NoError(t, d.Report(now, 1, delivery.Report{Phase: delivery.Checking}))
	assert.ErrorIs(t, d.Report(now.Add(time.Second), 1, delivery.Report{Phase: delivery.Ended, Verified: true}), delivery.ErrReport, "64 GiB in a second")
	require.NoError(t, d.Report(now.Add(time.Minute), 1, delivery.Report{Phase: delivery.Ended, Verified: true}))
}
