package orders

import (
	"context"
	"maps"
	"slices"
	"time"

	"jugate/api"
	"jugate/core/order"
	"jugate/core/rights"
	"jugate/records"
)

// Workstations whose system is on are reached by the helper on it: they restart into the boot environment for a run, and are
// switched off after it. Who a run fails for stays as it is, for somebody to look.

// afterwardsAsBefore is what an order says that switches those off that were off before it, and no others.
const afterwardsAsBefore = "as-before"

// everyone are all workstations that a run is for.
func (o *Orders) everyone(ctx context.Context, row *records.Run, in api.Order) (map[int64]records.Workstation, error) {
	only, err := row.Only()
	if err != nil {
		return nil, err
	}
	all := map[int64]records.Workstation{}
	for _, t := range tasksOf(in) {
		some, err := o.Fleet.Choose(rights.With(ctx, nil), t.to, t.where)
		if err != nil {
			return nil, err
		}
		for _, w := range some {
			if only == nil || slices.Contains(only, w.ID) {
				all[w.ID] = w
			}
		}
	}
	return all, nil
}

// noteWhoIsOn has a run remember which of its workstations are on as it begins, if its order asks for that.
func (o *Orders) noteWhoIsOn(ctx context.Context, run *records.Run, in api.Order) error {
	if in.Afterwards != afterwardsAsBefore {
		return nil
	}
	all, err := o.everyone(ctx, run, in)
	if err != nil {
		return err
	}
	on := []int64{}
	for _, id := range slices.Sorted(maps.Keys(all)) {
		if o.Fleet.Running(id) || o.Fleet.IsOnline(id) {
			on = append(on, id)
		}
	}
	run.SetWereOn(on)
	return nil
}

// restartFor has workstations restart whose system is on, if the order says so: then they come into the boot environment.
func (o *Orders) restartFor(ctx context.Context, in api.Order, names []string, where string) {
	if !in.Restart {
		return
	}
	told, err := o.Fleet.Tell(ctx, api.Telling{To: names, Where: where, Verb: api.TellRestart, WarnMinutes: in.WarnMinutes, Why: in.Note})
	if err != nil {
		o.Log.Warn("workstations of an order that are on could not be told to restart", "order", in.Name, "error", err)
		return
	}
	o.Log.Info("workstations of an order restart", "order", in.Name, "told", told.Told)
}

// afterwards leaves the workstations of a run that has ended as its order says.
func (o *Orders) afterwards(ctx context.Context, row *records.Run, parts []records.RunPart, state order.State) error {
	in, err := row.Order()
	if err != nil || in.Afterwards == "" {
		return err
	}
	all, err := o.everyone(ctx, row, in)
	if err != nil {
		return err
	}
	failed := 0
	for _, p := range parts {
		ids, err := o.failedFor(ctx, p)
		if err != nil {
			return err
		}
		for _, id := range ids {
			failed++
			delete(all, id)
		}
	}
	if state != order.Done && failed == 0 { // it failed before it had anybody
		return nil
	}
	if in.Afterwards == afterwardsAsBefore {
		on, err := row.WereOn()
		if err != nil {
			return err
		}
		for _, id := range on {
			delete(all, id)
		}
	}
	return o.Fleet.TellLater(ctx, slices.Collect(maps.Values(all)), api.TellPowerOff, time.Duration(in.WarnMinutes)*time.Minute, in.Note)
}
