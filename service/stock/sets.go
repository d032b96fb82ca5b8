package stock

import (
	"cmp"
	"context"

	"jugate/api"
	"jugate/core/driver"
	"jugate/core/fault"
	"jugate/core/roster"
)

// Sets lists driver sets, by name.
func (k *Stock) Sets(ctx context.Context) ([]api.DriverSet, error) {
	sets, err := k.Records.DriverSets(ctx)
	all := make([]api.DriverSet, len(sets))
	for i, set := range sets {
		all[i] = setOf(set)
	}
	return all, err
}

// SaveSet keeps a driver set; one of the same name is replaced.
func (k *Stock) SaveSet(ctx context.Context, in api.DriverSet) (api.DriverSet, error) {
	if err := roster.CheckName("a driver set", in.Name); err != nil {
		return in, err
	}
	if in.Name == noDrivers {
		return in, fault.Invalid.Errorf("%s", `"none" means no set at all; choose another name`)
	}
	set := driver.Set{Name: in.Name, System: driver.System(in.System), Arch: cmp.Or(in.Arch, "amd64"), Fallback: in.Fallback, OnDemand: in.OnDemand}
	for _, r := range in.Rules {
		set.Rules = append(set.Rules, driver.Rule{Class: driver.Class(r.Class), Provider: r.Provider, Package: r.Package, Model: r.Model})
	}
	if err := set.Check(); err != nil {
		return in, err
	}
	if err := k.Records.SaveDriverSet(ctx, set); err != nil {
		return in, err
	}
	k.Log.Info("driver set kept", "set", set.Name, "system", set.System, "rules", len(set.Rules))
	k.Publish(api.DriversChanged{})
	return setOf(set), nil
}

// RemoveSet forgets a driver set; its packages stay.
func (k *Stock) RemoveSet(ctx context.Context, name string) error {
	err := k.Records.RemoveDriverSet(ctx, name)
	k.Publish(api.DriversChanged{})
	return err
}

// TrySet tells what a set would bring: for one model what fits its devices, without a
// model everything.
func (k *Stock) TrySet(ctx context.Context, name, model, kernel string) ([]api.DriverChoice, error) {
	set, err := k.Records.DriverSet(ctx, name)
	if err != nil {
		return nil, err
	}
	fleet, err := k.models(ctx)
	if err != nil {
		return nil, err
	}
	target := driver.Target{System: set.System, Arch: set.Arch, Kernel: kernel}
	out := []api.DriverChoice{}
	choices := []driver.Choice{}
	if model == "" {
		choices = set.Whole(k.Library.Packages(), fleet, target)
	} else {
		known := false
		for name, devices := range fleet {
			if driver.Like(model, name) {
				known = true
				choices = append(choices, driver.Choose(k.Library.Index(), devices, name, target, []driver.Set{set})...)
			}
		}
		if !known {
			return nil, fault.NotFound.Errorf("%s", "no workstation of the model "+model+" has shown its devices yet")
		}
	}
	for _, c := range choices {
		one := api.DriverChoice{Package: c.Package.ID, Label: c.Package.Label(), Modules: c.Modules, Why: c.Why}
		if c.Device.Modalias != "" {
			one.Device = named(c.Device)
		}
		out = append(out, one)
	}
	return out, nil
}

func setOf(s driver.Set) api.DriverSet {
	out := api.DriverSet{Name: s.Name, System: string(s.System), Arch: s.Arch, Fallback: s.Fallback, OnDemand: s.OnDemand, Rules: []api.DriverRule{}}
	for _, r := range s.Rules {
		out.Rules = append(out.Rules, api.DriverRule{Class: string(r.Class), Provider: r.Provider, Package: r.Package, Model: r.Model})
	}
	return out
}
