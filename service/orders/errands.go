package orders

import (
	"context"
	"errors"

	"jugate/core/delivery"
	"jugate/core/errand"
	"jugate/core/partition"
	"jugate/core/rights"
	"jugate/core/wipe"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/disk"
	"jugate/core/fault"
	"jugate/core/roster"
	"jugate/records"
)

// errandOf is what is told of an errand.
func (o *Orders) errandOf(e records.Errand) api.Errand {
	out := api.Errand{
		ID: e.ID, Workstation: e.Workstation, Kind: e.Kind, State: e.State, Image: e.Image, Version: e.Version,
		Delivery: e.DeliveryID.Int64, Error: e.Error, Created: e.Created,
	}
	out.NotBefore = records.TimeOf(e.NotBefore)
	out.Ended = records.TimeOf(e.Ended)
	out.Result, out.Command = e.Did(), commandRun(e, false)
	if p, known := o.Fleet.Activity(e.WorkstationID); known && e.State == errand.Running {
		out.Done, out.Total, out.NewSlabs = p.Done, p.Total, p.NewSlabs
	}
	return out
}

// publishErrand publishes how an errand is now.
func (o *Orders) publishErrand(ctx context.Context, id int64) {
	o.moved.ring()
	if e, err := o.Records.Errand(ctx, id); err == nil {
		o.Publish(o.errandOf(*e))
	}
}

// Capture asks a workstation to capture its disk as the next version of an image.
func (o *Orders) Capture(ctx context.Context, in api.NewCapture) (api.Errand, error) {
	if err := roster.CheckName("an image", in.Image); err != nil {
		return api.Errand{}, err
	}
	image, err := o.Records.ImageName(ctx, in.Image)
	if err != nil {
		return api.Errand{}, err
	}
	in.Image = image
	w, err := o.Records.FindWorkstation(ctx, in.Workstation)
	if err != nil {
		return api.Errand{}, err
	}
	if err := errors.Join(rights.Check(ctx, w.Label(), w.Groups()), rights.CheckImage(ctx, rights.Capture, in.Image)); err != nil {
		return api.Errand{}, err
	}
	if err := roster.MustBeAdmitted(w.Label(), w.State); err != nil {
		return api.Errand{}, err
	}
	if _, err := disk.ParseRule(in.Disk); err != nil {
		return api.Errand{}, err
	}
	for _, names := range [][]string{in.Only, in.Without} {
		if _, err := partition.ParseRefs(names); err != nil {
			return api.Errand{}, err
		}
	}
	e, err := o.Records.AddCapture(ctx, o.Now(), w.ID, in.Image, in.Note, in.CaptureOptions)
	if err != nil {
		return api.Errand{}, err
	}
	o.Log.Info("capture ordered", "workstation", w.Name, "image", in.Image, "errand", e.ID, "by", actor.From(ctx))
	o.Fleet.Ring(w.ID)
	o.publishErrand(ctx, e.ID)
	return o.errandOf(*e), nil
}

// Errands lists errands in the order in which workstations get them: of one workstation if
// it is named, and with open just those that wait or run.
func (o *Orders) Errands(ctx context.Context, workstation string, open bool, p records.Page) ([]api.Errand, int, error) {
	f := records.ErrandFilter{Open: open}
	if workstation != "" {
		w, err := o.Records.FindWorkstation(ctx, workstation)
		if err != nil {
			return nil, 0, err
		}
		f.WorkstationID = w.ID
	}
	rows, total, err := o.Records.Errands(ctx, f, p)
	return each(rows, o.errandOf), total, err
}

// Errand shows how far an errand is.
func (o *Orders) Errand(ctx context.Context, id int64) (api.Errand, error) {
	e, err := o.Records.Errand(ctx, id)
	if err != nil {
		return api.Errand{}, err
	}
	out := o.errandOf(*e)
	out.Command = commandRun(*e, true)
	return out, nil
}

// StopErrand stops an errand that is not part of a delivery. Slabs that a capture has
// stored stay for the next try.
func (o *Orders) StopErrand(ctx context.Context, id int64) (api.Errand, error) {
	e, err := o.Records.Errand(ctx, id)
	if err != nil {
		return api.Errand{}, err
	}
	if e.Kind == errand.Receive {
		return api.Errand{}, fault.Conflict.Errorf("this errand is part of a delivery; stop the delivery instead")
	}
	reason := "stopped by " + actor.From(ctx).Words()
	if e.Kind == errand.Wipe && e.State.Open() {
		err = o.stopWipe(ctx, e, reason)
	} else {
		err = o.Records.EndErrand(ctx, o.Now(), e.ID, errand.Stopped, reason)
	}
	if err != nil {
		return api.Errand{}, err
	}
	o.Versions.GiveUp(e.ID)
	if e, err = o.Records.Errand(ctx, id); err != nil {
		return api.Errand{}, err
	}
	o.Publish(o.errandOf(*e))
	return o.errandOf(*e), nil
}

// Fail ends an errand that a workstation cannot do. A delivery's part reports there.
func (o *Orders) Fail(ctx context.Context, workstation, id int64, reason string) error {
	e, err := o.Records.Errand(ctx, id)
	if err != nil {
		return err
	}
	if e.Kind == errand.Receive {
		return fault.Forbidden.Errorf("errand %d is part of a delivery, which is told how it ends", id)
	}
	if e, err = o.Records.RunningErrand(ctx, workstation, id, e.Kind); err != nil {
		return err
	}
	if e.Kind == errand.Wipe { // it is told what was done by Wiped: an agent that does not know wipes has done nothing
		how, err := records.OptionsOf[wipeOptions](e)
		if err != nil {
			return err
		}
		return o.wipeReceipt(ctx, e, wipe.Report{Method: how.Method, Serial: how.Serial, Verify: "nothing", Remarks: []string{}}, delivery.Failed, reason)
	}
	if err := o.Records.EndErrand(ctx, o.Now(), e.ID, errand.Failed, reason); err != nil {
		return err
	}
	o.Log.Warn("errand failed", "kind", e.Kind, "workstation", e.Workstation, "image", e.Image, "errand", e.ID, "error", reason)
	o.Versions.GiveUp(e.ID)
	o.publishErrand(ctx, e.ID)
	return nil
}

// Captured tells whoever watches that a capture has become a version.
func (o *Orders) Captured(ctx context.Context, errand int64) { o.publishErrand(ctx, errand) }
