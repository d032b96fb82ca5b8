package orders

import (
	"context"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/core/rights"
	"jugate/core/roster"
	"jugate/records"
)

// At a repair bench machines come and go. Whoever has signed in at one that nobody has admitted has it receive an image, or do what was
// prepared for that. It visits for as long as that takes, and the roster stays as it is.

// checkBench refuses an order for a bench that cannot be run there.
func checkBench(in api.Order) error {
	switch {
	case !in.Bench:
		return nil
	case in.Capture != nil:
		return fault.Invalid.Errorf("an order that may be run at a bench has no capture")
	case in.Afterwards != "":
		return fault.Invalid.Errorf("machines at a bench have no helper that could leave them as afterwards says")
	case (in.Schedule != nil || in.WhenBehind) && forBenchAlone(in):
		return fault.Invalid.Errorf("an order that is for machines at a bench alone does not run by itself")
	}
	return nil
}

// forBenchAlone tells whether an order is for machines at a bench alone.
func forBenchAlone(in api.Order) bool {
	for _, t := range tasksOf(in) {
		if len(t.to) > 0 || t.where != "" {
			return false
		}
	}
	return in.Bench
}

// mayForAll refuses what somebody lacks a right for that is not limited to groups, as machines at a bench are in none.
func mayForAll(ctx context.Context) error { return rights.Check(ctx, "machines at a bench", nil) }

// visit lets a machine that nobody has admitted do what somebody who has signed in at it orders, if they may order that.
func (o *Orders) visit(ctx context.Context, w *records.Workstation, job string, order func() error) error {
	if w.State != roster.Newcomer {
		return order()
	}
	if err := o.Records.Visit(ctx, w.ID, job); err != nil {
		return err
	}
	w.State = roster.Visiting
	o.Log.Info("a machine that nobody has admitted is worked on", "workstation", w.Label(), "serial", w.Serial, "job", job, "by", actor.From(ctx))
	o.Fleet.Changed(ctx, w.ID)
	err := order()
	if err != nil {
		if err := o.Records.EndVisit(ctx, w.ID); err != nil {
			o.Log.Error("the visit of a machine could not be ended", "workstation", w.Label(), "error", err)
		}
		o.Fleet.Changed(ctx, w.ID)
	}
	return err
}

// atBench tells whether a run is for a machine at a bench.
func (o *Orders) atBench(ctx context.Context, row *records.Run) (bool, error) {
	only, err := row.Only()
	if err != nil || len(only) != 1 {
		return false, err
	}
	w, err := o.Records.Workstation(ctx, only[0])
	if fault.KindOf(err) == fault.NotFound {
		return false, nil
	}
	return err == nil && w.State.Unknown(), err
}

// meant tells whether a task of an order is for a workstation: at a bench it is for whoever stands there.
func (o *Orders) meant(ctx context.Context, in api.Order, t task, w records.Workstation) (bool, error) {
	if w.State.Unknown() {
		return in.Bench, nil
	}
	return o.Fleet.Means(ctx, t.to, t.where, w)
}

// answersAt says whether a copy takes answers: on a machine that nobody has named it stays as the golden machine was.
func answersAt(w *records.Workstation) string {
	if w.State == roster.Visiting {
		return noAnswers
	}
	return "set"
}
