package notify

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"jugate/api"
	"jugate/records"
)

const (
	// lately is how far back is looked.
	lately = 24 * time.Hour
	// lookAtMost is how many of one kind are told of in one look; the next look has the others.
	lookAtMost = 500
)

// Look looks for what nobody publishes, as it is a matter of time: what is stuck, late, not fit, or out of order.
func (n *Notify) Look(ctx context.Context) error {
	rules, err := n.Records.NotificationRules(ctx)
	if err != nil {
		return err
	}
	wanted := func(events ...string) bool {
		return slices.ContainsFunc(rules, func(r records.NotificationRule) bool {
			return slices.ContainsFunc(events, func(e string) bool { return slices.Contains(r.Events, e) })
		})
	}
	var all []happening
	for event, look := range map[string]func(context.Context) ([]happening, error){"boot.stuck": n.stuck, "arrival.missing": n.missing, "check.failed": n.unfit} {
		if !wanted(event) {
			continue
		}
		found, err := look(ctx)
		if err != nil {
			return err
		}
		all = append(all, found...)
	}
	if wanted("part.troubled", "part.recovered", "delivery.stalled") {
		now, err := n.Overview.Show(ctx)
		if err != nil {
			return err
		}
		for _, d := range now.Deliveries {
			if d.Warning != "" && d.CarriedBy == "" {
				all = append(all, happening{event: "delivery.stalled", subject: fmt.Sprint(d.ID), at: n.Now(), data: d, what: fmt.Sprintf("delivery %d of %s@%d does not get on: %s", d.ID, d.Image, d.Version, d.Warning)})
			}
		}
		if err := n.parts(ctx, now.Parts); err != nil {
			return err
		}
	}
	return n.tell(ctx, all)
}

func (n *Notify) stuck(ctx context.Context) (all []happening, err error) {
	status, err := n.Stock.NetbootStatus(ctx)
	for _, m := range status.Machines {
		if m.Stuck == "" || len(m.Steps) == 0 {
			continue
		}
		at := slices.MaxFunc(m.Steps, func(a, b api.BootStep) int { return a.At.Compare(b.At) }).At
		all = append(all, happening{event: "boot.stuck", subject: m.Address + " " + at.UTC().Format(time.RFC3339), at: at, data: m, what: cmp.Or(m.Workstation, m.Address) + " is stuck while it boots: " + m.Stuck})
	}
	return all, err
}

func (n *Notify) missing(ctx context.Context) (all []happening, err error) {
	rows, _, err := n.Records.NotArrived(ctx, n.Now().Add(-lately), n.Now().Add(-n.ArrivalWithin()), lookAtMost)
	for _, row := range rows {
		r := n.Orders.ReceiptOf(row)
		all = append(all, happening{event: "arrival.missing", subject: fmt.Sprint(r.ID), at: r.Ended.Add(n.ArrivalWithin()), data: r, what: fmt.Sprintf("%s has not started %s@%d yet", cmp.Or(r.Workstation, r.Address), r.Image, r.Version)})
	}
	return all, err
}

func (n *Notify) unfit(ctx context.Context) (all []happening, err error) {
	rows, _, err := n.Records.Unfit(ctx, n.Now().Add(-lately), lookAtMost)
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		c, err := n.Orders.CheckOf(row)
		if err != nil {
			return nil, err
		}
		all = append(all, happening{event: "check.failed", subject: fmt.Sprint(row.ID), at: row.Ended, data: c, what: cmp.Or(row.Workstation, row.Address) + " is not fit, by its last check"})
	}
	return all, nil
}

// parts tells of the parts of the service whose state has changed since the last look. States are kept in the records, so that a
// start does not tell everything again; one that is out of order when a service looks first is told of.
func (n *Notify) parts(ctx context.Context, now []api.PartState) error {
	before, err := n.Records.ToldParts(ctx)
	if err != nil {
		return err
	}
	after := map[string]string{}
	changed := len(before) != len(now)
	var all []happening
	for _, p := range now {
		after[p.Part] = p.State
		was := cmp.Or(before[p.Part], api.Good)
		changed = changed || before[p.Part] != p.State
		event := "part.troubled"
		switch {
		case was == p.State:
			continue
		case p.State == api.Good:
			event = "part.recovered"
		}
		at := n.Now()
		all = append(all, happening{event: event, subject: p.Part + " " + at.UTC().Format(time.RFC3339Nano), at: at, data: p, what: p.Part + ": " + p.What})
	}
	if err := n.tell(ctx, all); err != nil || !changed {
		return err
	}
	return n.Records.SetToldParts(ctx, after)
}
