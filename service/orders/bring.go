package orders

import (
	"context"
	"errors"

	"jugate/api"
	"jugate/core/disk"
	"jugate/core/errand"
	"jugate/core/fault"
	"jugate/records"
)

// InstallPayloads has workstations bring payloads onto the system that they got last.
func (o *Orders) InstallPayloads(ctx context.Context, in api.InstallPayloads) ([]api.Errand, error) {
	if _, err := disk.ParseRule(in.Disk); err != nil {
		return nil, err
	}
	if _, err := o.payloads(ctx, in.Payloads); err != nil {
		return nil, err
	}
	targets, err := o.Fleet.Choose(ctx, in.To, in.Where)
	if err != nil {
		return nil, err
	}
	for _, w := range targets {
		if err := hasSystem(w); err != nil {
			return nil, err
		}
	}
	options := records.BringOptions{Payloads: in.Payloads, Install: in.Install, Disk: in.Disk}
	return o.addErrands(ctx, targets, errand.Payloads, func(records.Workstation) any { return options })
}

// hasSystem refuses a workstation of whose disk nobody knows that there is a system on it.
func hasSystem(w records.Workstation) error {
	holds, unfinished := w.Holds()
	switch {
	case holds.Image == "":
		return fault.Conflict.Errorf("%s has no receipt of an image, so nobody knows which system is on it", w.Label())
	case unfinished:
		return fault.Conflict.Errorf("the copy of %s on %s is unfinished; deliver it again first", holds, w.Label())
	}
	return nil
}

func (o *Orders) payloads(ctx context.Context, names []string) (all []api.ToPayload, err error) {
	for _, name := range names {
		p, err := o.Records.Payload(ctx, name)
		if err != nil {
			return nil, err
		}
		all = append(all, api.ToPayload{Name: p.Name, Digest: p.Digest, Size: p.Size})
	}
	return all, nil
}

// fillBring tells an agent what to bring, as the library is now.
func (o *Orders) fillBring(ctx context.Context, e *records.Errand, out *api.ToErrand) error {
	want, err := records.OptionsOf[records.BringOptions](e)
	if err != nil {
		return err
	}
	out.Bring = &api.ToBring{Install: want.Install, Disk: want.Disk}
	out.Bring.Payloads, err = o.payloads(ctx, want.Payloads)
	if errors.Is(err, fault.NotFound) {
		out.Bring.Payloads, out.Bring.Problem, err = []api.ToPayload{}, err.Error(), nil
	}
	return err
}

// Brought ends an errand that has brought payloads, or folders back.
func (o *Orders) Brought(ctx context.Context, workstation, id int64, done api.Installed) error {
	e, err := o.Records.RunningErrand(ctx, workstation, id, errand.Payloads, errand.Folders)
	if err != nil {
		return err
	}
	if e.Kind == errand.Folders {
		how, err := records.OptionsOf[foldersBack](e)
		if err != nil {
			return err
		}
		if err := o.Records.SetReturned(ctx, o.Now(), how.From); err != nil {
			return err
		}
	}
	return o.installed(ctx, workstation, id, e.Kind, done)
}
