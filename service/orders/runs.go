package orders

import (
	"context"
	"database/sql"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/delivery"
	"jugate/core/errand"
	"jugate/core/fault"
	"jugate/core/order"
	"jugate/core/rights"
	"jugate/records"
)

// A run is one execution of an order. Its parts begin one after the other, each when the one before is done. What a part has made,
// deliveries and errands, is on record together with which part that was: a service that is killed in between finds it again.

func runOf(r records.Run) api.OrderRun {
	return api.OrderRun{ID: r.ID, Order: r.Name, State: r.State, Reason: r.Reason, OrderedBy: r.OrderedBy, Began: r.Began, Ended: records.TimeOf(r.Ended),
		Continues: r.Continues.Int64, Attempt: r.Attempt}
}

// Runs lists runs, the newest first: those of orders that whoever asks may see.
func (o *Orders) Runs(ctx context.Context, f records.RunFilter, p records.Page) ([]api.OrderRun, int, error) {
	if f.Order != "" {
		if _, err := o.Order(ctx, f.Order); err != nil {
			return nil, 0, err
		}
	} else if !rights.From(ctx).May(rights.See) {
		visible, err := o.visible(ctx, records.Page{})
		if err != nil {
			return nil, 0, err
		}
		f.Within = each(visible, func(row records.Order) string { return row.Name })
	}
	rows, total, err := o.Records.Runs(ctx, f, p)
	return each(rows, runOf), total, err
}

// numbered is the run of a number, and its order as it was when it began.
func (o *Orders) numbered(ctx context.Context, id int64) (row *records.Run, in api.Order, err error) {
	if row, err = o.Records.Run(ctx, id); err == nil {
		in, err = row.Order()
	}
	return row, in, err
}

// Run is a run with its parts.
func (o *Orders) Run(ctx context.Context, id int64) (api.OrderRun, error) {
	row, in, err := o.numbered(ctx, id)
	if err == nil {
		err = o.maySee(ctx, in)
	}
	if err != nil {
		return api.OrderRun{}, err
	}
	out := runOf(*row)
	if out.Only, err = o.onlyFor(ctx, row); err != nil {
		return out, err
	}
	parts, err := o.Records.RunParts(ctx, id)
	if err != nil {
		return out, err
	}
	for _, p := range parts {
		part := api.RunPart{Work: p.Work, State: p.State, Reason: p.Reason, Began: records.TimeOf(p.Began), Ended: records.TimeOf(p.Ended), Deliveries: []int64{}, Errands: []int64{}}
		deliveries, errands, err := o.Records.Of(ctx, records.PartOfRun{Run: id, Part: p.Number})
		if err != nil {
			return out, err
		}
		if part.LeftOut, err = p.LeftOut(); err != nil {
			return out, err
		}
		part.LeftOut = orNone(part.LeftOut)
		if _, runs := p.Work.Command(); runs {
			for _, id := range errands {
				e, err := o.Records.Errand(ctx, id)
				if err != nil {
					return out, err
				}
				part.Commands = append(part.Commands, o.errandOf(*e))
			}
			slices.SortFunc(part.Commands, func(a, b api.Errand) int { return strings.Compare(a.Workstation, b.Workstation) })
		}
		part.Deliveries, part.Errands = append(part.Deliveries, deliveries...), append(part.Errands, errands...)
		out.Parts = append(out.Parts, part)
	}
	return out, nil
}

// RunOrder begins a run of an order now. Person is who runs it, 0 for the key of last resort. It takes the rights of what the
// order does. One that was released for a role of theirs runs with the rights of whoever has saved it.
func (o *Orders) RunOrder(ctx context.Context, person int64, name string) (api.OrderRun, error) {
	row, in, err := o.named(ctx, name)
	if err != nil {
		return api.OrderRun{}, err
	}
	if forBenchAlone(in) {
		return api.OrderRun{}, fault.Conflict.Errorf("the order %s is for machines at a bench: sign in at one, and choose it there", in.Name)
	}
	if err := o.mayRun(ctx, in); err != nil && !rights.From(ctx).HasRole(in.Released) {
		return api.OrderRun{}, err
	} else if err != nil {
		person = row.PersonID
	}
	return o.beginNow(ctx, in, records.Run{Name: in.Name, OrderedBy: actor.From(ctx).String(), PersonID: person}, workOf(in))
}

// beginNow begins a run, of some parts of its order, for whoever asks for that.
func (o *Orders) beginNow(ctx context.Context, in api.Order, run records.Run, work []order.Work) (api.OrderRun, error) {
	id, err := o.beginParts(ctx, in, run, work, nil)
	if err != nil {
		return api.OrderRun{}, err
	}
	if err := o.advance(ctx, id); err != nil {
		o.Log.Error("a run cannot go on now", "run", id, "order", in.Name, "error", err)
	}
	return o.Run(ctx, id)
}

// beginRun records a run that begins now. Due is when the order runs by itself next, if that changes.
func (o *Orders) beginRun(ctx context.Context, in api.Order, run records.Run, due *sql.NullTime) (int64, error) {
	return o.beginParts(ctx, in, run, workOf(in), due)
}

func (o *Orders) beginParts(ctx context.Context, in api.Order, run records.Run, work []order.Work, due *sql.NullTime) (int64, error) {
	var parts []records.RunPart
	for _, w := range work {
		parts = append(parts, records.RunPart{Work: w, State: order.Waiting})
	}
	run.State, run.Began = order.Running, o.Now()
	if err := o.noteWhoIsOn(ctx, &run, in); err != nil {
		return 0, err
	}
	id, err := o.Records.BeginRun(ctx, run, in, parts, due)
	if err == nil {
		o.publishRun(ctx, id)
		o.Log.Info("order runs", "order", in.Name, "run", id, "by", run.OrderedBy)
	}
	return id, err
}

// StopRun ends a run, with what it has under way.
func (o *Orders) StopRun(ctx context.Context, id int64) (api.OrderRun, error) {
	o.advancing.Lock()
	defer o.advancing.Unlock()
	row, in, err := o.numbered(ctx, id)
	if err != nil {
		return api.OrderRun{}, err
	}
	if err := o.mayRun(ctx, in); err != nil && !rights.From(ctx).HasRole(in.Released) {
		return api.OrderRun{}, err
	}
	if row.Ended.Valid {
		return api.OrderRun{}, fault.Conflict.Errorf("run %d is %s", id, row.State)
	}
	parts, err := o.Records.RunParts(ctx, id)
	if err != nil {
		return api.OrderRun{}, err
	}
	reason, now := "stopped by "+actor.From(ctx).Words(), o.Now()
	for _, p := range parts {
		if p.State.Over() {
			continue
		}
		if err := o.stopPart(ctx, p); err != nil {
			return api.OrderRun{}, err
		}
		p.State, p.Reason, p.Ended = order.Stopped, reason, sql.NullTime{Time: now, Valid: true}
		if err := o.Records.SetRunPart(ctx, p); err != nil {
			return api.OrderRun{}, err
		}
	}
	if err := o.Records.EndRun(ctx, now, id, order.Stopped, reason); err != nil {
		return api.OrderRun{}, err
	}
	o.publishRun(ctx, id)
	return o.Run(ctx, id)
}

// stopPart stops what a part has made and that is not over.
func (o *Orders) stopPart(ctx context.Context, p records.RunPart) error {
	deliveries, errands, err := o.Records.Of(ctx, records.PartOfRun{Run: p.Run, Part: p.Number})
	if err != nil {
		return err
	}
	for _, id := range deliveries {
		if _, err := o.Stop(ctx, id); err != nil && fault.KindOf(err) != fault.Conflict { // it is over
			return err
		}
	}
	for _, id := range errands {
		if _, err := o.StopErrand(ctx, id); err != nil && fault.KindOf(err) != fault.NotFound {
			return err
		}
	}
	return nil
}

// advance has a run go on: it notes what has ended, and begins what comes next.
func (o *Orders) advance(ctx context.Context, id int64) error {
	o.advancing.Lock()
	defer o.advancing.Unlock()
	ctx = context.WithoutCancel(ctx) // whoever asked may go
	row, in, err := o.numbered(ctx, id)
	if err != nil || row.Ended.Valid {
		return err
	}
	parts, err := o.Records.RunParts(ctx, id)
	if err != nil {
		return err
	}
	states := make([]order.State, len(parts))
	for i := range parts {
		if err := o.look(ctx, in, &parts[i]); err != nil {
			return err
		}
		states[i] = parts[i].State
	}
	for {
		begin, now := order.Next(states)
		if now == order.Done && tookOut(parts) {
			now = order.Failed // for some, for whom it can go on
		}
		if begin < 0 {
			if now == order.Running {
				return nil
			}
			return o.endRun(ctx, row, parts, now)
		}
		p := &parts[begin]
		p.State, p.Began = order.Running, sql.NullTime{Time: o.Now(), Valid: true}
		if err := o.beginPart(ctx, row, in, p); err != nil {
			p.State, p.Reason, p.Ended = order.Failed, err.Error(), p.Began
			o.Log.Warn("a part of a run failed", "run", id, "order", row.Name, "part", p.Work, "error", err)
		}
		if err := o.Records.SetRunPart(ctx, *p); err != nil {
			return err
		}
		o.publishRun(ctx, id)
		states[begin] = p.State
	}
}

func (o *Orders) endRun(ctx context.Context, row *records.Run, parts []records.RunPart, state order.State) error {
	var reasons []string
	for _, p := range parts {
		if p.Reason != "" {
			reasons = append(reasons, fmt.Sprintf("%s: %s", p.Work, p.Reason))
		}
	}
	reason := strings.Join(reasons, "; ")
	o.Log.Info("a run has ended", "run", row.ID, "order", row.Name, "state", state, "reason", reason)
	defer o.publishRun(ctx, row.ID)
	if err := o.Records.EndRun(ctx, o.Now(), row.ID, state, reason); err != nil {
		return err
	}
	if err := o.afterwards(ctx, row, parts, state); err != nil {
		o.Log.Error("workstations of a run that has ended could not be left as its order says", "run", row.ID, "error", err)
	}
	return o.tryAgain(ctx, row, state)
}

// publishRun tells whoever watches how a run is now.
func (o *Orders) publishRun(ctx context.Context, id int64) {
	if row, err := o.Records.Run(ctx, id); err == nil {
		o.Publish(runOf(*row))
	}
}

// onBehalf is the context in which a run does something: with the rights of whoever they count of, as they are now.
func (o *Orders) onBehalf(ctx context.Context, row *records.Run) (context.Context, error) {
	ctx = rights.With(actor.With(ctx, actor.Actor{Kind: actor.Schedule, Name: row.OrderedBy}), nil)
	switch {
	case row.PersonID == 0:
		return ctx, nil
	case row.PersonID < 0:
		return nil, fault.Forbidden.Errorf("whose rights count is not there any more; save the order again")
	}
	holder, err := o.Access.HolderOf(ctx, row.PersonID)
	return rights.With(ctx, holder), err
}

// beginPart makes what a part of a run is, unless a service that was killed has done so already.
func (o *Orders) beginPart(ctx context.Context, row *records.Run, in api.Order, p *records.RunPart) error {
	part := records.PartOfRun{Run: row.ID, Part: p.Number}
	deliveries, errands, err := o.Records.Of(ctx, part)
	if err != nil || len(deliveries)+len(errands) > 0 {
		return err
	}
	if ctx, err = o.onBehalf(ctx, row); err != nil {
		return err
	}
	ctx = records.WithPart(ctx, part)
	deliver := rights.Needing(ctx, rights.Deliver)
	bench, err := o.atBench(ctx, row)
	if err != nil {
		return err
	}
	to, where, err := o.targetsOf(ctx, row, in, p)
	if err != nil || p.State.Over() || p.Work == order.Arrive {
		return err
	}
	if p.Work == order.Capture {
		o.callIn(ctx, in, to, where)
	} else {
		o.callIn(deliver, in, to, where)
	}
	switch p.Work {
	case order.Capture:
		_, err = o.Capture(rights.Needing(ctx, rights.Capture), *in.Capture)
	case order.Check:
		c := in.Check.NewCheck
		c.To, c.Where = to, where
		_, err = o.OrderCheck(deliver, c)
	case order.Save:
		err = o.OrderSave(rights.Needing(ctx, rights.Capture), in, to, where)
	case order.Folders:
		var some bool
		if some, err = o.OrderFolders(deliver, in, to, where); err == nil && !some {
			p.State, p.Ended, p.Reason = order.Done, p.Began, "no folders were saved"
		}
	case order.Wipe:
		w := in.Wipe.NewWipe
		w.Workstations = to
		_, err = o.OrderWipe(rights.Needing(ctx, rights.Wipe), w)
	case order.Deliver:
		d := in.Deliver.NewDelivery
		d.To, d.Where = to, where
		if bench {
			d.Answers = noAnswers
		}
		if row.OnlyIDs != "" || in.Check != nil || in.SaveDays > 0 || len(in.Commands)+len(in.Entries) > 0 || onlyIf(in, p.Work) != "" {
			d.Start = "all" // whom the order names may be more than there are
		}
		if in.Deliver.Wait > 0 {
			at := o.Now().Add(time.Duration(in.Deliver.Wait) * time.Minute)
			d.AtLatest = &at
		}
		err = o.deliverToWhoCan(deliver, d, p)
	case order.Drivers:
		d := *in.Drivers
		d.To, d.Where = to, where
		_, err = o.InstallDrivers(deliver, d)
	case order.Payloads:
		b := *in.Payloads
		b.To, b.Where = to, where
		_, err = o.InstallPayloads(deliver, b)
	default:
		if name, is := p.Work.Entry(); is {
			return o.orderEntry(deliver, in, name, to, where)
		}
		name, _ := p.Work.Command()
		c := commandOf(in, name)
		if c == nil {
			return fmt.Errorf("the order has no part %q", p.Work)
		}
		err = o.OrderCommand(deliver, c.Command, to, where)
	}
	return err
}

// bySchedule writes the line of the logbook of a run that nobody has asked for.
func (o *Orders) bySchedule(ctx context.Context, name, by string, run int64) error {
	_, err := o.Records.AddLine(ctx, records.Line{At: o.Now(), Who: by, Kind: string(actor.Schedule), Through: "schedule", Operation: "run-order", Subject: "order " + name, Details: fmt.Sprintf(`{"run":%d}`, run)})
	return err
}

// targetsOf are the targets of a part of a run: those that its order names, or of them the ones that the run is for and that the
// part's condition fits. If that fits none of them, the part is done.
func (o *Orders) targetsOf(ctx context.Context, row *records.Run, in api.Order, p *records.RunPart) (to []string, where string, err error) {
	all := tasksOf(in)
	i := slices.IndexFunc(all, func(t task) bool { return t.work == p.Work })
	if i < 0 {
		return nil, "", fmt.Errorf("the order has no part %q", p.Work)
	}
	t, condition := all[i], onlyIf(in, p.Work)
	only, err := row.Only()
	if err != nil {
		return nil, "", err
	}
	if t.work == order.Capture { // it is of one, whoever the others are
		only = nil
	}
	out, err := o.takenOut(ctx, row.ID)
	if err != nil {
		return nil, "", err
	}
	mustBeSaved := in.SaveDays > 0 && (t.work == order.Wipe || t.work == order.Deliver) // whoever came into the group since is not
	var saved []int64
	if mustBeSaved {
		if saved, err = o.Records.SavedBy(ctx, row.ID); err != nil {
			return nil, "", err
		}
	}
	if !mustBeSaved && only == nil && len(out) == 0 && condition == "" || t.work == order.Arrive {
		return t.to, t.where, nil
	}
	var among []records.Workstation
	if only == nil {
		among, err = o.Fleet.Choose(rights.With(ctx, nil), t.to, t.where)
	} else {
		var known map[int64]records.Workstation
		known, err = o.Records.ByNumber(ctx, only)
		among = slices.Collect(maps.Values(known))
	}
	if err != nil {
		return nil, "", err
	}
	left, unfit := 0, 0
	for _, w := range among {
		if out[w.ID] || mustBeSaved && !slices.Contains(saved, w.ID) {
			continue
		}
		if means, err := o.meant(ctx, in, t, w); err != nil {
			return nil, "", err
		} else if !means {
			continue
		}
		left++
		if condition != "" {
			if fits, err := o.Fleet.Means(ctx, []string{w.Label()}, condition, w); err != nil {
				return nil, "", err
			} else if !fits {
				unfit++
				continue
			}
		}
		to = append(to, w.Label())
	}
	if left > 0 && left == unfit {
		p.State, p.Ended = order.Done, p.Began
		p.Reason = fmt.Sprintf("there was nothing to do: its condition fits none of %d", left)
		return nil, "", nil
	}
	if len(to) == 0 {
		return nil, "", fault.Conflict.Errorf("none of the workstations that this is for is left: they were taken out, or are not among the order's any more")
	}
	slices.Sort(to)
	return to, "", nil
}

// callIn has workstations come into the boot environment, as far as the order says so: who is off is woken, and whose system is on
// restarts. Who does not hear it is waited for all the same.
func (o *Orders) callIn(ctx context.Context, in api.Order, names []string, where string) {
	o.restartFor(ctx, in, names, where)
	if !in.Wake {
		return
	}
	if _, err := o.Fleet.SwitchOn(ctx, api.WakeUp{To: names, Where: where}); err != nil {
		o.Log.Warn("workstations of an order could not be woken", "order", in.Name, "error", err)
	}
}

// tookOut tells whether a part has taken workstations out.
func tookOut(parts []records.RunPart) bool {
	return slices.ContainsFunc(parts, func(p records.RunPart) bool { return p.LeftOutJS != "" })
}

// look notes how far a part is that runs.
func (o *Orders) look(ctx context.Context, in api.Order, p *records.RunPart) error {
	if p.State != order.Running {
		return nil
	}
	switch {
	case p.Work.Step() || p.Work == order.Check || p.Work == order.Save || p.Work == order.Folders || p.Work == order.Wipe:
		return o.lookAtEach(ctx, in, p)
	case p.Work == order.Arrive:
		return o.lookAtArrivals(ctx, p)
	}
	deliveries, errands, err := o.Records.Of(ctx, records.PartOfRun{Run: p.Run, Part: p.Number})
	if err != nil {
		return err
	}
	left, err := p.LeftOut()
	if err != nil {
		return err
	}
	var failed, stopped []string
	out := each(left, func(l api.LeftOut) string { return l.Workstation + ": " + l.Reason })
	for _, id := range deliveries {
		d, err := o.Records.Delivery(ctx, id)
		if err != nil {
			return err
		}
		switch {
		case !d.Ended.Valid:
			return nil
		case d.State == delivery.Stopped:
			stopped = append(stopped, fmt.Sprintf("delivery %d was stopped: %s", id, d.Reason))
		case d.Delivered < d.Members:
			failed = append(failed, fmt.Sprintf("delivery %d reached %d of %d workstations", id, d.Delivered, d.Members))
		}
	}
	for _, id := range errands {
		e, err := o.Records.Errand(ctx, id)
		if err != nil {
			return err
		}
		switch e.State {
		case errand.Waiting, errand.Running:
			return nil
		case errand.Stopped:
			stopped = append(stopped, fmt.Sprintf("%s: %s", e.Workstation, e.Error))
		case errand.Failed:
			failed = append(failed, fmt.Sprintf("%s: %s", e.Workstation, e.Error))
		}
	}
	p.State, p.Ended = order.Done, sql.NullTime{Time: o.Now(), Valid: true}
	switch {
	case len(failed) > 0:
		p.State = order.Failed
	case len(stopped) > 0:
		p.State = order.Stopped
	}
	p.Reason = strings.Join(slices.Concat(out, failed, stopped), "; ")
	return o.Records.SetRunPart(ctx, *p)
}
