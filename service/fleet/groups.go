package fleet

import (
	"context"
	"maps"
	"slices"

	"jugate/api"
	"jugate/core/fault"
	"jugate/core/rights"
	"jugate/core/roster"
	"jugate/core/selection"
	"jugate/records"
)

func groupOf(g records.Group) api.Group {
	return api.Group{Name: g.Name, Where: g.Condition, Workstations: g.Members, Build: g.Build, Menu: g.Menu, Image: wantedOf(g), Behind: g.Behind}
}

// wantedOf is what the workstations of a group should have, as people say it.
func wantedOf(g records.Group) string {
	if g.Image == "" {
		return ""
	}
	return roster.Ref{Image: g.Image, Version: g.Version}.String()
}

// Groups lists groups.
func (f *Fleet) Groups(ctx context.Context, p records.Page) ([]api.Group, int, error) {
	rows, total, err := f.Records.Groups(ctx, rights.From(ctx).Groups(rights.See), p)
	return each(rows, groupOf), total, err
}

// AddGroup makes a group: an empty one, or one that a condition fills.
func (f *Fleet) AddGroup(ctx context.Context, in api.NewGroup) (api.Group, error) {
	if err := roster.CheckName("a group", in.Name); err != nil {
		return api.Group{}, err
	}
	if in.Where == "" {
		return api.Group{Name: in.Name}, f.Records.AddGroup(ctx, in.Name)
	}
	s, err := selection.Parse(in.Where)
	if err != nil {
		return api.Group{}, err
	}
	if name := s.Uses("groups", "wanted", "behind", "online", "running", "mains", "battery", "tested", "said", "passed", "last_seen", "now"); name != "" {
		return api.Group{}, fault.Invalid.Errorf("a group cannot go by %s, as nothing tells when that changes", name)
	}
	all, _, err := f.Records.Workstations(ctx, records.WorkstationFilter{States: []roster.State{roster.Expected, roster.Admitted}}, records.Page{})
	if err != nil {
		return api.Group{}, err
	}
	fits, err := f.fitting(ctx, all, in.Where)
	if err != nil {
		return api.Group{}, err
	}
	ids := each(fits, func(w records.Workstation) int64 { return w.ID })
	if err := f.Records.AddFilledGroup(ctx, in.Name, in.Where, ids); err != nil {
		return api.Group{}, err
	}
	f.touched(context.WithoutCancel(ctx), ids)
	return f.group(ctx, in.Name)
}

func (f *Fleet) group(ctx context.Context, name string) (api.Group, error) {
	g, err := f.Records.Group(ctx, name)
	if err != nil {
		return api.Group{}, err
	}
	return groupOf(*g), nil
}

// fill puts workstations into the groups whose conditions they fit, and takes them out of the
// others that conditions fill. It tells which it has moved.
func (f *Fleet) fill(ctx context.Context, all map[int64]records.Workstation) (moved []int64, err error) {
	groups, err := f.Records.FilledGroups(ctx)
	if err != nil || len(groups) == 0 || len(all) == 0 {
		return nil, err
	}
	conditions := make([]*selection.Selection, len(groups))
	needsInventory := false
	for i, g := range groups {
		if s, err := selection.Parse(g.Condition); err == nil {
			conditions[i] = s
			needsInventory = needsInventory || s.NeedsInventory()
		}
	}
	inventories := map[int64]api.Inventory{}
	if needsInventory {
		err := f.Records.Inventories(ctx, slices.Collect(maps.Keys(all)), func(w records.Workstation, inv api.Inventory) { inventories[w.ID] = inv })
		if err != nil {
			return nil, err
		}
	}
	for id, w := range all {
		changed := false
		for i, g := range groups {
			fits := false
			if conditions[i] != nil && roster.MustBeAdmitted("", w.State) == nil {
				fits, _ = conditions[i].Match(f.machine(w, inventories[id])) // a machine that the condition makes no sense of does not fit
			}
			if fits == slices.Contains(w.Groups(), g.Name) {
				continue
			}
			if err := f.Records.Fill(ctx, g.Name, id, fits); err != nil {
				return moved, err
			}
			f.Log.Info("group filled", "group", g.Name, "workstation", w.Label(), "in", fits)
			changed = true
		}
		if changed {
			moved = append(moved, id)
		}
	}
	return moved, nil
}

// RemoveGroup removes a group; its workstations stay.
func (f *Fleet) RemoveGroup(ctx context.Context, name string) error {
	return f.Records.RemoveGroup(ctx, name)
}

// Include takes workstations into a group, all or none; they may be there already.
func (f *Fleet) Include(ctx context.Context, group string, in api.GroupMembers) (api.Group, error) {
	return f.membership(ctx, group, in, f.Records.Include)
}

// Exclude takes workstations out of a group, all or none.
func (f *Fleet) Exclude(ctx context.Context, group string, in api.GroupMembers) (api.Group, error) {
	if len(in.Workstations) == 0 && in.Where != "" {
		in.Workstations = []string{group} // whoever of it the condition fits
	}
	return f.membership(ctx, group, in, f.Records.Exclude)
}

func (f *Fleet) membership(ctx context.Context, group string, in api.GroupMembers, change func(ctx context.Context, group string, ids []int64) error) (api.Group, error) {
	chosen, err := f.Choose(ctx, in.Workstations, in.Where)
	if err != nil {
		return api.Group{}, err
	}
	if err := rights.CheckGroup(ctx, group); err != nil {
		return api.Group{}, err
	}
	ids := each(chosen, func(w records.Workstation) int64 { return w.ID })
	if err := change(ctx, group, ids); err != nil {
		return api.Group{}, err
	}
	for _, id := range ids {
		f.publish(ctx, id)
	}
	return f.group(ctx, group)
}

// SetImage says what the workstations of a group should have: NAME for the newest version, or NAME@VERSION; an empty text says
// nothing any more.
func (f *Fleet) SetImage(ctx context.Context, group, image string) (api.Group, error) {
	var ref roster.Ref
	if image != "" {
		var err error
		if ref, err = roster.ParseRef(image); err != nil {
			return api.Group{}, err
		}
		if err := rights.CheckImage(ctx, rights.See, ref.Image); err != nil {
			return api.Group{}, err
		}
		v, err := f.Records.Version(ctx, ref)
		if err != nil {
			return api.Group{}, err
		}
		if ref.Image = v.Image; ref.Version > 0 && v.Retired.Valid {
			return api.Group{}, fault.Conflict.Errorf("%s is retired; readmit it first", v.Ref())
		}
	}
	if err := f.Records.SetGroupImage(ctx, group, ref); err != nil {
		return api.Group{}, err
	}
	members, _, err := f.Records.Workstations(ctx, records.WorkstationFilter{Group: group}, records.Page{})
	if err != nil {
		return api.Group{}, err
	}
	for _, w := range members {
		f.Publish(f.workstation(w))
		f.Ring(w.ID) // an order may run for it
	}
	return f.group(ctx, group)
}

// SetMenu has a group's workstations show a menu before they start from their disk, for
// some seconds; 0 shows none.
func (f *Fleet) SetMenu(ctx context.Context, group string, seconds int) error {
	return f.Records.SetMenu(ctx, group, seconds)
}
