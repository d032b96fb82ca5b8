package orders

import (
	"context"
	"errors"
	"slices"
	"strings"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/core/order"
	"jugate/core/rights"
	"jugate/core/roster"
	"jugate/records"
)

// At a workstation an order can be run for that one alone: by whoever has signed in there, and one that was released for everybody from its
// boot menu.

// ThereFor are the orders that whoever the context is of may run at a workstation.
func (o *Orders) ThereFor(ctx context.Context, w records.Workstation) ([]string, error) {
	return o.there(ctx, w, func(in api.Order) bool {
		return o.mayRunAt(ctx, in, w) == nil || rights.From(ctx).HasRole(in.Released) || isForEverybody(in)
	})
}

// ForEverybody are those that anybody may run at a workstation, without signing in.
func (o *Orders) ForEverybody(ctx context.Context, w records.Workstation) ([]string, error) {
	if w.State.Unknown() {
		return []string{}, nil
	}
	return o.there(ctx, w, isForEverybody)
}

func isForEverybody(in api.Order) bool {
	return slices.ContainsFunc(in.Released, func(role string) bool { return strings.EqualFold(role, order.Everybody) })
}

func (o *Orders) there(ctx context.Context, w records.Workstation, may func(in api.Order) bool) ([]string, error) {
	names := []string{}
	if w.State == roster.Retired {
		return names, nil
	}
	rows, _, err := o.Records.Orders(ctx, records.Page{})
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		in, err := row.Order()
		if err != nil {
			return nil, err
		}
		if !may(in) {
			continue
		}
		if is, err := o.isFor(ctx, in, w); err != nil {
			return nil, err
		} else if is {
			names = append(names, in.Name)
		}
	}
	return names, nil
}

// isFor tells whether all that an order does is for a workstation, too. What captures is for no other than the one that it captures.
func (o *Orders) isFor(ctx context.Context, in api.Order, w records.Workstation) (bool, error) {
	for _, t := range tasksOf(in) {
		if means, err := o.meant(ctx, in, t, w); !means || err != nil {
			return false, err
		}
	}
	return true, nil
}

// mayRunAt refuses an order to whoever lacks a right for what it does to one workstation.
func (o *Orders) mayRunAt(ctx context.Context, in api.Order, w records.Workstation) error {
	all := []error{mayUseImages(ctx, in)}
	for _, t := range tasksOf(in) {
		all = append(all, rights.Check(rights.Needing(ctx, t.right), w.Label(), w.Groups()))
	}
	if len(in.Commands) > 0 || in.Deliver != nil && len(in.Deliver.OwnAnswers) > 0 {
		all = append(all, rights.Check(rights.Needing(ctx, rights.Answer), w.Label(), w.Groups()))
	}
	return errors.Join(all...)
}

// RunThere begins a run of an order for one workstation alone. Person is who has signed in there, 0 for the key of last resort and for
// whoever has not signed in by name; the rights of whoever has saved the order count for those that it was released for.
func (o *Orders) RunThere(ctx context.Context, person int64, name string, w records.Workstation) error {
	row, in, err := o.named(ctx, name)
	if err != nil {
		return err
	}
	switch is, err := o.isFor(ctx, in, w); {
	case err != nil:
		return err
	case !is:
		return fault.Conflict.Errorf("the order %s is not for %s", in.Name, w.Label())
	}
	if err := o.mayRunAt(ctx, in, w); err != nil && !rights.From(ctx).HasRole(in.Released) && !isForEverybody(in) {
		return err
	} else if err != nil || person == 0 && rights.From(ctx) != nil {
		person = row.PersonID
	}
	run := records.Run{Name: in.Name, OrderedBy: actor.From(ctx).String(), PersonID: person}
	run.SetOnly([]int64{w.ID})
	_, err = o.beginNow(ctx, in, run, workOf(in))
	return err
}
