package order

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/teambition/rrule-go"

	"jugate/core/fault"
)

// Schedule is when an order runs by itself, in the time of one place on earth. ParseSchedule makes one.
type Schedule struct {
	text string
	zone *time.Location
	rule rrule.ROption // times of its clock, as if they were UTC
}

const (
	// lookAhead is how far Next looks.
	lookAhead = 10 * 366 * 24 * time.Hour
	// manyAtMost bounds how many times are gone through for one answer.
	manyAtMost = 100_000
)

// begin is before every order. Rules that count weeks or days count from here, a Monday, unless they say from where.
var begin = time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC)

// ParseSchedule reads when an order runs: in plain words, such as
//
//	daily 06:00
//	weekdays 18:30
//	monday and thursday 18:30
//	first monday 06:00          of each month
//	last day 22:00
//	day 15 06:00
//	once 2026-12-24 12:00
//
// or a rule of RFC 5545 (3.3.10) that begins with FREQ=, once a day at the most. Zone is a name of the time zone database; empty is
// UTC. Errors are fault.Invalid.
func ParseSchedule(text, zone string) (*Schedule, error) {
	location, err := time.LoadLocation(zone)
	if err != nil {
		return nil, fault.Invalid.Errorf("%q is not a time zone, such as Europe/Vienna", zone)
	}
	s := &Schedule{text: strings.Join(strings.Fields(text), " "), zone: location}
	if strings.HasPrefix(strings.ToUpper(s.text), "FREQ=") {
		s.rule, err = parseRule(s.text)
	} else {
		s.rule, err = parseWords(strings.ToLower(s.text))
	}
	if err != nil {
		return nil, fault.Invalid.Errorf("%q is not a schedule, such as \"weekdays 18:30\", \"first monday 06:00\" or \"once 2026-12-24 12:00\": %w", text, err)
	}
	return s, nil
}

// String is the schedule as it was written.
func (s *Schedule) String() string { return s.text }

// Zone is the name of its time zone.
func (s *Schedule) Zone() string { return s.zone.String() }

func parseRule(text string) (rrule.ROption, error) {
	o, err := rrule.StrToROption(strings.ToUpper(text))
	if err != nil {
		return rrule.ROption{}, err
	}
	if o.Freq > rrule.DAILY || len(o.Byhour) > 1 || len(o.Byminute) > 1 || len(o.Bysecond) > 1 {
		return rrule.ROption{}, fmt.Errorf("an order runs once a day at the most")
	}
	if len(o.Byhour) == 0 || len(o.Byminute) == 0 {
		return rrule.ROption{}, fmt.Errorf("it does not say at which hour and minute (BYHOUR, BYMINUTE)")
	}
	if len(o.Bysecond) == 0 {
		o.Bysecond = []int{0}
	}
	if o.Dtstart.IsZero() {
		o.Dtstart = begin
	}
	if _, err := rrule.NewRRule(*o); err != nil {
		return rrule.ROption{}, err
	}
	return *o, nil
}

var weekdays = []string{"monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"}

var inRule = []rrule.Weekday{rrule.MO, rrule.TU, rrule.WE, rrule.TH, rrule.FR, rrule.SA, rrule.SU}

var whichOf = map[string]int{"first": 1, "second": 2, "third": 3, "fourth": 4, "last": -1}

func parseWords(text string) (o rrule.ROption, err error) {
	words := strings.Fields(text)
	if len(words) < 2 {
		return o, fmt.Errorf("it needs a day and a time")
	}
	days, clock := words[:len(words)-1], words[len(words)-1]
	at, err := time.Parse("15:04", clock)
	if err != nil || len(clock) != len("15:04") {
		return o, fmt.Errorf("%q is not a time such as 06:00", clock)
	}
	o = rrule.ROption{Freq: rrule.DAILY, Dtstart: begin, Byhour: []int{at.Hour()}, Byminute: []int{at.Minute()}, Bysecond: []int{0}}
	which, isWhich := whichOf[days[0]]
	switch {
	case len(days) == 1 && days[0] == "daily":
	case len(days) == 1 && days[0] == "weekdays":
		o.Freq, o.Byweekday = rrule.WEEKLY, inRule[:5]
	case len(days) == 1 && days[0] == "weekends":
		o.Freq, o.Byweekday = rrule.WEEKLY, inRule[5:]
	case len(days) == 2 && days[0] == "once":
		day, err := time.Parse(time.DateOnly, days[1])
		if err != nil {
			return o, fmt.Errorf("%q is not a day such as 2026-12-24", days[1])
		}
		o.Count, o.Dtstart = 1, day
	case len(days) == 2 && days[0] == "day":
		n, err := strconv.Atoi(days[1])
		if err != nil || n < 1 || n > 31 {
			return o, fmt.Errorf("%q is not the number of a day in a month", days[1])
		}
		o.Freq, o.Bymonthday = rrule.MONTHLY, []int{n}
	case len(days) == 2 && isWhich && days[1] == "day":
		o.Freq, o.Bymonthday = rrule.MONTHLY, []int{which}
	case len(days) == 2 && isWhich:
		n := slices.Index(weekdays, days[1])
		if n < 0 {
			return o, fmt.Errorf("%q is not a day of the week", days[1])
		}
		o.Freq, o.Byweekday = rrule.MONTHLY, []rrule.Weekday{inRule[n].Nth(which)}
	default:
		o.Freq = rrule.WEEKLY
		for i, word := range days {
			n := slices.Index(weekdays, strings.TrimSuffix(word, ","))
			switch {
			case n >= 0:
				o.Byweekday = append(o.Byweekday, inRule[n])
			case word != "and" || i == 0 || i == len(days)-1:
				return o, fmt.Errorf("%q is not a day of the week", word)
			}
		}
	}
	return o, nil
}

// Next is the first instant after another at which it runs; the zero time if it never does again, which is to say within
// ten years.
func (s *Schedule) Next(after time.Time) time.Time {
	rule, err := rrule.NewRRule(s.rule)
	if err != nil {
		return time.Time{} // it was tried when it was parsed
	}
	clock := asUTC(after.In(s.zone)).Add(-25 * time.Hour) // as clocks are put back
	next := rule.Iterator()
	rest := manyAtMost
	for wall, more := next(); more && rest > 0 && wall.Before(clock.Add(lookAhead)); wall, more = next() {
		if wall.Before(clock) {
			continue // they are as many as days have passed since it began
		}
		rest--
		if at := s.instant(wall); at.After(after) {
			return at
		}
	}
	return time.Time{}
}

// Times are the next instants, n at the most.
func (s *Schedule) Times(after time.Time, n int) (all []time.Time) {
	for len(all) < n {
		if after = s.Next(after); after.IsZero() {
			break
		}
		all = append(all, after)
	}
	return all
}

// asUTC is what a clock shows, as if it were UTC.
func asUTC(t time.Time) time.Time {
	y, m, d := t.Date()
	return time.Date(y, m, d, t.Hour(), t.Minute(), t.Second(), 0, time.UTC)
}

// instant is when the clock of the schedule's place shows a time: if it does so twice, the first time; if it never does, as clocks
// are put forward, what would have been then without that (RFC 5545, 3.3.5).
func (s *Schedule) instant(wall time.Time) time.Time {
	y, m, d := wall.Date()
	t := time.Date(y, m, d, wall.Hour(), wall.Minute(), wall.Second(), 0, s.zone)
	_, before := t.Add(-25 * time.Hour).Zone() // the offset of the day before, in seconds
	if first := wall.Add(-time.Duration(before) * time.Second).In(s.zone); asUTC(first).Equal(wall) || !asUTC(t).Equal(wall) {
		return first
	}
	return t
}
