package orders

import (
	"context"
	"database/sql"
	"fmt"
	"slices"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/delivery"
	"jugate/core/errand"
	"jugate/core/fault"
	"jugate/core/order"
	"jugate/core/rights"
	"jugate/records"
)

// A run that failed can go on: with the part that failed, for the workstations that it failed for. That is a run of its own, so that
// the history says what was when.

// GoOn has a run that failed or was stopped go on.
func (o *Orders) GoOn(ctx context.Context, person, id int64) (api.OrderRun, error) {
	row, in, err := o.numbered(ctx, id)
	if err != nil {
		return api.OrderRun{}, err
	}
	if err := o.mayRun(ctx, in); err != nil && !rights.From(ctx).HasRole(in.Released) {
		return api.OrderRun{}, err
	} else if err != nil {
		person = row.PersonID
	}
	o.beginning.Lock()
	defer o.beginning.Unlock()
	switch after, err := o.Records.RunAfter(ctx, id); {
	case err != nil:
		return api.OrderRun{}, err
	case after != 0:
		return api.OrderRun{}, fault.Conflict.Errorf("run %d goes on for run %d already", after, id)
	case row.State != order.Failed && row.State != order.Stopped:
		return api.OrderRun{}, fault.Conflict.Errorf("run %d is %s; one that failed or was stopped can go on", id, row.State)
	}
	next, work, err := o.after(ctx, row, actor.From(ctx).String())
	if err != nil {
		return api.OrderRun{}, err
	}
	next.PersonID = person
	return o.beginNow(ctx, in, next, work)
}

// tryAgain begins a run for those that one failed for, if its order says that it is tried more often. The keeper carries it out.
func (o *Orders) tryAgain(ctx context.Context, row *records.Run, state order.State) error {
	in, err := row.Order()
	if err != nil || state != order.Failed || row.Attempt >= in.Tries {
		return err
	}
	next, work, err := o.after(ctx, row, row.OrderedBy)
	if err != nil {
		return err
	}
	next.PersonID = row.PersonID
	if _, err = o.beginParts(ctx, in, next, work, nil); err == nil {
		o.moved.ring()
	}
	return err
}

// after is the run that goes on for one that has ended, and the parts that it has.
func (o *Orders) after(ctx context.Context, row *records.Run, by string) (next records.Run, work []order.Work, err error) {
	next = records.Run{Name: row.Name, OrderedBy: by, Continues: sql.NullInt64{Int64: row.ID, Valid: true}, Attempt: row.Attempt + 1, OnlyIDs: row.OnlyIDs}
	parts, err := o.Records.RunParts(ctx, row.ID)
	if err != nil {
		return next, nil, err
	}
	first := slices.IndexFunc(parts, func(p records.RunPart) bool { return p.State != order.Done || p.LeftOutJS != "" })
	if first < 0 {
		return next, nil, fault.Conflict.Errorf("nothing of run %d is left to do", row.ID)
	}
	if parts[first].Work == order.Arrive { // what has not started is delivered again
		first = slices.IndexFunc(parts, func(p records.RunPart) bool { return p.Work == order.Deliver })
	}
	var failed []int64
	for _, p := range parts[first:] {
		work = append(work, p.Work)
		some, err := o.failedFor(ctx, p)
		if err != nil {
			return next, nil, err
		}
		failed = append(failed, some...)
	}
	slices.Sort(failed)
	if failed = slices.Compact(failed); len(failed) > 0 {
		next.SetOnly(failed)
	}
	return next, work, nil
}

// failedFor are the workstations that a part of a run failed for. None stands for all: it failed before it had any.
func (o *Orders) failedFor(ctx context.Context, p records.RunPart) (ids []int64, err error) {
	left, err := p.LeftOut()
	if err != nil {
		return nil, err
	}
	if ids = each(left, func(l api.LeftOut) int64 { return l.ID }); p.Work != order.Deliver && len(ids) > 0 {
		return ids, nil
	}
	deliveries, errands, err := o.Records.Of(ctx, records.PartOfRun{Run: p.Run, Part: p.Number})
	if err != nil {
		return nil, err
	}
	for _, id := range deliveries {
		receipts, _, err := o.Records.Receipts(ctx, records.ReceiptFilter{DeliveryID: id}, records.Page{})
		if err != nil {
			return nil, err
		}
		for _, r := range receipts {
			if r.Outcome != delivery.Delivered {
				ids = append(ids, r.WorkstationID)
			}
		}
	}
	for _, id := range errands {
		e, err := o.Records.Errand(ctx, id)
		if err != nil {
			return nil, err
		}
		if e.State != errand.Done {
			ids = append(ids, e.WorkstationID)
		}
	}
	return ids, nil
}

// onlyFor names the workstations that a run is for; nil if those are all of its order.
func (o *Orders) onlyFor(ctx context.Context, row *records.Run) (names []string, err error) {
	only, err := row.Only()
	if err != nil || only == nil {
		return nil, err
	}
	all, err := o.Records.ByNumber(ctx, only)
	for _, id := range only {
		if w, known := all[id]; known {
			names = append(names, w.Label())
		} else {
			names = append(names, fmt.Sprintf("workstation %d, which was forgotten", id))
		}
	}
	slices.Sort(names)
	return names, err
}
