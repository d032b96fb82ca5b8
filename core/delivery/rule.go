package delivery

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"jugate/core/fault"
)

// Rule is the gather rule: it tells when the stream starts. The zero value waits
// until all are ready.
type Rule struct {
	// Terms: the stream starts as soon as every condition of one of them holds.
	terms [][]condition
	text  string
}

// condition is a count of ready workstations, or a time.
type condition struct {
	ready int       // 0 means all
	at    time.Time // if set, this instead
}

// ErrRule says that a text is not a gather rule.
var ErrRule = fault.Invalid.Errorf("not a gather rule (all, first, ready:N or at:TIME; with a comma between two when one of them holds, with a plus when both do)")

// ParseRule reads "all", "first", "ready:N" or "at:TIME" with a time of RFC 3339.
// Conditions with a plus between hold when all of them do, and of terms with a comma
// between one is enough: "at:2026-03-01T18:00:00Z+ready:2,all". A time alone starts
// with whoever is ready then.
func ParseRule(s string) (Rule, error) {
	if s == "" {
		s = "all"
	}
	r := Rule{text: s}
	for _, term := range strings.Split(s, ",") {
		var all []condition
		for _, part := range strings.Split(term, "+") {
			c, err := parseCondition(part)
			if err != nil {
				return Rule{}, fmt.Errorf("%q is %w", s, err)
			}
			all = append(all, c)
		}
		r.terms = append(r.terms, all)
	}
	return r, nil
}

func parseCondition(s string) (condition, error) {
	kind, value, _ := strings.Cut(s, ":")
	switch kind {
	case "all", "first":
		if value != "" {
			return condition{}, ErrRule
		}
		if kind == "first" {
			return condition{ready: 1}, nil
		}
		return condition{}, nil
	case "ready":
		if n, err := strconv.Atoi(value); err == nil && n > 0 {
			return condition{ready: n}, nil
		}
	case "at":
		if t, err := time.Parse(time.RFC3339, value); err == nil {
			return condition{at: t}, nil
		}
	}
	return condition{}, ErrRule
}

// String gives what ParseRule reads.
func (r Rule) String() string {
	if r.text == "" {
		return "all"
	}
	return r.text
}

// Ready is the largest number of workstations that the rule speaks of; 0 if it
// speaks of none.
func (r Rule) Ready() (n int) {
	for _, t := range r.terms {
		for _, c := range t {
			n = max(n, c.ready)
		}
	}
	return n
}

// met applies the rule: ready of those that can still take part are.
func (r Rule) met(now time.Time, ready, possible int) bool {
	if ready == 0 {
		return false
	}
	if len(r.terms) == 0 {
		return ready >= possible
	}
	for _, term := range r.terms {
		holds := true
		for _, c := range term {
			switch {
			case !c.at.IsZero():
				holds = holds && !now.Before(c.at)
			case c.ready == 0 || c.ready > possible:
				holds = holds && ready >= possible
			default:
				holds = holds && ready >= c.ready
			}
		}
		if holds {
			return true
		}
	}
	return false
}

// Earliest is before when the stream cannot start; zero if it can at once.
func (r Rule) Earliest() (earliest time.Time) {
	for i, term := range r.terms {
		var at time.Time
		for _, c := range term {
			if c.at.After(at) {
				at = c.at
			}
		}
		if i == 0 || at.Before(earliest) {
			earliest = at
		}
	}
	return earliest
}

// WaitsFrom is from when a delivery waits for its rule: from its order, or from the rule's
// earliest time.
func (r Rule) WaitsFrom(ordered time.Time) time.Time {
	if earliest := r.Earliest(); earliest.After(ordered) {
		return earliest
	}
	return ordered
}

// next is the first of the rule's times that is still to come.
func (r Rule) next(now time.Time) (at time.Time) {
	for _, t := range r.terms {
		for _, c := range t {
			if c.at.After(now) && (at.IsZero() || c.at.Before(at)) {
				at = c.at
			}
		}
	}
	return at
}
