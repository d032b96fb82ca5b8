package order_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/fault"
	"jugate/core/order"
)

func at(t *testing.T, text string) time.Time {
	t.Helper()
	when, err := time.Parse(time.RFC3339, text)
	require.NoError(t, err)
	return when
}

func schedule(t *testing.T, text, zone string) *order.Schedule {
	t.Helper()
	s, err := order.ParseSchedule(text, zone)
	require.NoError(t, err)
	return s
}

func TestSchedulesInPlainWords(t *testing.T) {
	for _, c := range []struct {
		text, after string
		want        []string
	}{
		{"daily 06:00", "2026-11-26T12:00:00Z", []string{"2026-11-27T06:00:00Z", "2026-11-28T06:00:00Z"}},
		{"weekdays 18:30", "2026-11-27T12:00:00Z", []string{"2026-11-27T18:30:00Z", "2026-11-30T18:30:00Z"}}, // from a Friday
		{"weekends 10:00", "2026-11-27T12:00:00Z", []string{"2026-11-28T10:00:00Z", "2026-11-29T10:00:00Z", "2026-12-05T10:00:00Z"}},
		{"Monday and Thursday 18:30", "2026-11-26T18:30:00Z", []string{"2026-11-30T18:30:00Z", "2026-12-03T18:30:00Z"}},
		{"monday, tuesday, friday 01:00", "2026-11-26T18:30:00Z", []string{"2026-11-27T01:00:00Z", "2026-11-30T01:00:00Z", "2026-12-01T01:00:00Z"}},
		{"first  monday 06:00", "2026-11-26T12:00:00Z", []string{"2026-12-07T06:00:00Z", "2027-01-04T06:00:00Z"}},
		{"last friday 17:00", "2026-11-26T12:00:00Z", []string{"2026-11-27T17:00:00Z", "2026-12-25T17:00:00Z"}},
		{"last day 22:00", "2027-01-31T22:00:00Z", []string{"2027-02-28T22:00:00Z", "2027-03-31T22:00:00Z"}},
		{"first day 00:00", "2026-11-26T12:00:00Z", []string{"2026-12-01T00:00:00Z"}},
		{"day 31 06:00", "2026-11-26T12:00:00Z", []string{"2026-12-31T06:00:00Z", "2027-01-31T06:00:00Z", "2027-03-31T06:00:00Z"}}, // months without one have none
		{"once 2026-12-24 12:00", "2026-11-26T12:00:00Z", []string{"2026-12-24T12:00:00Z"}},
		{"FREQ=YEARLY;BYMONTH=9;BYDAY=1MO;BYHOUR=6;BYMINUTE=0", "2026-11-26T12:00:00Z", []string{"2027-09-06T06:00:00Z", "2028-09-04T06:00:00Z"}},
		{"FREQ=WEEKLY;INTERVAL=2;BYDAY=MO;BYHOUR=6;BYMINUTE=0", "2026-11-26T12:00:00Z", []string{"2026-11-30T06:00:00Z", "2026-12-14T06:00:00Z"}},
	} {
		var want []time.Time
		for _, w := range c.want {
			want = append(want, at(t, w))
		}
		assert.Equal(t, want, utc(schedule(t, c.text, "").Times(at(t, c.after), len(want))), c.text)
	}
	once := schedule(t, "once 2026-12-24 12:00", "")
	assert.Len(t, once.Times(at(t, "2026-11-26T12:00:00Z"), 10), 1)
	assert.Zero(t, once.Next(at(t, "2026-12-24T12:00:00Z")), "never again")
}

func utc(all []time.Time) (out []time.Time) {
	for _, a := range all {
		out = append(out, a.UTC())
	}
	return out
}

func TestWhatIsNotASchedule(t *testing.T) {
	for _, text := range []string{"", "daily", "06:00", "sometimes 06:00", "daily 6:00", "daily 24:00", "daily 06:00:00", "first 06:00", "first fifth 06:00", "fifth monday 06:00", "day 0 06:00", "day 32 06:00", "day x 06:00",
		"and monday 06:00", "monday and 06:00", "once tomorrow 06:00", "once 2026-02-30 06:00", "weekdays monday 06:00", "FREQ=HOURLY", "FREQ=DAILY", "FREQ=DAILY;BYHOUR=6,7;BYMINUTE=0", "FREQ=DAILY;BYHOUR=6;BYMINUTE=99", "FREQ=DAILY;X=1", "FREQ="} {
		_, err := order.ParseSchedule(text, "Europe/Vienna")
		assert.ErrorIs(t, err, fault.Invalid, "%q", text)
	}
	_, err := order.ParseSchedule("daily 06:00", "Fennholt/Garden")
	assert.ErrorContains(t, err, `"Fennholt/Garden" is not a time zone`)
}

// In Vienna the clock goes forward on 2026-03-29 from 02:00 to 03:00, and back on 2026-10-25 from 03:00 to 02:00.
func TestClocksArePutForwardAndBack(t *testing.T) {
	for _, c := range []struct{ text, after, want string }{
		{"daily 02:30", "2026-03-28T12:00:00+01:00", "2026-03-29T03:30:00+02:00"}, // what 02:30 would have been
		{"daily 02:30", "2026-03-29T03:30:00+02:00", "2026-03-30T02:30:00+02:00"},
		{"daily 02:30", "2026-10-24T12:00:00+02:00", "2026-10-25T02:30:00+02:00"}, // the first of the two
		{"daily 02:30", "2026-10-25T02:30:00+02:00", "2026-10-26T02:30:00+01:00"}, // and not once more
		{"daily 18:30", "2026-03-28T18:30:00+01:00", "2026-03-29T18:30:00+02:00"}, // people's clock counts
		{"daily 18:30", "2026-10-24T18:30:00+02:00", "2026-10-25T18:30:00+01:00"},
	} {
		assert.Equal(t, at(t, c.want).UTC(), schedule(t, c.text, "Europe/Vienna").Next(at(t, c.after)).UTC(), "%+v", c)
	}
}

// Wherever the place is, a year has one run a day, at the time that the clock there shows, unless the clock skips that hour.
func TestAYearHasItsDays(t *testing.T) {
	for _, zone := range []string{"Europe/Vienna", "America/New_York", "Australia/Lord_Howe", "Asia/Kolkata", "America/Santiago", "Africa/Cairo", ""} {
		for _, clock := range []string{"00:00", "00:30", "02:00", "02:30", "23:59"} {
			s := schedule(t, "daily "+clock, zone)
			location, err := time.LoadLocation(zone)
			require.NoError(t, err)
			last, off := time.Date(2026, 1, 1, 0, 0, 0, 0, location).Add(-time.Second), 0
			days := map[string]bool{}
			for range 365 {
				next := s.Next(last)
				require.True(t, next.After(last), "%s %s", zone, clock)
				day, shown := next.In(location).Format(time.DateOnly), next.In(location).Format("15:04")
				assert.False(t, days[day], "%s %s runs twice on %s", zone, clock, day)
				days[day] = true
				if shown != clock {
					off++
				}
				last = next
			}
			assert.LessOrEqual(t, off, 1, "%s %s", zone, clock)
			assert.Equal(t, 2026, last.In(location).Year(), "%s %s", zone, clock)
		}
	}
}

func FuzzSchedule(f *testing.F) {
	for _, text := range []string{"daily 06:00", "first monday 06:00", "once 2026-12-24 12:00", "FREQ=YEARLY;BYMONTH=9;BYDAY=1MO;BYHOUR=6;BYMINUTE=0", "FREQ=MONTHLY;BYMONTHDAY=31;BYMONTH=2;BYHOUR=1;BYMINUTE=1"} {
		f.Add(text, "Europe/Vienna")
	}
	f.Fuzz(func(t *testing.T, text, zone string) {
		s, err := order.ParseSchedule(text, zone)
		if err != nil {
			return
		}
		now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
		for _, next := range s.Times(now, 3) {
			if !next.After(now) {
				t.Fatalf("%q in %q: %v is not after %v", text, zone, next, now)
			}
			now = next
		}
	})
}
