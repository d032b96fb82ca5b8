package fleet

import (
	"context"

	"jugate/api"
	"jugate/core/roster"
	"jugate/records"
)

// Groups lists groups.
func (f *Fleet) Groups(ctx context.Context, p records.Page) ([]api.Group, int, error) {
	rows, total, err := f.Records.Groups(ctx, p)
	return each(rows, func(g records.Group) api.Group { return api.Group{Name: g.Name, Workstations: g.Members} }), total, err
}

// AddGroup makes an empty group.
func (f *Fleet) AddGroup(ctx context.Context, name string) (api.Group, error) {
	if err := roster.CheckName("a group", name); err != nil {
		return api.Group{}, err
	}
	return api.Group{Name: name}, f.Records.AddGroup(ctx, name)
}

// RemoveGroup removes a group; its workstations stay.
func (f *Fleet) RemoveGroup(ctx context.Context, name string) error {
	return f.Records.RemoveGroup(ctx, name)
}

// Include takes workstations into a group, all or none; they may be there already.
func (f *Fleet) Include(ctx context.Context, group string, refs []string) (api.Group, error) {
	return f.membership(ctx, group, refs, f.Records.Include)
}

// Exclude takes workstations out of a group, all or none.
func (f *Fleet) Exclude(ctx context.Context, group string, refs []string) (api.Group, error) {
	return f.membership(ctx, group, refs, f.Records.Exclude)
}

func (f *Fleet) membership(ctx context.Context, group string, refs []string, change func(ctx context.Context, group string, ids []int64) error) (api.Group, error) {
	ids := make([]int64, len(refs))
	for i, ref := range refs {
		w, err := f.Records.FindWorkstation(ctx, ref)
		if err != nil {
			return api.Group{}, err
		}
		if err := roster.MustBeAdmitted(w.Label(), w.State); err != nil {
			return api.Group{}, err
		}
		ids[i] = w.ID
	}
	if err := change(ctx, group, ids); err != nil {
		return api.Group{}, err
	}
	for _, id := range ids {
		f.publish(ctx, id)
	}
	g, err := f.Records.Group(ctx, group)
	if err != nil {
		return api.Group{}, err
	}
	return api.Group{Name: g.Name, Workstations: g.Members}, nil
}

// SetMenu has a group's workstations show a menu before they start from their disk, for
// some seconds; 0 shows none.
func (f *Fleet) SetMenu(ctx context.Context, group string, seconds int) error {
	return f.Records.SetMenu(ctx, group, seconds)
}
