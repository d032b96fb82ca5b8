package fleet

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"jugate/api"
	"jugate/core/fault"
	"jugate/core/hwaddr"
	"jugate/core/rights"
	"jugate/core/roster"
	"jugate/core/selection"
	"jugate/records"
)

// Choose finds the workstations that names and a condition mean, each once: those that the
// names stand for and that the condition fits; without names, whoever of the roster it fits.
func (f *Fleet) Choose(ctx context.Context, names []string, where string) ([]records.Workstation, error) {
	chosen, err := f.choose(ctx, names, where)
	if err != nil {
		return nil, err
	}
	return chosen, checkAll(ctx, chosen)
}

// Means tells whether a workstation is among those that names and a condition mean.
func (f *Fleet) Means(ctx context.Context, names []string, where string, w records.Workstation) (bool, error) {
	its := slices.Concat([]string{w.Name}, w.Groups(), each(w.Addresses(), hwaddr.Address.String))
	named := func(name string) bool {
		return slices.ContainsFunc(its, func(one string) bool { return strings.EqualFold(one, name) })
	}
	if len(names) > 0 && !slices.ContainsFunc(names, named) || len(names) == 0 && where == "" {
		return false, nil
	}
	if where == "" {
		return true, nil
	}
	fits, err := f.fitting(ctx, []records.Workstation{w}, where)
	return len(fits) > 0, err
}

// checkAll refuses what is done with the context, unless its holder has the right for each workstation.
func checkAll(ctx context.Context, all []records.Workstation) error {
	for _, w := range all {
		if err := rights.Check(ctx, w.Label(), w.Groups()); err != nil {
			return err
		}
	}
	return nil
}

func (f *Fleet) choose(ctx context.Context, names []string, where string) ([]records.Workstation, error) {
	if where == "" {
		if len(names) == 0 {
			return nil, fault.Invalid.Errorf("say for which workstations: name workstations or groups, or give a condition")
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
	tested := map[int64]time.Time{}
	if s.Uses("tested") != "" {
		if tested, err = f.Records.DisksTested(ctx); err != nil {
			return nil, err
		}
	}
	said := map[int64][]records.Said{}
	if s.Uses("said", "passed") != "" {
		if said, err = f.Records.AllSaid(ctx); err != nil {
			return nil, err
		}
	}
	for _, w := range all {
		m := f.machine(w, inventories[w.ID])
		m.Said, m.Passed = map[string]string{}, map[string]bool{}
		for _, c := range said[w.ID] {
			m.Said[c.Command], m.Passed[c.Command] = c.LastLine, c.Passed
		}
		if at, was := tested[w.ID]; was {
			m.Tested = int(f.Now().Sub(at) / (24 * time.Hour))
		}
		is, err := s.Match(m)
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
		Memory: int(w.Memory), Firmware: inv.Firmware, SecureBoot: inv.SecureBoot, Site: w.Site, Note: w.Note, Field: told.Fields, Online: told.Online, Running: told.Helper != nil && told.Helper.Running, Unfinished: told.Unfinished, Wanted: told.Wanted, Behind: told.Behind,
	}
	m.FirmwareVersion, m.Setting, m.Mains, m.Battery, m.Tested = inv.FirmwareVersion, inv.Settings, inv.Mains == nil || *inv.Mains, 100, selection.Never
	if inv.Battery != nil {
		m.Battery = *inv.Battery
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
