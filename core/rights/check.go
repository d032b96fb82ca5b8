package rights

import (
	"context"

	"jugate/core/fault"
)

// refused says what may not be done.
func refused(r Right, what string) error {
	return fault.Forbidden.Errorf("this takes the right to %s for %s, which you do not have", r, what)
}

type needKey struct{}

// Needing has what is done with the context take a right, for each workstation that it is done to.
func Needing(ctx context.Context, r Right) context.Context {
	return context.WithValue(ctx, needKey{}, r)
}

// Check refuses what is done with the context to a workstation that is in these groups, unless its
// holder has the right that it needs. The error is a fault.Forbidden.
func Check(ctx context.Context, workstation string, groups []string) error {
	r, needs := ctx.Value(needKey{}).(Right)
	if h := From(ctx); needs && !h.On(r, groups) {
		return refused(r, workstation)
	}
	return nil
}

// CheckGroup is Check for a group.
func CheckGroup(ctx context.Context, group string) error {
	return Check(ctx, "the group "+group, []string{group})
}

// CheckImage refuses what takes a right for an image. The error is a fault.Forbidden.
func CheckImage(ctx context.Context, r Right, image string) error {
	if !From(ctx).OnImage(r, image) {
		return refused(r, "the image "+image)
	}
	return nil
}

// CheckEverything refuses what takes a right for everything. The error is a fault.Forbidden.
func CheckEverything(ctx context.Context, r Right) error {
	if !From(ctx).May(r) {
		return refused(r, string(Everything))
	}
	return nil
}
