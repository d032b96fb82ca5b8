package fleet

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strings"

	"jugate/api"
	"jugate/core/answers"
	"jugate/core/fault"
	"jugate/core/roster"
	"jugate/records"
)

// counted are the answers that somebody counts.
var counted = []string{"product_key", "domain", "computer_name"}

// keyEnd is how many letters of a product key are told: so many tell one from others, and are good for nothing.
const keyEnd = 5

// Licences tells which workstations of the roster are given a product key, or join a domain, and whether what they got has started.
func (f *Fleet) Licences(ctx context.Context) (all []api.LicenceReport, err error) {
	rows, err := f.Records.Answers(ctx, nil)
	if err != nil {
		return nil, err
	}
	rows = slices.DeleteFunc(rows, func(r records.Answer) bool { return !slices.Contains(counted, r.Key) })
	if !slices.ContainsFunc(rows, func(r records.Answer) bool { return r.Key != "computer_name" }) {
		return nil, nil
	}
	workstations, _, err := f.Records.Workstations(ctx, records.WorkstationFilter{States: []roster.State{roster.Admitted}}, records.Page{Sort: "name"})
	if err != nil {
		return nil, err
	}
	arrivals, err := f.Records.LastArrivals(ctx)
	if err != nil {
		return nil, err
	}
	for _, w := range workstations {
		version, _ := w.Holds()
		resolved, err := f.inherit(rows, w, version.Image)
		if err != nil && !errors.Is(err, fault.Conflict) {
			return nil, err
		}
		one := api.LicenceReport{Workstation: w.Name, Model: w.MakerAndModel(), Name: w.Name}
		if err != nil {
			one.Remark = err.Error()
		}
		for _, r := range resolved {
			switch text := textOf(r.Value); r.Key {
			case "product_key":
				one.Key, one.KeyFrom = text[max(0, len(text)-keyEnd):], r.From
			case "domain":
				one.Domain = text
			case "computer_name":
				one.Name = text
			}
		}
		if one.Key == "" && one.Domain == "" && err == nil {
			continue
		}
		if one.Domain == "" {
			one.Name = ""
		}
		if version != (roster.Ref{}) {
			one.Image = version.String()
		}
		if a, told := arrivals[w.ID]; told {
			one.Arrived, one.Remark = records.TimeOf(a.Arrived), cmp.Or(one.Remark, a.Remark)
		}
		all = append(all, one)
	}
	return all, nil
}

// textOf is a value that is a text, as it was checked.
func textOf(v answers.Value) (text string) {
	json.Unmarshal([]byte(v), &text)
	return strings.TrimSpace(text)
}
