package rights

import "context"

type key struct{}

// With has everything that is done with the context be done as h may.
func With(ctx context.Context, h *Holder) context.Context { return context.WithValue(ctx, key{}, h) }

// From is what may be done with the context; nil, which may do everything, if nobody has said so.
func From(ctx context.Context) *Holder {
	h, _ := ctx.Value(key{}).(*Holder)
	return h
}
