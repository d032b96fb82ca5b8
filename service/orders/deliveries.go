package orders

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"jugate/api"
	"jugate/core/delivery"
	"jugate/records"
	"jugate/stream"
)

// deliveryOf is a delivery without its workstations: live as long as it runs.
func (o *Orders) deliveryOf(d records.Delivery) api.Delivery {
	out := api.Delivery{
		ID: d.ID, Image: d.Image, Version: d.Version, Digest: d.Digest, Targets: d.Targets(), Start: d.Rule, Rate: d.Rate, Channel: d.Channel,
		State: d.State, Reason: d.Reason, OrderedBy: d.OrderedBy, Created: d.Created, UsedBytes: d.UsedBytes, WireBytes: d.WireBytes, ReusedBytes: d.Reused,
		Workstations: d.Members, Delivered: d.Delivered, WhenDone: d.WhenDone, Reuse: d.Reuse, Sealed: d.Sealed, CarriedBy: d.CarriedBy,
	}
	if rule, err := delivery.ParseRule(d.Rule); err == nil {
		out.AtLatest = startsAtLatest(&d, rule)
	}
	out.Started = records.TimeOf(d.Started)
	out.Ended = records.TimeOf(d.Ended)
	if r := o.Streams.Runner(d.ID); r != nil {
		s := r.Status(o.Now())
		out.WireBytes, out.Warning, out.SentSlabs, out.Slabs, out.Round = s.WireBytes, s.Warning, s.Sent, s.Slabs, s.Round
		out.Rate, out.RateNow, out.Paused, out.Unicast, out.RepairBytes = s.Rate, s.RateNow, s.Paused, s.Unheard, s.RepairBytes
		if !s.State.Over() { // it is over when every receipt is written
			out.State = s.State
		}
		out.SecondsLeft = stream.Seconds(s.Left, s.LeftKnown)
		for _, p := range s.Parts {
			part := api.DeliveryPart{Name: p.Where, State: p.State, Members: p.Workstations, Open: p.Open, SentSlabs: p.Sent, Slabs: p.Slabs, Round: p.Round, RateNow: p.RateNow,
				Away: p.Open > 0 && !o.Sites.Up(p.Where)}
			switch {
			case part.Away && d.CarriedBy != "":
				out.Warning = cmp.Or(out.Warning, fmt.Sprintf("the media of %s carry it; nothing is known yet of %d workstations, which get it when they are started from those", p.Where, p.Open))
			case part.Away:
				out.Warning = cmp.Or(out.Warning, fmt.Sprintf("nothing is heard of the outpost %s; %d workstations go on there by themselves, and their receipts come when it is back", p.Where, p.Open))
			}
			out.Parts = append(out.Parts, part)
		}
	}
	return out
}

// Deliveries lists deliveries, the newest first; with open just those that are not over.
func (o *Orders) Deliveries(ctx context.Context, open bool, p records.Page) ([]api.Delivery, int, error) {
	rows, total, err := o.Records.Deliveries(ctx, open, p)
	return each(rows, o.deliveryOf), total, err
}

// Delivery is a delivery with its workstations: live as long as it runs, from the
// receipts afterwards.
func (o *Orders) Delivery(ctx context.Context, id int64) (api.Delivery, error) {
	rec, err := o.Records.Delivery(ctx, id)
	if err != nil {
		return api.Delivery{}, err
	}
	members, err := o.Records.DeliveryMembers(ctx, id)
	if err != nil {
		return api.Delivery{}, err
	}
	rows, _, err := o.Records.Receipts(ctx, records.ReceiptFilter{DeliveryID: id}, records.Page{})
	if err != nil {
		return api.Delivery{}, err
	}
	receipts := map[int64]records.Receipt{}
	for _, r := range rows {
		receipts[r.WorkstationID] = r
	}
	out := o.deliveryOf(*rec)
	changes, err := o.Records.DeliveryChanges(ctx, id)
	if err != nil {
		return api.Delivery{}, err
	}
	for _, c := range changes {
		out.Changes = append(out.Changes, api.DeliveryChange{At: c.At, By: c.By, What: c.What})
	}
	runner, now := o.Streams.Runner(id), o.Now()
	for _, w := range members {
		m := liveMember(runner, now, w.ID)
		m.Workstation, m.Address = w.Label(), w.Address().String()
		if r, ended := receipts[w.ID]; ended {
			m.Phase, m.Outcome, m.Reason, m.Multicast, m.Unicast = delivery.Ended, r.Outcome, r.Reason, r.BytesMulticast, r.BytesUnicast
		}
		out.Members = append(out.Members, m)
	}
	out.Story = story(out, rows)
	return out, nil
}

// liveMember is what is known of a workstation now; runner may be nil.
func liveMember(runner *stream.Runner, now time.Time, id int64) api.Member {
	out := api.Member{Phase: delivery.Awaited}
	if runner == nil {
		return out
	}
	is, known := runner.Member(id)
	if !known {
		return out
	}
	m := is.Status
	out = api.Member{
		Workstation: is.Name, Site: is.Where, Phase: m.Phase, Outcome: m.Outcome, Reason: m.Reason, Aside: m.Aside,
		Done: m.Last.Done, Total: m.Last.Total, Multicast: m.Last.Multicast, Unicast: m.Last.Unicast,
	}
	if m.Phase != delivery.Ended && m.Phase != delivery.Awaited {
		out.Speed, out.LossShare, out.DiskSpeed, out.Silent = is.Speed, is.LossShare, m.Last.DiskSpeed, now.Sub(m.Seen).Seconds()
		out.SecondsLeft = stream.Seconds(is.Left, is.LeftKnown)
	}
	if m.Last.Multicast > 0 {
		out.RepairShare = float64(m.Last.Repaired) / float64(m.Last.Multicast)
	}
	return out
}

// each turns rows of the records into what is told of them.
func each[R, T any](rows []R, turn func(R) T) []T {
	all := make([]T, len(rows))
	for i, r := range rows {
		all[i] = turn(r)
	}
	return all
}
