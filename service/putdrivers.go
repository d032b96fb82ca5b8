package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"slices"

	"jugate/core/fault"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
	"jugate/core/disk"
	"jugate/core/driver"
	"jugate/core/kmod"
	"jugate/core/roster"
	"jugate/records"
)

// putOptions are kept with an errand that puts drivers into a delivered system.
type putOptions struct {
	Image string `json:"image"` // NAME@VERSION that the workstation has
	Disk  string `json:"disk"`
	api.DriverOrder
}

// orderDrivers has workstations put drivers into the system that they got last.
func (s *Service) orderDrivers(ctx context.Context, in api.PutDrivers) ([]api.Errand, error) {
	if _, err := disk.ParseRule(in.Disk); err != nil {
		return nil, fault.Invalid.Mark(err)
	}
	targets, err := s.records.Targets(ctx, in.To)
	if err != nil {
		return nil, err
	}
	var options []string
	for _, w := range targets {
		image, version, err := s.records.LastVersion(ctx, w.ID)
		if err != nil {
			return nil, err
		}
		if version == 0 {
			return nil, fault.Conflict.Errorf("%s has no receipt of an image, so nobody knows which system is on it", w.Label())
		}
		o := putOptions{Image: roster.Ref{Image: image, Version: version}.String(), Disk: in.Disk, DriverOrder: api.DriverOrder{Drivers: in.Drivers, DriversWhole: in.Whole}}
		put, err := s.putFor(ctx, w, o)
		if err != nil {
			return nil, err
		}
		if put == nil {
			return nil, fault.Conflict.Errorf("there is nothing to put in for %s (%s): either %s drives all of its devices, or no package of the library drives the rest", w.Label(), modelOf(w.Maker, w.Model), o.Image)
		}
		text, err := json.Marshal(o)
		if err != nil {
			return nil, err
		}
		options = append(options, string(text))
	}
	out := []api.Errand{}
	for i, w := range targets {
		e, err := s.records.AddDriverErrand(ctx, s.config.Now(), w.ID, options[i])
		if err != nil {
			return nil, err
		}
		s.log.Info("drivers ordered", "workstation", w.Name, "errand", e.ID)
		s.agents.wake(w.ID)
		s.tellErrand(ctx, e.ID)
		out = append(out, s.errand(*e))
	}
	return out, nil
}

// putFor is what goes into the system that a workstation has, or will have.
func (s *Service) putFor(ctx context.Context, w records.Workstation, o putOptions) (*api.ToPut, error) {
	st, err := s.standAt(ctx, 0, o.Image, o.DriverOrder)
	if err != nil {
		return nil, err
	}
	if st.system.Inside == nil && len(o.Drivers) > 0 && !slices.Contains(o.Drivers, noDrivers) {
		return nil, fault.Conflict.Errorf("drivers cannot be put into %s: %s", o.Image, st.system.Why)
	}
	machines, err := s.machines(ctx, "")
	if err != nil {
		return nil, err
	}
	put, err := s.toPut(st, machine(w), driver.FleetOf(machines))
	if put != nil {
		put.Disk = o.Disk
	}
	return put, err
}

// putOfDelivery is what goes into the system of a workstation after the copy.
func (s *Service) putOfDelivery(ctx context.Context, d *records.Delivery, workstation int64) (*api.ToPut, error) {
	w, err := s.records.Workstation(ctx, workstation)
	if err != nil {
		return nil, err
	}
	o := putOptions{Image: roster.Ref{Image: d.Image, Version: d.Version}.String()}
	if err := json.Unmarshal([]byte(cmp.Or(d.Drivers, "{}")), &o.DriverOrder); err != nil {
		return nil, err
	}
	return s.putFor(ctx, *w, o)
}

// fillPut tells an agent what to put in. What it needs is worked out anew: the library
// may have changed.
func (s *Service) fillPut(ctx context.Context, e *records.Errand, out *api.ToErrand) error {
	var o putOptions
	if err := json.Unmarshal([]byte(e.Options), &o); err != nil {
		return err
	}
	w, err := s.records.Workstation(ctx, e.WorkstationID)
	if err != nil {
		return err
	}
	put, err := s.putFor(ctx, *w, o)
	switch {
	case err != nil:
		put = &api.ToPut{System: string(driver.Linux), Packages: []api.DriverPackage{}, Problem: problem(err).Error()}
	case put == nil:
		put = &api.ToPut{System: string(driver.Linux), Packages: []api.DriverPackage{}, Problem: "there is nothing left to put in"}
	}
	out.Put = put
	return nil
}

func (s *Service) putRoutes(h huma.API) {
	huma.Register(h, huma.Operation{
		OperationID: "put-drivers", Method: http.MethodPost, Path: "/driver-errands", Tags: []string{"drivers"},
		Summary: "Have workstations add drivers to the image that they have already",
	}, func(ctx context.Context, in *struct{ Body api.PutDrivers }) (*reply[[]api.Errand], error) {
		return answer(s.orderDrivers(ctx, in.Body))
	})
}

// hasPut ends an errand that put drivers in.
func (s *Service) hasPut(ctx context.Context, in *struct {
	ID   int64 `path:"id"`
	Body api.HasPut
}) (*struct{}, error) {
	e, err := s.openErrand(ctx, in.ID, records.ErrandDrivers)
	if err != nil {
		return nil, problem(err)
	}
	text, err := json.Marshal(in.Body)
	if err != nil {
		return nil, err
	}
	if err := errors.Join(s.records.SetErrandResult(ctx, in.ID, string(text)), s.records.EndErrand(ctx, s.config.Now(), in.ID, records.ErrandDone, "")); err != nil {
		return nil, problem(err)
	}
	s.log.Info("drivers put in", "errand", in.ID, "workstation", e.Workstation, "packages", in.Body.Packages)
	s.tellErrand(ctx, in.ID)
	return nil, nil
}

// lacks tells an agent which modules of the library its boot environment lacks for
// devices that nothing has taken, in the order in which they are loaded.
func (s *Service) lacks(ctx context.Context, in *struct{ Body api.Lacks }) (*reply[api.ToPut], error) {
	devices := devicesOf(api.Inventory{Devices: in.Body.Devices}, &driver.Parser{})
	x := s.drivers.Index()
	target := driver.Target{System: driver.Linux, Arch: "amd64", Kernel: in.Body.Kernel}
	modules, err := driver.Bring(driver.Merge(driver.Choose(x, devices, "", target, nil)), x.Packages(), in.Body.Kernel, in.Body.Modules)
	if errors.Is(err, kmod.ErrMissing) {
		return nil, fault.Conflict.Mark(err)
	}
	put := api.ToPut{System: string(driver.Linux), Kernel: in.Body.Kernel, Packages: []api.DriverPackage{}}
	for _, m := range modules { // one after the other: the order counts
		put.Packages = append(put.Packages, packagesToPut(driver.PlaceModules([]driver.Brought{m}))...)
	}
	return answer(put, err)
}
