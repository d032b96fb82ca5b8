package fleet

import (
	"strings"

	"jugate/core/answers"
	"jugate/core/fault"
)

// namedInTime refuses that a computer which joins a domain is given its name at its screen: its
// account is made before.
func namedInTime(resolved []answers.Resolved) error {
	joins, asks := false, false
	for _, r := range resolved {
		joins = joins || r.Key == "domain"
		asks = asks || r.Key == "computer_name" && r.Value.IsQuestion()
	}
	if joins && asks {
		return fault.Conflict.Errorf("computer_name is asked at the workstation, which is too late for a computer that joins a domain; set one of them otherwise")
	}
	return nil
}

// whatIsAsked says in words what a person is asked at the workstation; empty if nothing is.
func whatIsAsked(resolved []answers.Resolved) string {
	var keys []string
	for _, r := range resolved {
		if r.Value.IsQuestion() {
			keys = append(keys, r.Key)
		}
	}
	if keys == nil {
		return ""
	}
	return "somebody is asked at its screen, before anything is written: " + strings.Join(keys, ", ")
}
