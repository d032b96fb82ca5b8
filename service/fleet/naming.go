package fleet

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/core/rights"
	"jugate/core/roster"
	"jugate/records"
)

// NameAll names newcomers and workstations by a pattern. Newcomers are admitted.
func (f *Fleet) NameAll(ctx context.Context, in api.NewNames) ([]api.Named, error) {
	p, err := roster.ParsePattern(in.Pattern)
	if err != nil {
		return nil, err
	}
	chosen, err := f.nameable(ctx, in)
	if err != nil {
		return nil, err
	}
	slices.SortStableFunc(chosen, func(a, b records.Workstation) int {
		if in.Order == "appearance" {
			if c := a.FirstSeen.Compare(b.FirstSeen); c != 0 {
				return c
			}
		}
		return cmp.Compare(a.Address().String(), b.Address().String())
	})
	values := make([]roster.Values, len(chosen))
	theirs := map[string]bool{} // names that become free
	for i, w := range chosen {
		group := ""
		if groups := append(slices.Clone(in.Groups), w.Groups()...); len(groups) > 0 {
			group = groups[0]
		}
		values[i] = roster.Values{"label": w.Label(), "group": group, "serial": w.Serial, "model": w.Model, "maker": w.Maker, "address": strings.ReplaceAll(w.Address().String(), ":", ""), "uuid": w.UUID}
		theirs[strings.ToLower(w.Name)] = true
	}
	used, err := f.Records.NamesInUse(ctx)
	if err != nil {
		return nil, err
	}
	names, err := p.Names(values, func(name string) bool { return used[strings.ToLower(name)] && !theirs[strings.ToLower(name)] })
	if err != nil {
		return nil, err
	}
	out := make([]api.Named, len(chosen))
	ids := make([]int64, len(chosen))
	for i, w := range chosen {
		out[i], ids[i] = api.Named{Address: w.Address().String(), Was: w.Name, Name: names[i], State: w.State, Model: w.Model, Serial: w.Serial}, w.ID
	}
	if in.DryRun {
		return out, nil
	}
	if err := f.Records.NameAll(ctx, ids, names, in.Groups); err != nil {
		return nil, err
	}
	f.Log.Info("workstations named", "pattern", in.Pattern, "workstations", len(ids), "by", actor.From(ctx))
	f.touched(context.WithoutCancel(ctx), ids)
	return out, nil
}

// nameable finds who is to be named: unlike Choose, newcomers, too.
func (f *Fleet) nameable(ctx context.Context, in api.NewNames) (chosen []records.Workstation, err error) {
	for _, g := range in.Groups {
		if err := rights.CheckGroup(ctx, g); err != nil {
			return nil, err
		}
	}
	defer func() {
		if err == nil {
			err = checkAll(ctx, chosen)
		}
	}()
	switch {
	case len(in.To) == 0 && in.Where == "":
		return nil, fault.Invalid.Errorf("say who is to be named: give hardware addresses, names or groups, or a condition")
	case len(in.To) == 0:
		chosen, _, err = f.Records.Workstations(ctx, records.WorkstationFilter{States: []roster.State{roster.Newcomer, roster.Expected, roster.Admitted}}, records.Page{})
	default:
		seen := map[int64]bool{}
		for _, ref := range in.To {
			found := []records.Workstation{}
			if w, missing := f.Records.FindWorkstation(ctx, ref); missing == nil {
				if w.State == roster.Retired {
					return nil, roster.MustBeAdmitted(w.Label(), w.State)
				}
				found = append(found, *w)
			} else if found, err = f.Records.Targets(ctx, []string{ref}); err != nil {
				return nil, err
			}
			for _, w := range found {
				if !seen[w.ID] {
					seen[w.ID] = true
					chosen = append(chosen, w)
				}
			}
		}
	}
	if err == nil && in.Where != "" {
		chosen, err = f.fitting(ctx, chosen, in.Where)
	}
	if err == nil && len(chosen) == 0 {
		err = fault.Conflict.Errorf("the condition %s fits no workstation and no newcomer", in.Where)
	}
	return chosen, err
}
