package orders

import (
	"context"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/delivery"
	"jugate/core/fault"
	"jugate/core/rights"
	"jugate/core/roster"
	"jugate/records"
	"jugate/stream"
)

// running finds the runner of a delivery that is not over.
func (o *Orders) running(ctx context.Context, id int64) (*stream.Runner, error) {
	rec, err := o.Records.Delivery(ctx, id)
	if err != nil {
		return nil, err
	}
	r := o.Streams.Runner(id)
	if r == nil {
		return nil, fault.Conflict.Errorf("delivery %d is %s already", id, rec.State)
	}
	return r, nil
}

// Stop stops a delivery for everyone who is not through.
func (o *Orders) Stop(ctx context.Context, id int64) (api.Delivery, error) {
	r, err := o.running(ctx, id)
	if err != nil {
		return api.Delivery{}, err
	}
	r.Stop(o.Now(), "stopped by "+actor.From(ctx).Words())
	o.ringSites()
	return o.Delivery(ctx, id)
}

// Pause holds the stream of a delivery, or lets it go on.
func (o *Orders) Pause(ctx context.Context, id int64, paused bool) (api.Delivery, error) {
	r, err := o.running(ctx, id)
	if err != nil {
		return api.Delivery{}, err
	}
	if r.Paused() != paused {
		if err := o.Records.SetPaused(ctx, id, paused); err != nil {
			return api.Delivery{}, err
		}
		words := "paused"
		if !paused {
			words = "resumed"
		}
		r.Pause(o.Now(), actor.From(ctx).Words(), words, paused)
		o.ringSites()
	}
	return o.Delivery(ctx, id)
}

// SetRate slows a delivery down or speeds it up, in bits a second.
func (o *Orders) SetRate(ctx context.Context, id, rate int64) (api.Delivery, error) {
	r, err := o.running(ctx, id)
	if err != nil {
		return api.Delivery{}, err
	}
	if err := o.Records.SetRate(ctx, id, rate); err != nil {
		return api.Delivery{}, err
	}
	r.SetRate(o.Now(), actor.From(ctx).Words(), "rate set to "+humanize.SIWithDigits(float64(rate), 1, "bit/s"), rate)
	o.ringSites()
	return o.Delivery(ctx, id)
}

// Extend adds workstations and groups to a running delivery. Those that it has already are
// left out.
func (o *Orders) Extend(ctx context.Context, id int64, in api.MoreTargets) (api.Delivery, error) {
	r, err := o.running(ctx, id)
	if err != nil {
		return api.Delivery{}, err
	}
	if err := o.extend(ctx, id, r, in); err != nil {
		return api.Delivery{}, err
	}
	return o.Delivery(ctx, id)
}

func (o *Orders) extend(ctx context.Context, id int64, r *stream.Runner, in api.MoreTargets) error {
	if err := rights.CheckImage(ctx, rights.See, r.Version().Image); err != nil {
		return err
	}
	targets, err := o.Fleet.Choose(ctx, in.To, in.Where)
	if err != nil {
		return err
	}
	names := ordered(in.To, in.Where)
	targets = slices.DeleteFunc(targets, func(w records.Workstation) bool { return r.Has(w.ID) })
	if len(targets) == 0 {
		return fault.Conflict.Errorf("delivery %d goes to %s already", id, strings.Join(names, " "))
	}
	var ids []int64
	for _, w := range targets {
		ids = append(ids, w.ID)
	}
	rec, err := o.Records.Delivery(ctx, id)
	if err != nil {
		return err
	}
	if err := o.Access.MayReceive(ctx, rec.Image, targets); err != nil {
		return err
	}
	if err := o.fits(ctx, rec, targets); err != nil {
		return err
	}
	rule, err := delivery.ParseRule(rec.Rule)
	if err != nil {
		return err
	}
	rec.NotBefore = errandsFrom(rule)
	o.ordering.Lock()
	defer o.ordering.Unlock()
	if err := o.Records.ExtendDelivery(ctx, o.Now(), *rec, names, ids); err != nil {
		return err
	}
	r.Extend(o.Now(), actor.From(ctx).Words(), "extended by "+strings.Join(names, " "), o.members(ctx, targets, rec, len(r.Payloads()) > 0))
	o.ringSites()
	for _, w := range ids {
		o.Fleet.Ring(w)
	}
	return nil
}

// ordered are the targets of an order as it named them.
func ordered(to []string, where string) []string {
	if where == "" {
		return to
	}
	return append(slices.Clone(to), "where "+where)
}

// fits returns an error if a delivery cannot be extended to some workstations.
func (o *Orders) fits(ctx context.Context, rec *records.Delivery, targets []records.Workstation) error {
	var in api.NewDelivery
	var err error
	if in.DriverOrder, err = rec.DriverOrder(); err != nil {
		return err
	}
	if in.RestoreOptions, err = rec.Restore(); err != nil {
		return err
	}
	p := &plan{targets: targets}
	if p.version, err = o.Records.Version(ctx, roster.Ref{Image: rec.Image, Version: rec.Version}); err != nil {
		return err
	}
	man, _, err := o.Versions.Load(p.version)
	if err != nil {
		return err
	}
	if err := o.planWorkstations(ctx, p, man, in); err != nil {
		return err
	}
	return p.refusal()
}
