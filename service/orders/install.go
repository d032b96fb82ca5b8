package orders

import (
	"context"
	"errors"

	"jugate/core/errand"

	"jugate/api"
	"jugate/core/disk"
	"jugate/core/driver"
	"jugate/core/fault"
	"jugate/core/roster"
	"jugate/records"
)

// InstallDrivers has workstations install drivers into the system that they got last.
func (o *Orders) InstallDrivers(ctx context.Context, in api.InstallDrivers) ([]api.Errand, error) {
	if _, err := disk.ParseRule(in.Disk); err != nil {
		return nil, err
	}
	targets, err := o.Fleet.Choose(ctx, in.To, in.Where)
	if err != nil {
		return nil, err
	}
	var asked []records.Asked
	for _, w := range targets {
		if err := hasSystem(w); err != nil {
			return nil, err
		}
		holds, _ := w.Holds()
		want := records.InstallOptions{Image: holds.String(), Disk: in.Disk, DriverOrder: api.DriverOrder{Drivers: in.Drivers, DriversWhole: in.Whole}}
		install, err := o.Stock.ToInstall(ctx, w, want)
		if err != nil {
			return nil, err
		}
		if install == nil {
			return nil, fault.Conflict.Errorf("there is nothing to install on %s (%s): either %s drives all of its devices, or no package of the library drives the rest", w.Label(), w.MakerAndModel(), want.Image)
		}
		asked = append(asked, records.Asked{Workstation: w.ID, Kind: errand.Drivers, Options: want})
	}
	return o.ask(ctx, asked)
}

// installOf is what is installed into the system of a workstation after a delivery's copy.
func (o *Orders) installOf(ctx context.Context, d *records.Delivery, workstation int64) (*api.ToInstall, error) {
	w, err := o.Records.Workstation(ctx, workstation)
	if err != nil {
		return nil, err
	}
	want := records.InstallOptions{Image: roster.Ref{Image: d.Image, Version: d.Version}.String()}
	if want.DriverOrder, err = d.DriverOrder(); err != nil {
		return nil, err
	}
	return o.Stock.ToInstall(ctx, *w, want)
}

// fillInstall tells an agent what to install. What it needs is worked out anew: the
// library may have changed.
func (o *Orders) fillInstall(ctx context.Context, e *records.Errand, out *api.ToErrand) error {
	want, err := records.OptionsOf[records.InstallOptions](e)
	if err != nil {
		return err
	}
	w, err := o.Records.Workstation(ctx, e.WorkstationID)
	if err != nil {
		return err
	}
	install, err := o.Stock.ToInstall(ctx, *w, want)
	switch {
	case err != nil:
		install = nothingToInstall(err.Error())
	case install == nil:
		install = nothingToInstall("there is nothing left to install")
	}
	out.Install = install
	return nil
}

// nothingToInstall tells an agent why there is nothing.
func nothingToInstall(problem string) *api.ToInstall {
	return &api.ToInstall{System: string(driver.Linux), Packages: []api.DriverPackage{}, Problem: problem}
}

// Installed ends an errand that has installed drivers.
func (o *Orders) Installed(ctx context.Context, workstation, id int64, done api.Installed) error {
	return o.installed(ctx, workstation, id, errand.Drivers, done)
}

func (o *Orders) installed(ctx context.Context, workstation, id int64, kind errand.Kind, done api.Installed) error {
	e, err := o.Records.RunningErrand(ctx, workstation, id, kind)
	if err != nil {
		return err
	}
	if err := errors.Join(o.Records.SetErrandResult(ctx, id, done), o.Records.EndErrand(ctx, o.Now(), id, errand.Done, "")); err != nil {
		return err
	}
	o.Log.Info("installed", "kind", kind, "errand", id, "workstation", e.Workstation, "packages", done.Packages)
	o.publishErrand(ctx, id)
	return nil
}
