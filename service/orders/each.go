package orders

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"time"

	"jugate/api"
	"jugate/core/check"
	"jugate/core/errand"
	"jugate/core/fault"
	"jugate/core/order"
	"jugate/records"
)

// Parts that are about each workstation alone, checks, saves, wipes and commands, take those out for which they fail, and deliveries those that they cannot be
// for. The run goes on with the others, and
// has failed in the end for those.

// waitForEach is how long such a part waits for workstations that do not come.
const waitForEach = time.Hour

// takenOut are the workstations that parts of a run took out.
func (o *Orders) takenOut(ctx context.Context, run int64) (map[int64]bool, error) {
	parts, err := o.Records.RunParts(ctx, run)
	if err != nil {
		return nil, err
	}
	out := map[int64]bool{}
	for _, p := range parts {
		left, err := p.LeftOut()
		if err != nil {
			return nil, err
		}
		for _, l := range left {
			out[l.ID] = true
		}
	}
	return out, nil
}

// deliverToWhoCan begins the delivery of a run for those that nothing speaks against. The others are taken out: they hold nobody.
func (o *Orders) deliverToWhoCan(ctx context.Context, d api.NewDelivery, p *records.RunPart) error {
	planned, err := o.plan(ctx, d)
	if err != nil {
		return err
	}
	refusal := planned.refusal()
	if refusal == nil {
		_, err = o.Deliver(ctx, d)
		return err
	}
	against := map[string]string{}
	for _, m := range planned.Members {
		if len(m.Problems) > 0 {
			against[m.Workstation] = strings.Join(m.Problems, "; ")
		}
	}
	var left []api.LeftOut
	d.To, d.Where = nil, ""
	for _, w := range planned.targets {
		if why := against[w.Label()]; why != "" {
			left = append(left, api.LeftOut{ID: w.ID, Workstation: w.Label(), Reason: why})
			o.Log.Warn("a workstation was taken out of a run", "run", p.Run, "part", p.Work, "workstation", w.Label(), "reason", why)
		} else {
			d.To = append(d.To, w.Label())
		}
	}
	if len(d.To) == 0 {
		return refusal
	}
	if planned.rule.Ready() > len(d.To) {
		d.Start = "all"
	}
	p.SetLeftOut(left)
	if err := o.Records.SetRunPart(ctx, *p); err != nil { // before there is a delivery, after which nobody asks again
		return err
	}
	_, err = o.Deliver(ctx, d)
	return err
}

// lookAtEach notes how far a part is that has an errand for each workstation. Errands that still wait when its time is over are stopped.
func (o *Orders) lookAtEach(ctx context.Context, in api.Order, p *records.RunPart) error {
	wait := waitForEach
	switch {
	case p.Work == order.Check && in.Check.Wait > 0:
		wait = time.Duration(in.Check.Wait) * time.Minute
	case (p.Work == order.Wipe || p.Work == order.Save) && in.Wipe != nil && in.Wipe.Wait > 0:
		wait = time.Duration(in.Wipe.Wait) * time.Minute
	case p.Work == order.Save && in.Wipe == nil && in.Deliver != nil && in.Deliver.Wait > 0:
		wait = time.Duration(in.Deliver.Wait) * time.Minute
	}
	if name, is := p.Work.Command(); is {
		if c := commandOf(in, name); c != nil && c.Wait > 0 {
			wait = time.Duration(c.Wait) * time.Minute
		}
	}
	limit := time.Duration(0)
	if name, is := p.Work.Entry(); is {
		if e := preparedEntry(in, name); e != nil {
			wait, limit = e.waits(), e.limit()
		}
	}
	over := o.Now().After(p.Began.Time.Add(wait))
	_, errands, err := o.Records.Of(ctx, records.PartOfRun{Run: p.Run, Part: p.Number})
	if err != nil {
		return err
	}
	var out []api.LeftOut
	passed := 0
	for _, id := range errands {
		e, err := o.Records.Errand(ctx, id)
		if err != nil {
			return err
		}
		if e.State == errand.Waiting && over {
			if err := o.Records.EndErrand(ctx, o.Now(), id, errand.Stopped, fmt.Sprintf("it did not come within %v", wait)); err != nil && fault.KindOf(err) != fault.NotFound {
				return err
			}
			o.Publish(o.errandOf(*e))
			if e, err = o.Records.Errand(ctx, id); err != nil {
				return err
			}
		}
		if limit > 0 && e.State == errand.Running && o.Now().After(p.Began.Time.Add(wait+limit)) {
			if err := o.endEntry(ctx, e, fmt.Sprintf("it did not end within %v", limit)); err != nil {
				return err
			}
			if e, err = o.Records.Errand(ctx, id); err != nil {
				return err
			}
		}
		if e.State.Open() {
			return nil
		}
		why := e.Error
		if e.State == errand.Done && p.Work == order.Check {
			if why, err = o.whyNotFit(ctx, *in.Check, e); err != nil {
				return err
			}
		}
		if why == "" && e.State == errand.Done {
			passed++
			continue
		}
		out = append(out, api.LeftOut{ID: e.WorkstationID, Workstation: e.Workstation, Reason: why})
	}
	o.endEach(p, out, passed > 0)
	return o.Records.SetRunPart(ctx, *p)
}

// endEach ends a part that has taken some workstations out, and has failed if nobody is left.
func (o *Orders) endEach(p *records.RunPart, out []api.LeftOut, somebody bool) {
	p.State, p.Ended = order.Done, sql.NullTime{Time: o.Now(), Valid: true}
	if !somebody {
		p.State = order.Failed
	}
	var reasons []string
	for _, l := range out {
		reasons = append(reasons, l.Workstation+": "+l.Reason)
		o.Log.Warn("a workstation was taken out of a run", "run", p.Run, "part", p.Work, "workstation", l.Workstation, "reason", l.Reason)
	}
	if p.Reason = strings.Join(reasons, "; "); len(out) > 0 {
		p.SetLeftOut(out)
	}
}

// whyNotFit says why a workstation that was checked does not pass; empty if it does.
func (o *Orders) whyNotFit(ctx context.Context, in api.PreparedCheck, e *records.Errand) (string, error) {
	rows, _, err := o.Records.MachineChecks(ctx, records.MachineCheckFilter{ErrandID: e.ID}, records.Page{Limit: 1})
	if err != nil {
		return "", err
	}
	if len(rows) == 0 {
		return "nothing is known of its check", nil
	}
	findings, err := rows[0].Findings()
	if err != nil {
		return "", err
	}
	var why []string
	for _, f := range findings {
		if f.Verdict == check.Bad || f.Verdict == check.Doubtful && in.Passes == string(check.Good) {
			why = append(why, f.Text)
		}
	}
	w, err := o.Records.Workstation(ctx, e.WorkstationID)
	if err != nil {
		return "", err
	}
	for _, condition := range in.Require {
		fits, err := o.Fleet.Means(ctx, []string{w.Label()}, condition, *w)
		switch {
		case err != nil:
			why = append(why, fmt.Sprintf("%s cannot be told: %v", condition, err))
		case !fits:
			why = append(why, "it does not fit: "+condition)
		}
	}
	return strings.Join(why, "; "), nil
}

// lookAtArrivals notes how far it is that what a run has delivered has started under its own name. A copy without answers reports nothing,
// and is not waited for.
func (o *Orders) lookAtArrivals(ctx context.Context, p *records.RunPart) error {
	deliveries, err := o.Records.DeliveriesOf(ctx, p.Run)
	if err != nil {
		return err
	}
	var out []api.LeftOut
	for _, d := range deliveries {
		receipts, _, err := o.Records.Receipts(ctx, records.ReceiptFilter{DeliveryID: d.ID}, records.Page{})
		if err != nil {
			return err
		}
		for _, r := range receipts {
			arrival := o.arrivalOf(r)
			switch {
			case arrival == nil || arrival.State == "arrived" && arrival.Remark == "":
			case arrival.State == "awaited":
				return nil
			default:
				out = append(out, api.LeftOut{ID: r.WorkstationID, Workstation: r.Workstation, Reason: strings.TrimSuffix(arrival.State+": "+arrival.Remark, ": ")})
			}
		}
	}
	o.endEach(p, out, true)
	return o.Records.SetRunPart(ctx, *p)
}
