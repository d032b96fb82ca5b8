package fleet

import (
	"context"
	"errors"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/core/hwaddr"
	"jugate/core/roster"
	"jugate/records"
)

// Refuse turns a machine away: a newcomer by its UUID and all of its addresses, any other
// machine by the address or UUID in the request.
func (f *Fleet) Refuse(ctx context.Context, in api.NewRefusal) error {
	var values []string
	w, err := f.Records.FindWorkstation(ctx, in.Machine)
	switch {
	case err == nil && !w.State.Unknown():
		return fault.Conflict.Errorf("%s is %s; retire it, and forget or refuse what is left then", w.Label(), w.State)
	case err == nil:
		for _, a := range w.Addresses() {
			values = append(values, a.String())
		}
		if w.Identity().UUID != "" {
			values = append(values, w.UUID)
		}
	case !errors.Is(err, fault.NotFound):
		return err
	default:
		if a, err := hwaddr.Parse(in.Machine); err == nil {
			values = []string{a.String()}
		} else if id := roster.NewIdentity(in.Machine, ""); id.UUID != "" {
			values = []string{id.UUID}
		} else {
			return fault.Invalid.Errorf("%q is neither a newcomer nor a hardware address nor a system UUID that tells one machine from others", in.Machine)
		}
	}
	if err := f.Records.Refuse(ctx, records.Refusal{At: f.Now(), By: actor.From(ctx).String(), Note: in.Note}, values); err != nil {
		return err
	}
	if w.ID != 0 {
		f.agents.forget(w.ID)
		f.Stock.Touched(w.ID)
	}
	f.Log.Info("machine refused", "machine", in.Machine, "by", actor.From(ctx))
	f.Publish(api.BootStepped{})
	return nil
}

// Refusals lists who is turned away.
func (f *Fleet) Refusals(ctx context.Context, p records.Page) ([]api.Refusal, int, error) {
	rows, total, err := f.Records.Refusals(ctx, p)
	return each(rows, func(r records.Refusal) api.Refusal {
		return api.Refusal{Value: r.Value, At: r.At, By: r.By, Note: r.Note}
	}), total, err
}

// EndRefusal lets a machine come again.
func (f *Fleet) EndRefusal(ctx context.Context, value string) error {
	if a, err := hwaddr.Parse(value); err == nil {
		value = a.String()
	}
	return f.Records.EndRefusal(ctx, value)
}
