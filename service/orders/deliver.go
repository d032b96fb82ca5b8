package orders

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	randv2 "math/rand/v2"
	"net/netip"
	"slices"
	"time"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/delivery"
	"jugate/core/fault"
	"jugate/core/image"
	"jugate/core/parcel"
	"jugate/core/roster"
	"jugate/core/slabstore"
	"jugate/records"
	"jugate/stream"
)

// Deliver checks what is ordered, records it and starts its runner.
func (o *Orders) Deliver(ctx context.Context, in api.NewDelivery) (api.Delivery, error) {
	return o.deliver(ctx, in, "")
}

// deliver is Deliver, also of what the media of an outpost carry.
func (o *Orders) deliver(ctx context.Context, in api.NewDelivery, carriedBy string) (api.Delivery, error) {
	p, err := o.plan(ctx, in)
	if err != nil {
		return api.Delivery{}, err
	}
	if err := p.refusal(); err != nil {
		return api.Delivery{}, err
	}
	v, targets := p.version, p.targets
	in = p.order
	rec := records.Delivery{
		Image: v.Image, Version: v.Number, Digest: v.Digest, Rule: p.rule.String(), Rate: p.Rate, State: delivery.Gathering,
		Session: randv2.Uint32(), OrderedBy: actor.From(ctx).String(), Created: o.Now(), UsedBytes: v.UsedBytes,
		WaitAtMost: p.wait, NotBefore: errandsFrom(p.rule), WhenDone: cmp.Or(in.WhenDone, "stay"), Reuse: in.Reuse, Sealed: in.Sealed, Answers: cmp.Or(in.Answers, "set"), DomainAway: cmp.Or(in.DomainAway, "refuse"), CarriedBy: carriedBy,
	}
	rec.SetOwnAnswers(p.own)
	rec.SetOptions(in.RestoreOptions, in.DriverOrder, in.Aside)
	if err := o.load(ctx, &rec, p.payloads); err != nil {
		return api.Delivery{}, err
	}
	if in.Sealed {
		rec.SealKey = make([]byte, parcel.KeySize)
		rand.Read(rec.SealKey)
	}
	ids := make([]int64, len(targets))
	for i, w := range targets {
		ids[i] = w.ID
	}
	id, err := o.begin(ctx, rec, ordered(in.To, in.Where), targets, ids)
	if err != nil {
		return api.Delivery{}, err
	}
	o.Log.Info("delivery ordered", "delivery", id, "image", v.Ref(), "to", in.To, "workstations", len(targets), "start", rec.Rule)
	for _, w := range ids {
		o.Fleet.Ring(w)
	}
	return o.Delivery(ctx, id)
}

// load has the stream of a delivery carry payloads, each content once. What answers name later
// is fetched by each workstation.
func (o *Orders) load(ctx context.Context, rec *records.Delivery, names []string) error {
	slices.Sort(names)
	all, err := o.payloads(ctx, slices.Compact(names))
	if err != nil {
		return err
	}
	carried := []parcel.Payload{}
	for _, p := range all {
		if one := (parcel.Payload{Digest: p.Digest, Size: p.Size}); !slices.Contains(carried, one) {
			carried = append(carried, one)
		}
	}
	rec.SetPayloads(carried)
	return nil
}

// begin records a delivery and starts its runner.
func (o *Orders) begin(ctx context.Context, rec records.Delivery, names []string, targets []records.Workstation, ids []int64) (int64, error) {
	o.ordering.Lock()
	defer o.ordering.Unlock()
	rec.Channel = o.Streams.FreeChannel().String() // before another order can choose the same
	order, err := o.streamOrder(ctx, &rec, ids)
	if err != nil {
		return 0, err
	}
	// Once it is recorded, its runner has to start, whatever happens to the request.
	if order.ID, err = o.Records.AddDelivery(ctx, rec, names, ids); err != nil {
		return 0, err
	}
	if err := o.Streams.Start(o.Until, order, o.members(ctx, targets, &rec, len(order.Payloads) > 0)); err != nil {
		return order.ID, err
	}
	o.ringSites()
	return order.ID, nil
}

const (
	// waitByDefault is how long a delivery waits for its gather rule, from the order or
	// the rule's earliest time; then it starts with whoever is ready.
	waitByDefault = time.Hour
	longestWait   = 30 * 24 * time.Hour
	// errandsAhead is how long before the earliest time of a delivery's gather rule its
	// workstations get their errands, so that they can look at their disks. Until then
	// they may do other errands.
	errandsAhead = 15 * time.Minute
)

// waitUntil is how long a delivery that is ordered now waits, in seconds, to start at the
// latest at a time.
func waitUntil(rule delivery.Rule, now time.Time, atLatest *time.Time) (int64, error) {
	if atLatest == nil {
		return int64(waitByDefault / time.Second), nil
	}
	from := rule.WaitsFrom(now)
	switch wait := atLatest.Sub(from); {
	case !atLatest.After(now):
		return 0, fault.Invalid.Errorf("the delivery cannot start at %s at the latest: that is over", atLatest.Format(time.RFC3339))
	case wait <= 0:
		return 0, fault.Invalid.Errorf("the delivery cannot start at %s at the latest, as by its gather rule it starts at %s at the earliest", atLatest.Format(time.RFC3339), from.Format(time.RFC3339))
	case wait > longestWait:
		return 0, fault.Invalid.Errorf("a delivery waits for %d days at the longest", int(longestWait.Hours()/24))
	default:
		return max(1, int64(wait.Seconds())), nil
	}
}

// startsAtLatest is when a recorded delivery starts at the latest.
func startsAtLatest(d *records.Delivery, rule delivery.Rule) time.Time {
	return rule.WaitsFrom(d.Created).Add(cmp.Or(time.Duration(d.WaitAtMost)*time.Second, waitByDefault))
}

// errandsFrom is when workstations get the errands of a delivery; zero for at once.
func errandsFrom(rule delivery.Rule) time.Time {
	if at := rule.Earliest(); !at.IsZero() {
		return at.Add(-errandsAhead)
	}
	return time.Time{}
}

// streamOrder is a recorded delivery as it is run. Errors say that the version's files
// are gone or damaged.
func (o *Orders) streamOrder(ctx context.Context, d *records.Delivery, workstations []int64) (stream.Order, error) {
	out := stream.Order{
		ID: d.ID, Version: roster.Ref{Image: d.Image, Version: d.Version}, Digest: d.Digest, Rate: d.Rate, Session: d.Session, State: d.State, Paused: d.Paused, Created: d.Created,
		Bytes: d.UsedBytes, WireBytes: d.WireBytes, CarriedBy: d.CarriedBy,
	}
	if d.Sealed {
		out.SealKey = d.SealKey
	}
	aside, err := d.AsideRule()
	if err != nil {
		return out, err
	}
	if out.Payloads, err = d.Payloads(); err != nil {
		return out, err
	}
	out.Aside = delivery.AsideRule{Never: aside.Never, Loss: aside.LossPercent / 100,
		DiskLag: time.Duration(aside.DiskSeconds) * time.Second, Silence: time.Duration(aside.SilentSeconds) * time.Second}
	if out.Rule, err = delivery.ParseRule(d.Rule); err != nil {
		return out, err
	}
	out.AtLatest = startsAtLatest(d, out.Rule)
	if out.Channel, err = netip.ParseAddrPort(d.Channel); err != nil {
		return out, fmt.Errorf("its multicast address: %w", err)
	}
	man, slabs, err := o.Versions.Load(&records.Version{Image: d.Image, Number: d.Version, Digest: d.Digest})
	if err != nil {
		return out, err
	}
	out.Slabs = slabs
	if d.Reuse && d.CarriedBy == "" {
		out.Bases, err = o.bases(ctx, out.Version, man, slabs, workstations)
	}
	if out.Bases != nil {
		out.BasesDigest = slabstore.Sum(out.Bases.Bytes())
	}
	return out, err
}

// basesAtMost is how many slabs workstations are told by what is on their disks: each of them
// fetches the list, of some 50 bytes a slab.
const basesAtMost = 100_000

// bases are what workstations may have in the places of a version's slabs: those of the version
// that most of them received last. Nil if they have none, or one that lies otherwise.
func (o *Orders) bases(ctx context.Context, ref roster.Ref, man *image.Manifest, slabs *image.Map, workstations []int64) (*image.Map, error) {
	number, err := o.Records.CommonVersion(ctx, ref, workstations)
	if number == 0 || err != nil {
		return nil, err
	}
	before, err := o.Records.Version(ctx, roster.Ref{Image: ref.Image, Version: number})
	if errors.Is(err, fault.NotFound) || err == nil && before.Pruned.Valid {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	was, old, err := o.Versions.Load(before)
	if err != nil || !was.LiesLike(man) {
		return nil, nil // all goes whole
	}
	return image.Bases(old, slabs, basesAtMost), nil
}

// Resume takes up what was open when the service ended last. A delivery that was under way
// waits a little for its workstations, and then goes on with what they still lack.
func (o *Orders) Resume(ctx context.Context) error {
	open, _, err := o.Records.Deliveries(ctx, true, records.Page{})
	if err != nil {
		return err
	}
	for _, rec := range open {
		members, err := o.Records.DeliveryMembers(ctx, rec.ID)
		if err != nil {
			return err
		}
		done, _, err := o.Records.Receipts(ctx, records.ReceiptFilter{DeliveryID: rec.ID}, records.Page{})
		if err != nil {
			return err
		}
		through := map[int64]bool{}
		for _, r := range done {
			through[r.WorkstationID] = true
		}
		carried, err := rec.Payloads()
		if err != nil {
			return err
		}
		left := o.members(ctx, slices.DeleteFunc(members, func(w records.Workstation) bool { return through[w.ID] }), &rec, len(carried) > 0)
		ids := make([]int64, len(left))
		for i, m := range left {
			ids[i] = m.ID
		}
		order, err := o.streamOrder(ctx, &rec, ids)
		if err == nil {
			err = o.Streams.Start(o.Until, order, left)
		}
		if err != nil {
			// The version's files are gone or damaged: nobody can get it any more.
			o.Log.Error("a delivery cannot go on", "delivery", rec.ID, "image", rec.Image, "error", err)
			o.Streams.End(o.Until, order, left, fmt.Sprintf("the service was restarted and cannot go on: %v", err))
		}
	}
	return nil
}
