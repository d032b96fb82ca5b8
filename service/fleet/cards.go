package fleet

import (
	"context"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/hwaddr"
	"jugate/core/roster"
	"jugate/records"
)

// Cards lists hardware addresses and their workstations. state keeps those in one; empty
// keeps all.
func (f *Fleet) Cards(ctx context.Context, state roster.CardState, p records.Page) ([]api.HardwareAddress, int, error) {
	rows, total, err := f.Records.Cards(ctx, state, p)
	return each(rows, func(c records.Card) api.HardwareAddress {
		return api.HardwareAddress{Address: c.Address, Workstation: c.Workstation, State: c.State}
	}), total, err
}

// AcceptCard makes a hardware address one of a workstation's own.
func (f *Fleet) AcceptCard(ctx context.Context, address, workstation string) (api.Workstation, error) {
	return f.giveCard(ctx, address, workstation, "accepted", f.Records.AcceptCard)
}

// MoveCard makes a hardware address a workstation's, whoever had it.
func (f *Fleet) MoveCard(ctx context.Context, address, workstation string) (api.Workstation, error) {
	return f.giveCard(ctx, address, workstation, "moved", f.Records.MoveCard)
}

func (f *Fleet) giveCard(ctx context.Context, address, workstation, what string, give func(ctx context.Context, id int64, a hwaddr.Address) error) (api.Workstation, error) {
	a, err := hwaddr.Parse(address)
	if err != nil {
		return api.Workstation{}, err
	}
	f.Log.Info("hardware address "+what, "address", a, "workstation", workstation, "by", actor.From(ctx))
	w, err := f.change(ctx, workstation, func(id int64) error { return give(ctx, id, a) })
	f.forgetGone(context.WithoutCancel(ctx)) // a newcomer that was known by that address alone
	return w, err
}

// RemoveCard takes a hardware address away from its workstation.
func (f *Fleet) RemoveCard(ctx context.Context, address string) error {
	return f.changeCard(ctx, address, "removed", f.Records.RemoveCard)
}

// ShareCard says whether a hardware address is of an adapter or dock that several
// machines use.
func (f *Fleet) ShareCard(ctx context.Context, address string, shared bool) error {
	what := "shared"
	if !shared {
		what = "not shared any more"
	}
	return f.changeCard(ctx, address, what, func(ctx context.Context, a hwaddr.Address) error { return f.Records.ShareCard(ctx, a, shared) })
}

func (f *Fleet) changeCard(ctx context.Context, address, what string, change func(ctx context.Context, a hwaddr.Address) error) error {
	a, err := hwaddr.Parse(address)
	if err != nil {
		return err
	}
	if err := change(ctx, a); err != nil {
		return err
	}
	f.Log.Info("hardware address "+what, "address", a, "by", actor.From(ctx))
	ctx = context.WithoutCancel(ctx)
	f.forgetGone(ctx) // a newcomer that was known by that address alone
	return f.Boot.Refix(ctx)
}
