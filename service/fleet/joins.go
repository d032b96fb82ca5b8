package fleet

import (
	"context"
	"encoding/json"
	"errors"

	"jugate/core/answers"
	"jugate/core/fault"
	"jugate/core/join"
)

// joining is a workstation that is to join a domain, under a name.
type joining struct {
	id           int64
	domain, name string // domain is empty if it joins none
}

// joinOf is what the answers of a workstation say of its domain.
func joinOf(id int64, resolved []answers.Resolved) joining {
	j := joining{id: id}
	for _, r := range resolved {
		switch r.Key {
		case "domain":
			json.Unmarshal([]byte(r.Value), &j.domain) // a text, as it was checked
		case "computer_name":
			json.Unmarshal([]byte(r.Value), &j.name)
		}
	}
	return j
}

// judgeJoins notes what speaks against joins, having asked each domain once.
func (f *Fleet) judgeJoins(ctx context.Context, how map[int64]answers.Verdict, joins []joining) error {
	byDomain := map[string][]joining{}
	for _, j := range joins {
		if j.domain != "" {
			byDomain[j.domain] = append(byDomain[j.domain], j)
		}
	}
	for domain, all := range byDomain {
		names := make([]string, len(all))
		for i, j := range all {
			names[i] = j.name
		}
		problems, err := f.Domains.Problems(ctx, domain, names)
		if err != nil && !errors.Is(err, fault.Conflict) {
			return err
		}
		for _, j := range all {
			v := how[j.id]
			switch {
			case errors.Is(err, join.ErrAway):
				v.Away = err.Error()
			case err != nil:
				v.Problem = err.Error()
			default:
				v.Problem = problems[j.name]
			}
			how[j.id] = v
		}
	}
	return nil
}

// join makes a workstation a member of its domain, and returns what its system needs for that.
func (f *Fleet) join(ctx context.Context, j joining, windows bool) (*answers.Joined, error) {
	m, err := f.Domains.Join(ctx, j.domain, j.name)
	if err != nil {
		return nil, err
	}
	out := &answers.Joined{Domain: m.Domain.DNS, Host: m.Host()}
	if windows {
		out.Blob = m.Blob()
		return out, nil
	}
	out.Keytab, err = m.Keytab(f.Now())
	return out, err
}
