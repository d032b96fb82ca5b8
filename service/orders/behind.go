package orders

import (
	"context"
	"fmt"
	"strings"

	"jugate/api"
	"jugate/core/delivery"
	"jugate/core/roster"
	"jugate/records"
)

// An order may run by itself for each workstation that appears and does not have what its groups say it should have. Each is brought
// each version once: one that failed is a matter for people.

// unasked is an order that is to run for a workstation now.
type unasked struct {
	row     records.Order
	in      api.Order
	version roster.Ref
}

// IsWanted tells which order would run for a workstation if it appeared now; empty if none would.
func (o *Orders) IsWanted(ctx context.Context, w records.Workstation) (order string, err error) {
	u, err := o.unaskedFor(ctx, w)
	if u == nil || err != nil {
		return "", err
	}
	return u.in.Name, nil
}

// unaskedFor is the order that is to run for a workstation, or nil: the first by name that brings the version that it should have.
func (o *Orders) unaskedFor(ctx context.Context, w records.Workstation) (*unasked, error) {
	wanted := w.Wanted()
	if !w.Behind() || len(wanted) != 1 {
		return nil, nil
	}
	rows, err := o.Records.OrdersWhenBehind(ctx)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	if quiet, err := o.Records.QuietAt(ctx, o.Now()); quiet != nil || err != nil {
		return nil, err
	}
	for _, row := range rows {
		in, err := row.Order()
		if err != nil {
			return nil, err
		}
		brings, err := roster.ParseRef(in.Deliver.Image)
		if err != nil {
			return nil, err
		}
		if !strings.EqualFold(brings.Image, wanted[0].Image) || brings.Version != 0 && brings.Version != wanted[0].Version {
			continue
		}
		if tried, err := o.Records.LastTried(ctx, row.ID, w.ID); err != nil {
			return nil, err
		} else if tried == wanted[0].String() {
			continue
		}
		if means, err := o.Fleet.Means(ctx, in.Deliver.To, in.Deliver.Where, w); err != nil {
			return nil, err
		} else if means {
			return &unasked{row, in, wanted[0]}, nil
		}
	}
	return nil, nil
}

// beginUnasked has the order run that a workstation is to get, if there is one, and tells whether there was. Those that appear while
// the delivery of such a run is under way join it.
func (o *Orders) beginUnasked(ctx context.Context, workstation int64) (begun bool, err error) {
	rows, err := o.Records.OrdersWhenBehind(ctx) // most ask in vain, which is to cost little
	if err != nil || len(rows) == 0 {
		return false, err
	}
	o.beginning.Lock()
	defer o.beginning.Unlock()
	w, err := o.Records.Workstation(ctx, workstation)
	if err != nil {
		return false, err
	}
	u, err := o.unaskedFor(ctx, *w)
	if u == nil || err != nil {
		return false, err
	}
	ctx = context.WithoutCancel(ctx) // whoever asked may go
	tried := records.Tried{Order: u.row.ID, Workstation: w.ID, Version: u.version.String()}
	by := fmt.Sprintf("the order %s for workstations that are behind, saved by %s", u.in.Name, u.row.SavedBy)
	if joined, err := o.joinUnasked(ctx, u, *w, by); err != nil {
		return false, err
	} else if joined {
		return true, o.Records.SetTried(ctx, tried)
	}
	in := u.in
	prepared := *in.Deliver
	prepared.Image, prepared.Start = u.version.String(), "all"
	in.Deliver = &prepared
	run := records.Run{Name: in.Name, OrderedBy: by, PersonID: u.row.PersonID, Unasked: &tried}
	run.SetOnly([]int64{w.ID})
	id, err := o.beginRun(ctx, in, run, nil)
	if err != nil {
		return false, err
	}
	if err := o.bySchedule(ctx, in.Name, by, id); err != nil {
		return false, err
	}
	return true, o.advance(ctx, id)
}

// joinUnasked takes a workstation into a run of the same order and version whose delivery still takes somebody.
func (o *Orders) joinUnasked(ctx context.Context, u *unasked, w records.Workstation, by string) (bool, error) {
	if u.in.Check != nil || u.in.Wipe != nil || u.in.SaveDays > 0 || len(u.in.Commands)+len(u.in.OnlyIf) > 0 { // each goes all of the way
		return false, nil
	}
	open, _, err := o.Records.Runs(ctx, records.RunFilter{Order: u.in.Name, Open: true}, records.Page{})
	if err != nil {
		return false, err
	}
	for _, run := range open {
		only, err := run.Only()
		if err != nil {
			return false, err
		}
		if run.OrderedBy != by || only == nil {
			continue
		}
		deliveries, err := o.Records.DeliveriesOf(ctx, run.ID)
		if err != nil {
			return false, err
		}
		for _, d := range deliveries {
			if d.State != delivery.Gathering && d.State != delivery.Sending || d.Image != u.version.Image || d.Version != u.version.Version {
				continue
			}
			as, err := o.onBehalf(ctx, &run)
			if err == nil {
				_, err = o.Extend(as, d.ID, api.MoreTargets{To: []string{w.Label()}})
			}
			if err != nil {
				continue // it has ended meanwhile, or does not fit: a run of its own says so
			}
			return true, o.Records.SetRunOnly(ctx, run.ID, append(only, w.ID))
		}
	}
	return false, nil
}
