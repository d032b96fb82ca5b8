package stock

import (
	"context"
	"slices"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/core/order"
	"jugate/core/rights"
	"jugate/records"
)

// When a boot entry is booted.
const (
	bootOnce   = "once"
	bootAlways = "always"
	bootNever  = "never"
)

// ChooseBootEntry has workstations boot a boot entry in place of their disk, or not any more. A group that is named with always
// has it as its default. Who cannot start it is left out, with the reason.
func (k *Stock) ChooseBootEntry(ctx context.Context, in api.BootChoice) (api.BootChoiceMade, error) {
	out := api.BootChoiceMade{Workstations: []string{}, Groups: []string{}, LeftOut: []api.LeftOut{}}
	ctx = rights.Needing(ctx, rights.Deliver)
	groups, names, err := k.groupsAmong(ctx, in)
	if err != nil {
		return out, err
	}
	out.Groups = append(out.Groups, groups...)
	var targets []records.Workstation
	if len(names) > 0 || in.Where != "" || len(groups) == 0 {
		if targets, err = k.Fleet.Choose(ctx, names, in.Where); err != nil {
			return out, err
		}
	}
	ids := make([]int64, 0, len(targets))
	defer func() { k.Publish(api.BootEntriesChanged{}) }()
	if in.When == bootNever {
		if in.Entry != "" || len(in.Parameters) > 0 {
			return out, fault.Invalid.Errorf("with never no boot entry is named")
		}
		for _, w := range targets {
			ids, out.Workstations = append(ids, w.ID), append(out.Workstations, w.Label())
		}
		return out, k.Records.UnchooseBoot(ctx, ids, groups)
	}
	e, _, err := k.named(ctx, in.Entry)
	if err != nil {
		return out, err
	}
	if _, err := e.values(in.Parameters); err != nil {
		return out, err
	}
	if e.destroys() && in.When == bootAlways {
		return out, fault.Conflict.Errorf("the boot entry %s destroys what is on the disk, and would do so at every start", e.Name)
	}
	for _, w := range targets {
		if _, err := e.startFor(k.machineOf(ctx, w, nil)); err != nil {
			out.LeftOut = append(out.LeftOut, api.LeftOut{Workstation: w.Label(), Reason: whyNot(err)})
			continue
		}
		if w.State.Unknown() {
			out.LeftOut = append(out.LeftOut, api.LeftOut{Workstation: w.Label(), Reason: "nobody has admitted it"})
			continue
		}
		ids, out.Workstations = append(ids, w.ID), append(out.Workstations, w.Label())
	}
	if len(ids) == 0 && len(groups) == 0 && len(out.LeftOut) > 0 {
		return out, fault.Conflict.Errorf("%s: %s", out.LeftOut[0].Workstation, out.LeftOut[0].Reason)
	}
	return out, k.Records.ChooseBoot(ctx, records.BootChoice{Once: in.When == bootOnce, EntryID: e.ID, Chosen: k.Now(), ChosenBy: actor.From(ctx).String()}, in.Parameters, ids, groups)
}

// groupsAmong are the groups that get a default, and the names that are left.
func (k *Stock) groupsAmong(ctx context.Context, in api.BootChoice) (groups, names []string, err error) {
	for _, name := range in.To {
		g, err := k.Records.Group(ctx, name)
		switch {
		case err == nil && in.When != bootOnce:
			if err := rights.CheckGroup(ctx, g.Name); err != nil {
				return nil, nil, err
			}
			groups = append(groups, g.Name)
		case err != nil && fault.KindOf(err) != fault.NotFound:
			return nil, nil, err
		}
		if err != nil || in.When != bootAlways {
			names = append(names, name) // of a group that has no default any more, no workstation has one either
		}
	}
	return groups, names, nil
}

// EntriesAt are the boot entries that whoever has signed in at a workstation may start there: those that were released for them or
// everybody, or all of them for those who may deliver to it.
func (k *Stock) EntriesAt(ctx context.Context, w records.Workstation, holder *rights.Holder) ([]api.BootEntryAt, error) {
	out := []api.BootEntryAt{}
	all, err := k.allEntries(ctx)
	if err != nil {
		return nil, err
	}
	m := k.machineOf(ctx, w, nil)
	for _, e := range all {
		if e.set.Hidden || !k.mayStart(e, w, holder) || !k.isFor(ctx, e, w) {
			continue
		}
		if _, err := e.startFor(m); err != nil {
			continue
		}
		one := api.BootEntryAt{Name: e.Name, Title: e.title(), Parameters: []api.BootParameter{}}
		for _, p := range e.parameters() {
			one.Parameters = append(one.Parameters, api.BootParameter(p))
		}
		out = append(out, one)
	}
	return out, nil
}

func (k *Stock) mayStart(e entry, w records.Workstation, holder *rights.Holder) bool {
	return slices.Contains(e.set.Released, order.Everybody) || holder.HasRole(e.set.Released) || holder.On(rights.Deliver, w.Groups())
}

// MayStartEntry refuses whoever is at a workstation a boot entry that was not released for them there, or that it cannot start.
func (k *Stock) MayStartEntry(ctx context.Context, w records.Workstation, holder *rights.Holder, in api.EntryErrand) error {
	e, _, err := k.named(ctx, in.Entry)
	if err != nil {
		return err
	}
	if !k.isFor(ctx, e, w) || !k.mayStart(e, w, holder) {
		return fault.Forbidden.Errorf("the boot entry %s was not released for you at this workstation", e.Name)
	}
	if _, err := e.values(in.Parameters); err != nil {
		return err
	}
	_, err = e.startFor(k.machineOf(ctx, w, nil))
	return err
}

// CheckEntry refuses a boot entry that is not there, or whose parameters cannot be what is said.
func (k *Stock) CheckEntry(ctx context.Context, in api.EntryErrand) error {
	e, _, err := k.named(ctx, in.Entry)
	if err == nil {
		_, err = e.values(in.Parameters)
	}
	return err
}
