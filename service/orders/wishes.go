package orders

import (
	"context"
	"slices"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/core/roster"
)

// Wish does what a person at a workstation has chosen. Without signing in, only what was
// prepared for this workstation can be had.
func (o *Orders) Wish(ctx context.Context, workstation int64, in api.Wish) error {
	w, err := o.Records.Workstation(ctx, workstation)
	if err != nil {
		return err
	}
	if !o.Fleet.IsSignedIn(workstation) {
		prepared, err := o.Records.Prepared(ctx, workstation)
		if err != nil {
			return err
		}
		if in.Kind != "receive" || !slices.Contains(prepared, in.Image) {
			return fault.Forbidden.Errorf("sign in first")
		}
	}
	ctx = actor.With(ctx, actor.Actor{Kind: actor.Workstation, Name: w.Name})
	switch in.Kind {
	case "admit":
		_, err = o.Fleet.Admit(ctx, w.Address().String(), api.Admission{Name: in.Name})
	case "receive":
		if err = roster.MustBeAdmitted(w.Label(), w.State); err == nil {
			_, err = o.Deliver(ctx, api.NewDelivery{Image: in.Image, To: []string{w.Name}, WhenDone: "restart"})
		}
	case "capture":
		_, err = o.Capture(ctx, api.NewCapture{Workstation: w.Address().String(), Image: in.Image, Note: "ordered " + actor.From(ctx).String(), CaptureOptions: api.CaptureOptions{Disk: "only"}})
	}
	if err != nil {
		return err
	}
	o.Log.Info("ordered at a workstation", "workstation", w.Label(), "what", in.Kind, "image", in.Image)
	o.Fleet.Ring(workstation)
	return nil
}
