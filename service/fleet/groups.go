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
	return each(rows, func(g records.Group) api.Group { return api.Group{Name: g.Name, Members: g.Members} }), total, err
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

// AddMember takes a workstation into a group.
func (f *Fleet) AddMember(ctx context.Context, group, ref string) error {
	return f.membership(ctx, group, ref, f.Records.AddMember)
}

// RemoveMember takes a workstation out of a group.
func (f *Fleet) RemoveMember(ctx context.Context, group, ref string) error {
	return f.membership(ctx, group, ref, f.Records.RemoveMember)
}

func (f *Fleet) membership(ctx context.Context, group, ref string, change func(ctx context.Context, group string, id int64) error) error {
	w, err := f.Records.FindWorkstation(ctx, ref)
	if err != nil {
		return err
	}
	if err := roster.MustBeAdmitted(w.Label(), w.State); err != nil {
		return err
	}
	if err := change(ctx, group, w.ID); err != nil {
		return err
	}
	f.publish(ctx, w.ID)
	return nil
}

// SetMenu has a group's workstations show a menu before they start from their disk, for
// some seconds; 0 shows none.
func (f *Fleet) SetMenu(ctx context.Context, group string, seconds int) error {
	return f.Records.SetMenu(ctx, group, seconds)
}
