package orders

import (
	"context"
	"errors"

	"jugate/api"
	"jugate/core/delivery"
	"jugate/core/fault"
	"jugate/core/image"
	"jugate/core/roster"
	"jugate/stream"
)

// doing says in words what a workstation does in a phase.
var doing = map[delivery.Phase]string{
	delivery.Ready: "ready for", delivery.Receiving: "receiving", delivery.PhaseMending: "fetching what it lacks of", delivery.Checking: "checking its disk against",
}

// Progress takes a workstation's report on its delivery, and says what it has to do.
func (o *Orders) Progress(ctx context.Context, workstation, id int64, in api.Progress) (api.Directions, error) {
	r := o.Streams.Runner(id)
	if r == nil {
		rec, err := o.Records.Delivery(ctx, id)
		if err != nil {
			return api.Directions{}, err
		}
		return api.Directions{State: rec.State, Over: true}, nil
	}
	now := o.Now()
	if !r.Has(workstation) {
		return api.Directions{}, delivery.ErrNotMember
	}
	in, err := o.believed(ctx, r, workstation, in)
	if err != nil {
		return api.Directions{}, err
	}
	if len(in.Drivers) > 0 {
		r.Installed(workstation, in.Drivers)
	}
	if in.Remark != "" {
		r.Remark(now, workstation, in.Remark)
	}
	if text := doing[in.Phase]; text != "" {
		o.Fleet.Doing(workstation, text+" "+r.Version().String())
	}
	d, err := r.Report(now, workstation, in.Report)
	if errors.Is(err, delivery.ErrReport) {
		o.Log.Warn("a report is not believed", "delivery", id, "workstation", workstation, "error", err)
	}
	if err != nil && !errors.Is(err, delivery.ErrOver) { // that one reads in the answer
		return api.Directions{}, err
	}
	return d, nil
}

// believed is a last report as far as its proof goes; others are as they are.
func (o *Orders) believed(ctx context.Context, r *stream.Runner, workstation int64, in api.Progress) (api.Progress, error) {
	id := r.Order().ID
	if in.Verified && in.Phase == delivery.Ended && in.Error == "" {
		without, err := o.leftOut(ctx, id, in.LeftOut)
		if err != nil {
			return in, err
		}
		if without == nil || !r.Proven(workstation, in.Proof, without) {
			o.Log.Warn("a workstation cannot prove that its disk is right", "delivery", id, "workstation", workstation, "has_proof", len(in.Proof) > 0, "left_out", in.LeftOut)
			in.Verified, in.Error = false, "the agent could not prove that it has read the whole disk back; if its build is older than this service: jugate environment build --offer"
		}
	}
	if in.Phase == delivery.Ended && in.Error == "" && !in.Answered {
		switch told, err := o.Records.AwaitsArrival(ctx, id, workstation); {
		case err != nil:
			return in, err
		case told:
			in.Verified, in.Error = false, "the copy is right, but its answers were not carried out, as this workstation has booted a build that does not know them; make another: jugate environment build --offer"
		}
	}
	return in, nil
}

// leftOut are the areas of a delivery's version, by their index, that do not come onto a
// workstation's disk; nil if that cannot be as its agent says.
func (o *Orders) leftOut(ctx context.Context, delivery int64, told []int) ([]int, error) {
	d, err := o.Records.Delivery(ctx, delivery)
	if err != nil {
		return nil, err
	}
	options, err := d.Restore()
	if err != nil || options.Partition == 0 && len(told) == 0 {
		return []int{}, err
	}
	v, err := o.Records.Version(ctx, roster.Ref{Image: d.Image, Version: d.Version})
	if err != nil {
		return nil, err
	}
	man, _, err := o.Versions.Load(v)
	if err != nil {
		return nil, err
	}
	return leftOut(man, options, told), nil
}

// Lacking takes which slabs a workstation lacks.
func (o *Orders) Lacking(workstation, id int64, in api.Lacking) error {
	r, err := o.Part(workstation, id) // before anything is looked at
	if err != nil {
		return err
	}
	set, err := image.ParseRanges(in.Slabs, r.Cargo.Len())
	if err != nil {
		return err
	}
	has, err := image.ParseRanges(in.Based, r.Cargo.Len())
	if err != nil {
		return err
	}
	if err = r.Lacking(o.Now(), workstation, in.Round, set, has); fault.KindOf(err) == "" {
		err = fault.Conflict.Mark(err)
	}
	return err
}

// Part finds the runner of a delivery that a workstation takes part in.
func (o *Orders) Part(workstation, id int64) (*stream.Runner, error) {
	r := o.Streams.Runner(id)
	if r == nil {
		return nil, fault.Conflict.Errorf("delivery %d is not running", id)
	}
	if !r.Has(workstation) {
		return nil, delivery.ErrNotMember
	}
	return r, nil
}
