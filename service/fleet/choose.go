package fleet

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/core/roster"
	"jugate/core/selection"
	"jugate/records"
)

// Choose finds the workstations that names and a condition mean, each once: those that the
// names stand for and that the condition fits; without names, whoever of the roster it fits.
func (f *Fleet) Choose(ctx context.Context, names []string, where string) ([]records.Workstation, error) {
	if where == "" {
		if len(names) == 0 {
			return nil, fault.Invalid.Errorf("it is not said for which workstations: name workstations or groups, or give a condition")
		}
		return f.Records.Targets(ctx, names)
	}
	var all []records.Workstation
	var err error
	if len(names) > 0 {
		all, err = f.Records.Targets(ctx, names)
	} else {
		all, _, err = f.Records.Workstations(ctx, records.WorkstationFilter{States: []roster.State{roster.Expected, roster.Admitted}}, records.Page{})
	}
	if err != nil {
		return nil, err
	}
	chosen, err := f.fitting(ctx, all, where)
	if err == nil && len(chosen) == 0 {
		err = fault.Conflict.Errorf("the condition %s fits no workstation of %s", where, cmp.Or(strings.Join(names, ", "), "the roster"))
	}
	return chosen, err
}

// fitting are the workstations that a condition fits.
func (f *Fleet) fitting(ctx context.Context, all []records.Workstation, where string) ([]records.Workstation, error) {
	s, err := selection.Parse(where)
	if err != nil {
		return nil, err
	}
	inventories := map[int64]api.Inventory{}
	if s.NeedsInventory() {
		if err := f.Records.Inventories(ctx, nil, func(w records.Workstation, inv api.Inventory) { inventories[w.ID] = inv }); err != nil {
			return nil, err
		}
	}
	fits := []records.Workstation{}
	for _, w := range all {
		is, err := s.Match(f.machine(w, inventories[w.ID]))
		if err != nil {
			return nil, err
		}
		if is {
			fits = append(fits, w)
		}
	}
	return fits, nil
}

// machine is what a condition can speak of.
func (f *Fleet) machine(w records.Workstation, inv api.Inventory) selection.Machine {
	told := f.workstation(w)
	m := selection.Machine{
		Name: w.Label(), State: string(w.State), Maker: w.Maker, Model: w.Model, Serial: w.Serial, UUID: w.UUID, Addresses: told.Addresses, Groups: told.Groups,
		Memory: int(w.Memory), Firmware: inv.Firmware, SecureBoot: inv.SecureBoot, Note: w.Note, Field: told.Fields, Online: told.Online, Unfinished: told.Unfinished,
	}
	holds, _ := w.Holds()
	m.Image, m.Version = holds.Image, holds.Version
	if told.LastSeen != nil {
		m.LastSeen = *told.LastSeen
	}
	for _, d := range inv.Disks {
		m.Disks = append(m.Disks, selection.Disk{Size: int(d.Size), Model: d.Model, Serial: d.Serial, Health: d.Health})
	}
	for _, c := range inv.Cards {
		m.Cards = append(m.Cards, c.Model)
	}
	for _, d := range inv.Devices {
		m.Devices = append(m.Devices, d.ID)
	}
	return m
}

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
	switch {
	case len(in.To) == 0 && in.Where == "":
		return nil, fault.Invalid.Errorf("it is not said who is to be named: give hardware addresses, names or groups, or a condition")
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

// touched has everybody hear of workstations that have changed.
func (f *Fleet) touched(ctx context.Context, ids []int64) {
	for _, id := range ids {
		w, err := f.recall(ctx, id)
		if err != nil {
			f.Log.Error("a workstation cannot be read", "id", id, "error", err)
			continue
		}
		f.agents.ring(id)
		f.Stock.Touched(id)
		f.Publish(f.workstation(*w))
	}
	if err := f.Boot.Refix(ctx); err != nil {
		f.Log.Error("fixed addresses cannot be read", "error", err)
	}
}
