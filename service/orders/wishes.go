package orders

import (
	"context"
	"slices"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/core/rights"
	"jugate/core/roster"
)

// Wish does what a person at a workstation has chosen. Without signing in, only what was
// prepared for this workstation can be had. It tells who that was.
func (o *Orders) Wish(ctx context.Context, workstation int64, in api.Wish) (by actor.Actor, err error) {
	w, err := o.Records.Workstation(ctx, workstation)
	if err != nil {
		return by, err
	}
	by, person, holder, err := o.Fleet.SignedInAt(ctx, workstation)
	if err != nil {
		return by, err
	}
	if by == (actor.Actor{}) {
		prepared, err := o.Records.Prepared(ctx, workstation)
		if err != nil {
			return by, err
		}
		forAll, err := o.ForEverybody(ctx, *w)
		if err != nil {
			return by, err
		}
		if in.Kind == "entry" { // the stock says which are everybody's
			holder = &rights.Holder{}
		} else if w.State.Unknown() || !(in.Kind == "receive" && slices.Contains(prepared, in.Image)) && !(in.Kind == "order" && slices.Contains(forAll, in.Name)) {
			return by, fault.Forbidden.Errorf("sign in first")
		}
		if in.Kind == "order" {
			holder = &rights.Holder{} // what was released runs with the rights of whoever has saved it
		}
	}
	if by.Kind != actor.Person {
		by = actor.Actor{Kind: actor.Workstation, Name: w.Name}
	}
	ctx = rights.With(actor.With(ctx, by), holder)
	switch in.Kind {
	case "admit":
		if err = rights.Check(rights.Needing(ctx, rights.Admit), w.Label(), w.Groups()); err == nil {
			_, err = o.Fleet.Admit(ctx, w.Address().String(), api.Admission{Name: in.Name})
		}
	case "receive":
		err = o.visit(ctx, w, in.Job, func() error {
			if err := roster.MustBeAdmitted(w.Label(), w.State); err != nil {
				return err
			}
			_, err = o.Deliver(rights.Needing(ctx, rights.Deliver), api.NewDelivery{Image: in.Image, To: []string{w.Label()}, WhenDone: "restart", Answers: answersAt(w)})
			return err
		})
	case "order":
		err = o.visit(ctx, w, in.Job, func() error { return o.RunThere(ctx, person, in.Name, *w) })
	case "entry":
		err = o.visit(ctx, w, in.Job, func() error { return o.startEntryAt(ctx, w, in.Name, in.Values) })
	case "capture":
		_, err = o.Capture(rights.Needing(ctx, rights.Capture), api.NewCapture{Workstation: w.Address().String(), Image: in.Image, Note: "ordered " + actor.From(ctx).String(), CaptureOptions: api.CaptureOptions{Disk: "only"}})
	}
	if err != nil {
		return by, err
	}
	o.Log.Info("ordered at a workstation", "by", by, "workstation", w.Label(), "what", in.Kind, "image", in.Image)
	o.Fleet.Ring(workstation)
	return by, nil
}
