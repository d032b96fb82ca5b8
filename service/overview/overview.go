// Package overview tells what somebody looks at first: what needs them, what runs, what is next, and how each part of the service
// is. It keeps nothing, and asks the rooms that know.
//
//	o := &overview.Overview{Fleet: fleet, Orders: orders, …}
//	now, err := o.Show(ctx)
//
// parts.go has how the parts of the service are, restart.go begins one anew.
package overview

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"

	"jugate/api"
	"jugate/core/roster"
	"jugate/records"
)

// Fleet knows workstations.
type Fleet interface {
	List(ctx context.Context, filter records.WorkstationFilter, where string, p records.Page) ([]api.Workstation, int, error)
	Cards(ctx context.Context, state roster.CardState, p records.Page) ([]api.HardwareAddress, int, error)
}

// Orders know what is to be done.
type Orders interface {
	Deliveries(ctx context.Context, open bool, p records.Page) ([]api.Delivery, int, error)
	Errands(ctx context.Context, workstation string, open bool, p records.Page) ([]api.Errand, int, error)
	NextRuns(ctx context.Context, name string, n int) ([]api.OrderTime, error)
}

// Stock knows how machines boot.
type Stock interface {
	NetbootStatus(ctx context.Context) (api.NetbootStatus, error)
}

// Overview asks others. All of its fields are set.
type Overview struct {
	Records       *records.DB
	Fleet         Fleet
	Orders        Orders
	Stock         Stock
	Parts         Parts
	Again         Again
	ArrivalWithin func() time.Duration // in which a copy is to have started
	Now           func() time.Time
}

const (
	// lately is how far back is looked for what has gone wrong.
	lately = 7 * 24 * time.Hour
	// bootsFor is how long a machine that is stuck is of interest.
	bootsFor = time.Hour
	// namesAtMost, deliveriesAtMost, nextAtMost: how many of each are told.
	namesAtMost, deliveriesAtMost, nextAtMost = 8, 20, 5
)

// Show tells how everything is now.
func (o *Overview) Show(ctx context.Context) (out api.Overview, err error) {
	out = api.Overview{Now: o.Now().UTC(), Needs: []api.Need{}, Next: []api.OrderTime{}}
	boot, err := o.Stock.NetbootStatus(ctx)
	if err != nil {
		return out, err
	}
	if out.Deliveries, _, err = o.Orders.Deliveries(ctx, true, records.Page{Limit: deliveriesAtMost}); err != nil {
		return out, err
	}
	if out.Deliveries == nil {
		out.Deliveries = []api.Delivery{}
	}
	for _, look := range []func(context.Context) (*api.Need, error){o.failures, func(context.Context) (*api.Need, error) { return waiting(out.Deliveries), nil }, o.arrivals, o.checks, func(context.Context) (*api.Need, error) { return o.boots(boot), nil }, o.newcomers, o.cards} {
		need, err := look(ctx)
		if err != nil {
			return out, err
		}
		if need != nil {
			out.Needs = append(out.Needs, *need)
		}
	}
	if _, out.Errands, err = o.Orders.Errands(ctx, "", true, records.Page{Limit: 1}); err != nil {
		return out, err
	}
	if _, out.Workstations, err = o.Fleet.List(ctx, records.WorkstationFilter{States: []roster.State{roster.Admitted}}, "", records.Page{Limit: 1}); err != nil {
		return out, err
	}
	next, err := o.Orders.NextRuns(ctx, "", nextAtMost)
	if err != nil {
		return out, err
	}
	out.Next = append(out.Next, next[:min(len(next), nextAtMost)]...)
	out.Parts, err = o.parts(ctx, boot, out.Deliveries)
	return out, err
}

// need makes one of some; nil if there are none.
func need(kind string, count int, what, page string, names []string, since *time.Time) *api.Need {
	if count == 0 {
		return nil
	}
	if names == nil {
		names = []string{}
	}
	return &api.Need{Kind: kind, Count: count, What: what, Names: names[:min(len(names), namesAtMost)], Since: since, Page: page}
}

func (o *Overview) failures(ctx context.Context) (*api.Need, error) {
	rows, total, err := o.Records.FailedSince(ctx, o.Now().Add(-lately), namesAtMost)
	names, since := ofReceipts(rows)
	return need("failures", total, english.Plural(total, "workstation did not get its image, and has got none since", "times a workstation did not get its image, and has got none since"), "/receipts?outcome=failed", names, since), err
}

func (o *Overview) arrivals(ctx context.Context) (*api.Need, error) {
	rows, total, err := o.Records.NotArrived(ctx, o.Now().Add(-lately), o.Now().Add(-o.ArrivalWithin()), namesAtMost)
	names, since := ofReceipts(rows)
	return need("arrivals", total, english.Plural(total, "delivered system has not reported its first start", "delivered systems have not reported their first start"), "/receipts", names, since), err
}

// ofReceipts are the workstations of receipts, each once, and when the oldest ended.
func ofReceipts(rows []records.Receipt) (names []string, since *time.Time) {
	for _, r := range rows {
		name := cmp.Or(r.Workstation, r.Address)
		if !slices.Contains(names, name) {
			names = append(names, name)
		}
		if ended := r.Ended.UTC(); since == nil || ended.Before(*since) {
			since = &ended
		}
	}
	return names, since
}

// waiting are deliveries that something keeps from getting on.
func waiting(all []api.Delivery) *api.Need {
	var names []string
	var since *time.Time
	for _, d := range all {
		if d.Warning == "" || d.CarriedBy != "" { // media are away for as long as it takes
			continue
		}
		names = append(names, fmt.Sprintf("%d (%s@%d): %s", d.ID, d.Image, d.Version, d.Warning))
		if since == nil || d.Created.Before(*since) {
			since = &d.Created
		}
	}
	return need("deliveries", len(names), english.Plural(len(names), "delivery does not get on", "deliveries do not get on"), "/deliveries", names, since)
}

// checks are workstations of which the last check says that they are not fit.
func (o *Overview) checks(ctx context.Context) (*api.Need, error) {
	rows, total, err := o.Records.Unfit(ctx, o.Now().Add(-lately), namesAtMost)
	var names []string
	var since *time.Time
	for _, c := range rows {
		ended := c.Ended.UTC()
		names, since = append(names, cmp.Or(c.Workstation, c.Address)), &ended
	}
	return need("checks", total, english.Plural(total, "workstation is not fit, by its last check", "workstations are not fit, by their last checks"), "/errands", names, since), err
}

// boots are machines that have got stuck on their way to the agent.
func (o *Overview) boots(status api.NetbootStatus) *api.Need {
	var names []string
	var since *time.Time
	for _, m := range status.Machines {
		if m.Stuck == "" || len(m.Steps) == 0 {
			continue
		}
		last := m.Steps[0].At
		for _, s := range m.Steps {
			if s.At.After(last) {
				last = s.At
			}
		}
		if o.Now().Sub(last) > bootsFor {
			continue
		}
		names = append(names, cmp.Or(m.Workstation, m.Address)+": "+m.Stuck)
		if since == nil || last.Before(*since) {
			since = &last
		}
	}
	return need("boots", len(names), english.Plural(len(names), "machine is stuck while it boots", "machines are stuck while they boot"), "/netboot", names, since)
}

func (o *Overview) newcomers(ctx context.Context) (*api.Need, error) {
	all, total, err := o.Fleet.List(ctx, records.WorkstationFilter{States: []roster.State{roster.Newcomer}}, "", records.Page{Limit: namesAtMost, Sort: "-last_seen"})
	var names []string
	for _, w := range all {
		names = append(names, strings.TrimSpace(w.Addresses[0]+" "+w.Model))
	}
	return need("newcomers", total, english.Plural(total, "newcomer waits to be admitted", "newcomers wait to be admitted"), "/workstations", names, nil), err
}

func (o *Overview) cards(ctx context.Context) (*api.Need, error) {
	all, total, err := o.Fleet.Cards(ctx, roster.Proposed, records.Page{Limit: namesAtMost})
	var names []string
	for _, c := range all {
		names = append(names, c.Address)
	}
	return need("cards", total, english.Plural(total, "network card of a known machine waits to be accepted", "network cards of known machines wait to be accepted"), "/workstations", names, nil), err
}
