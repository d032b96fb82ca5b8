package orders

import (
	"context"
	"errors"

	"jugate/core/errand"
	"jugate/core/fault"
	"jugate/core/join"

	"jugate/api"
	"jugate/core/roster"
	"jugate/records"
)

// Start is the errand that a workstation has to do now, or nil.
func (o *Orders) Start(ctx context.Context, workstation int64) (*api.ToErrand, error) {
	e, err := o.next(ctx, workstation)
	if e == nil && err == nil {
		begun, problem := o.beginUnasked(ctx, workstation)
		if problem != nil { // which is no reason to have it do nothing else
			o.Log.Error("no order could run for a workstation that is behind", "workstation", workstation, "error", problem)
		}
		if begun {
			e, err = o.next(ctx, workstation)
		}
	}
	if e == nil || err != nil {
		return nil, err
	}
	out, err := o.toErrand(ctx, e)
	if errors.Is(err, join.ErrAway) { // it asks again soon
		o.Fleet.Active(ctx, workstation, api.Activity{Text: "waits: " + err.Error()})
		return nil, nil
	}
	return out, err
}

// next finds the errand of a workstation, which is under way then.
func (o *Orders) next(ctx context.Context, workstation int64) (*records.Errand, error) {
	o.ordering.RLock()
	defer o.ordering.RUnlock()
	e, err := o.Records.StartErrand(ctx, o.Now(), workstation)
	if e == nil || err != nil {
		return nil, err
	}
	if r := o.Streams.Runner(e.DeliveryID.Int64); e.DeliveryID.Valid && (r == nil || r.Through(workstation)) {
		return nil, nil // its receipt is being written, or was a moment ago, which wakes it again
	}
	o.Fleet.At(workstation, e.ID)
	o.publishErrand(ctx, e.ID)
	return e, nil
}

func (o *Orders) toErrand(ctx context.Context, e *records.Errand) (*api.ToErrand, error) {
	out := &api.ToErrand{ID: e.ID, Kind: e.Kind, Image: e.Image}
	if e.Kind == errand.Capture {
		out.Capture = &api.ToCapture{IdentityFiles: o.IdentityFiles}
		how, err := records.OptionsOf[records.SaveOptions](e)
		if err != nil {
			return nil, err
		}
		out.Capture.CaptureOptions, out.Capture.Folders = how.CaptureOptions, how.Folders
		if out.Capture.Answered, err = o.Fleet.Answered(ctx, e.Image); err != nil {
			return nil, err
		}
		if out.Capture.Follows, out.Capture.Layout, err = o.follows(ctx, e.Image); err != nil {
			return nil, err
		}
	}
	if out.Capture != nil && len(out.Capture.Only)+len(out.Capture.Without) > 0 {
		w, err := o.Records.Workstation(ctx, e.WorkstationID)
		if err != nil {
			return nil, err
		}
		if problem := tooOldFor(w.AgentVersion, "0.5.0", "leave partitions out"); problem != "" {
			out.Capture.Disk = problem // which it understands as a disk that is not there
		}
	}
	if e.Kind == errand.Drivers {
		return out, o.fillInstall(ctx, e, out)
	}
	if e.Kind == errand.Check {
		return out, o.fillCheck(e, out)
	}
	if e.Kind == errand.Wipe {
		return out, o.fillWipe(e, out)
	}
	if e.Kind == errand.Folders {
		return out, o.fillFolders(ctx, e, out)
	}
	if e.Kind == errand.Entry {
		return o.fillEntry(ctx, e, out)
	}
	if e.Kind == errand.Command {
		c, err := records.OptionsOf[api.Command](e)
		out.Command = &c
		return out, err
	}
	if e.Kind == errand.Payloads {
		return out, o.fillBring(ctx, e, out)
	}
	if e.Kind == errand.Receive {
		d, err := o.Records.Delivery(ctx, e.DeliveryID.Int64)
		if err != nil {
			return nil, err
		}
		out.Receive = &api.ToReceive{Delivery: d.ID, Version: d.Version, Digest: d.Digest, Channel: d.Channel, Session: d.Session,
			Label: roster.Ref{Image: d.Image, Version: d.Version}.String(), Reuse: d.Reuse, WhenDone: d.WhenDone, SealKey: d.SealKey}
		if r := o.Streams.Runner(d.ID); r != nil {
			out.Receive.Node, out.Receive.Nonce = uint32(r.Node(e.WorkstationID)), r.Nonce(e.WorkstationID)
			out.Receive.Source, out.Receive.MapComes = o.Streams.Multicast.Source(), r.SendsMap()
			if w, err := o.Records.Workstation(ctx, e.WorkstationID); err != nil {
				return nil, err
			} else if where, err := o.Place(ctx, w.ID, d.ID, w.Site); err == nil && where != "" {
				out.Receive.Source, out.Receive.MapComes = o.Sites.StreamsFrom(ctx, where), false
			} else if w.Site != "" { // its slabs come from there
				r.SetApart(o.Now(), w.ID, "at the outpost "+w.Site)
				out.Receive.MapComes = false
			}
			out.Receive.Payloads, out.Receive.Bases = r.Payloads(), r.Bases() != nil
		}
		if out.Receive.RestoreOptions, err = d.Restore(); err != nil {
			return nil, err
		}
		if out.Receive.Install, err = o.installOf(ctx, d, e.WorkstationID); err != nil {
			out.Receive.Install = nothingToInstall(err.Error())
		}
		if err := o.fillAnswer(ctx, d, e.WorkstationID, out.Receive); err != nil {
			return nil, err
		}
		if d.CarriedBy != "" { // media have an agent of their own
			return out, nil
		}
		if err := o.understood(ctx, e.WorkstationID, out.Receive); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// understood has an agent that is too old for what a delivery asks refuse it, by what it understands.
func (o *Orders) understood(ctx context.Context, workstation int64, out *api.ToReceive) error {
	w, err := o.Records.Workstation(ctx, workstation)
	if err != nil {
		return err
	}
	if problem := tooOld(w.AgentVersion, out.RestoreOptions); problem != "" {
		out.Answer = &api.ToAnswer{Values: map[string]string{}, Problem: problem}
	}
	return nil
}

// follows is the newest version of an image, and how its disk is laid out. Both are empty
// if there is no version, or if its files cannot be read.
func (o *Orders) follows(ctx context.Context, image string) (ref, layout string, err error) {
	v, err := o.Records.Version(ctx, roster.Ref{Image: image})
	if errors.Is(err, fault.NotFound) {
		return "", "", nil
	}
	if err != nil {
		return "", "", err
	}
	man, _, err := o.Versions.Load(v)
	if err != nil {
		o.Log.Warn("the newest version of an image cannot be read", "image", v.Ref(), "error", err)
		return "", "", nil
	}
	return v.Ref().String(), man.Layout(), nil
}
