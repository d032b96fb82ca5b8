package service

import (
	"cmp"
	"context"
	"net/http"

	"jugate/core/fault"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
	"jugate/core/driver"
	"jugate/core/roster"
)

func driverSet(s driver.Set) api.DriverSet {
	out := api.DriverSet{Name: s.Name, System: string(s.System), Arch: s.Arch, Fallback: s.Fallback, OnDemand: s.OnDemand, Rules: []api.DriverRule{}}
	for _, r := range s.Rules {
		out.Rules = append(out.Rules, api.DriverRule{Class: string(r.Class), Provider: r.Provider, Package: r.Package, Model: r.Model})
	}
	return out
}

func (s *Service) saveDriverSet(ctx context.Context, in api.DriverSet) (api.DriverSet, error) {
	if err := roster.CheckName("a driver set", in.Name); err != nil {
		return in, fault.Invalid.Mark(err)
	}
	if in.Name == noDrivers {
		return in, fault.Invalid.Errorf("%s", `"none" means no set at all; choose another name`)
	}
	set := driver.Set{Name: in.Name, System: driver.System(in.System), Arch: cmp.Or(in.Arch, "amd64"), Fallback: in.Fallback, OnDemand: in.OnDemand}
	for _, r := range in.Rules {
		set.Rules = append(set.Rules, driver.Rule{Class: driver.Class(r.Class), Provider: r.Provider, Package: r.Package, Model: r.Model})
	}
	if err := set.Check(); err != nil {
		return in, fault.Invalid.Mark(err)
	}
	if err := s.records.SaveDriverSet(ctx, set); err != nil {
		return in, err
	}
	s.log.Info("driver set kept", "set", set.Name, "system", set.System, "rules", len(set.Rules))
	s.events.publish(driverEvent{})
	return driverSet(set), nil
}

func (s *Service) driverSetRoutes(h huma.API) {
	tags := []string{"drivers"}
	type setRef struct {
		Name string `path:"name"`
	}
	huma.Register(h, huma.Operation{
		OperationID: "list-driver-sets", Method: http.MethodGet, Path: "/driver-sets", Tags: tags, Summary: "List driver sets, by name",
	}, func(ctx context.Context, _ *struct{}) (*reply[api.Page[api.DriverSet]], error) {
		sets, err := s.records.DriverSets(ctx)
		return items(sets, len(sets), err, driverSet)
	})
	huma.Register(h, huma.Operation{
		OperationID: "save-driver-set", Method: http.MethodPut, Path: "/driver-sets", Tags: tags, Summary: "Keep a driver set; one of the same name is replaced",
	}, func(ctx context.Context, in *struct{ Body api.DriverSet }) (*reply[api.DriverSet], error) {
		return answer(s.saveDriverSet(ctx, in.Body))
	})
	huma.Register(h, huma.Operation{
		OperationID: "remove-driver-set", Method: http.MethodDelete, Path: "/driver-sets/{name}", Tags: tags, Summary: "Forget a driver set; its packages stay",
	}, func(ctx context.Context, in *setRef) (*struct{}, error) {
		err := s.records.RemoveDriverSet(ctx, in.Name)
		s.events.publish(driverEvent{})
		return nil, problem(err)
	})
	huma.Register(h, huma.Operation{
		OperationID: "try-driver-set", Method: http.MethodGet, Path: "/driver-sets/{name}/choice", Tags: tags,
		Summary: "Tell what a set would bring: for one model what fits its devices, without a model everything",
	}, func(ctx context.Context, in *struct {
		Name   string `path:"name"`
		Model  string `query:"model" doc:"Maker and model; wildcards may be used"`
		Kernel string `query:"kernel" doc:"Release"`
	}) (*reply[[]api.DriverChoice], error) {
		return answer(s.tryDriverSet(ctx, in.Name, in.Model, in.Kernel))
	})
}

func (s *Service) tryDriverSet(ctx context.Context, name, model, kernel string) ([]api.DriverChoice, error) {
	set, err := s.records.DriverSet(ctx, name)
	if err != nil {
		return nil, err
	}
	machines, err := s.machines(ctx, "")
	if err != nil {
		return nil, err
	}
	fleet := driver.FleetOf(machines)
	target := driver.Target{System: set.System, Arch: set.Arch, Kernel: kernel}
	out := []api.DriverChoice{}
	choices := []driver.Choice{}
	if model == "" {
		choices = set.Whole(s.drivers.Packages(), fleet, target)
	} else {
		known := false
		for name, devices := range fleet {
			if driver.Like(model, name) {
				known = true
				choices = append(choices, driver.Choose(s.drivers.Index(), devices, name, target, []driver.Set{set})...)
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
