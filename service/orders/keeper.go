package orders

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"sync"
	"time"

	"jugate/core/order"
	"jugate/records"
)

const (
	// lookEvery is how often runs are looked at, besides when something has ended.
	lookEvery = 15 * time.Second
	// lateAtMost is how late a run can begin without having been missed.
	lateAtMost = 5 * time.Minute
)

// bell is rung by many and heard by one. The zero value is ready.
type bell struct {
	once sync.Once
	c    chan struct{}
}

func (b *bell) rings() chan struct{} {
	b.once.Do(func() { b.c = make(chan struct{}, 1) })
	return b.c
}

// ring has whoever listens look, once however often it is rung meanwhile.
func (b *bell) ring() {
	select {
	case b.rings() <- struct{}{}:
	default:
	}
}

// KeepOrders begins runs when their time has come, and has those that are under way go on, until ctx ends.
func (o *Orders) KeepOrders(ctx context.Context) {
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-timer.C:
		case <-o.moved.rings():
		}
		if err := o.beginDue(ctx); err != nil && ctx.Err() == nil {
			o.Log.Error("orders cannot be begun", "error", err)
		}
		open, _, err := o.Records.Runs(ctx, records.RunFilter{Open: true}, records.Page{})
		if err != nil && ctx.Err() == nil {
			o.Log.Error("runs cannot be looked at", "error", err)
		}
		for _, r := range open {
			if err := o.advance(ctx, r.ID); err != nil && ctx.Err() == nil {
				o.Log.Error("a run cannot go on now", "run", r.ID, "order", r.Name, "error", err)
			}
		}
		timer.Reset(o.untilNext(ctx))
	}
}

// untilNext is how long there is nothing to do, unless something ends.
func (o *Orders) untilNext(ctx context.Context) time.Duration {
	if due, is, err := o.Records.NextDue(ctx); err == nil && is {
		return min(max(due.Sub(o.Now()), 10*time.Millisecond), lookEvery)
	}
	return lookEvery
}

// beginDue begins runs of orders whose time has come.
func (o *Orders) beginDue(ctx context.Context) error {
	due, err := o.Records.DueOrders(ctx, o.Now())
	if err != nil {
		return err
	}
	var failed []error
	for _, row := range due { // one that cannot be read is not in the way of others
		if err := o.beginOne(ctx, row); err != nil {
			failed = append(failed, fmt.Errorf("%s: %w", row.Name, err))
		}
	}
	return errors.Join(failed...)
}

func (o *Orders) beginOne(ctx context.Context, row records.Order) error {
	in, err := row.Order()
	if err != nil {
		return err
	}
	schedule, err := scheduleOf(in)
	if err != nil || schedule == nil {
		return err
	}
	now, was := o.Now(), row.Due.Time
	next := nextDue(schedule, now)
	by := fmt.Sprintf("the schedule of %s, saved by %s", row.Name, row.SavedBy)
	open, _, err := o.Records.Runs(ctx, records.RunFilter{Order: row.Name, Open: true}, records.Page{Limit: 1})
	if err != nil {
		return err
	}
	quiet, err := o.quiet(ctx, now)
	if err != nil {
		return err
	}
	reason := ""
	switch {
	case len(open) > 0:
		reason = fmt.Sprintf("run %d was still under way", open[0].ID)
	case quiet != "":
		reason = quiet
	case now.Sub(was) > lateAtMost && in.Schedule.Missed != order.RunMissed:
		reason = fmt.Sprintf("the service did not run at that time, and began %s later", now.Sub(was).Round(time.Minute))
	default:
		id, err := o.beginRun(ctx, in, records.Run{Name: in.Name, OrderedBy: by, PersonID: row.PersonID}, &next)
		if err != nil {
			return err
		}
		return o.bySchedule(ctx, in.Name, by, id)
	}
	o.Log.Warn("a run was missed", "order", row.Name, "at", was, "reason", reason)
	_, err = o.Records.BeginRun(ctx, records.Run{Name: row.Name, State: order.Missed, Reason: reason, OrderedBy: by, PersonID: row.PersonID, Began: was, Ended: sql.NullTime{Time: now, Valid: true}}, in, nil, &next)
	return err
}
