package access

import (
	"context"
	"slices"
	"strings"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/core/rights"
	"jugate/core/roster"
)

// rolesByName are all roles, those that every service has first.
func (a *Access) rolesByName(ctx context.Context) ([]rights.Role, error) {
	all := slices.Clone(rights.BuiltIn)
	own, err := a.Records.Roles(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range own {
		has, err := r.Rights()
		if err != nil {
			return nil, err
		}
		all = append(all, rights.Role{Name: r.Name, Note: r.Note, Rights: has})
	}
	return all, nil
}

func findRole(all []rights.Role, name string) (rights.Role, bool) {
	i := slices.IndexFunc(all, func(r rights.Role) bool { return strings.EqualFold(r.Name, name) })
	if i < 0 {
		return rights.Role{}, false
	}
	return all[i], true
}

// Roles lists those that every service has, and the service's own.
func (a *Access) Roles(ctx context.Context) ([]api.Role, error) {
	all, err := a.rolesByName(ctx)
	out := make([]api.Role, len(all))
	for i, r := range all {
		out[i] = api.Role{Name: r.Name, Note: r.Note, Rights: r.Rights, BuiltIn: r.BuiltIn}
	}
	return out, err
}

// PutRole keeps a role of the service's own.
func (a *Access) PutRole(ctx context.Context, in api.NewRole) (api.Role, error) {
	if err := roster.CheckName("a role", in.Name); err != nil {
		return api.Role{}, err
	}
	if _, is := rights.FindBuiltIn(in.Name); is {
		return api.Role{}, fault.Conflict.Errorf("every service has the role %s, and it cannot be changed; give yours another name", in.Name)
	}
	for _, r := range in.Rights {
		if !rights.Known(r) {
			return api.Role{}, fault.Invalid.Errorf("%q is not a right", r)
		}
	}
	if err := a.Records.PutRole(ctx, in.Name, in.Note, in.Rights); err != nil {
		return api.Role{}, err
	}
	a.callers.forget()
	a.Log.Info("role kept", "role", in.Name, "rights", in.Rights, "by", actor.From(ctx))
	return api.Role{Name: in.Name, Note: in.Note, Rights: in.Rights}, nil
}

// RemoveRole forgets a role that nobody has.
func (a *Access) RemoveRole(ctx context.Context, name string) error {
	if _, is := rights.FindBuiltIn(name); is {
		return fault.Conflict.Errorf("every service has the role %s", name)
	}
	return a.Records.RemoveRole(ctx, name)
}
