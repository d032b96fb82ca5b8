package stock

import (
	"context"
	"errors"
	"slices"

	"jugate/api"
	"jugate/core/driver"
	"jugate/core/fault"
	"jugate/core/kmod"
	"jugate/records"
)

// packagesToInstall groups files by their package, as an agent gets them.
func packagesToInstall(placed []driver.Placed) []api.DriverPackage {
	out := []api.DriverPackage{}
	for _, f := range placed {
		i := slices.IndexFunc(out, func(p api.DriverPackage) bool { return p.ID == f.Package.ID })
		if i < 0 {
			i = len(out)
			out = append(out, api.DriverPackage{ID: f.Package.ID, Kind: string(f.Package.Kind), Name: f.Package.Name, Label: f.Package.Label(), Version: f.Package.Version,
				Arch: f.Package.Arch, Remarks: []string{}, Serves: []string{}})
		}
		out[i].Files = append(out[i].Files, api.DriverFile{Path: f.File.Path, Bytes: f.File.Size, Digest: f.File.Digest.String(), To: f.To})
	}
	return out
}

// toInstall is what goes into the system of a workstation; nil if nothing does.
func (k *Stock) toInstall(st *stand, m driver.Machine, fleet driver.Fleet) (*api.ToInstall, error) {
	choices := st.coming(m, fleet)
	in := st.system.Inside
	if in == nil {
		return nil, nil
	}
	install := &api.ToInstall{System: string(in.System), Kernel: in.Kernel}
	if in.System == driver.Windows {
		install.Packages = packagesToInstall(driver.PlaceINF(choices))
		if st.changesDrivers() && in.Closed == "" {
			startFirst(install, in, m.Devices, choices)
		}
		if len(choices)+len(install.Wake) == 0 {
			return nil, nil
		}
		return install, nil
	}
	if len(choices) == 0 {
		return nil, nil
	}
	modules, err := driver.Bring(choices, st.index.Packages(), in.Kernel, in.Names)
	if errors.Is(err, kmod.ErrMissing) {
		return nil, fault.Conflict.Errorf("the drivers for %s cannot be put together: %v", m.Name, err)
	} else if err != nil {
		return nil, err
	}
	install.Packages = packagesToInstall(driver.PlaceModules(modules))
	return install, nil
}

// startFirst has a Windows start with the drivers of disk controllers.
func startFirst(install *api.ToInstall, in *driver.Inside, devices []driver.Device, choices []driver.Choice) {
	coming := driver.NewComing(choices, true)
	for _, d := range devices {
		if d.Class != driver.Storage || in.DrivenBy(d) != "" {
			continue
		}
		if c := coming.Drives(d, in.Target()); c != nil {
			first := api.FirstDriver{Of: c.Package.ID, File: c.Model.Service.File, First: c.Package.First(c.Model, in.Arch)}
			has := slices.ContainsFunc(install.First, func(f api.FirstDriver) bool { return f.Of == first.Of && slices.Equal(f.Devices, first.Devices) })
			if in.StartsFirst(*c) == "" && !has {
				install.First = append(install.First, first)
			}
		} else if service := in.Sleeps(d); service != "" && !slices.Contains(install.Wake, service) {
			install.Wake = append(install.Wake, service)
		}
	}
}

// ToInstall is what goes into the system that a workstation has, or will have.
func (k *Stock) ToInstall(ctx context.Context, w records.Workstation, o records.InstallOptions) (*api.ToInstall, error) {
	st, err := k.standAt(ctx, 0, o.Image, o.DriverOrder)
	if err != nil {
		return nil, err
	}
	if st.system.Inside == nil && len(o.Drivers) > 0 && !slices.Contains(o.Drivers, noDrivers) {
		return nil, fault.Conflict.Errorf("drivers cannot be put into %s: %s", o.Image, st.system.Why)
	}
	fleet, err := k.models(ctx)
	if err != nil {
		return nil, err
	}
	m, err := k.machine(ctx, &w)
	if err != nil {
		return nil, err
	}
	install, err := k.toInstall(st, m, fleet)
	if install != nil {
		install.Disk = o.Disk
	}
	return install, err
}

// Lacks tells an agent which modules of the library its boot environment lacks for
// devices that nothing has taken, in the order in which they are loaded.
func (k *Stock) Lacks(in api.Lacks) (api.ToInstall, error) {
	devices := devicesOf(api.Inventory{Devices: in.Devices}, &driver.Parser{})
	x := k.Library.Index()
	target := driver.Target{System: driver.Linux, Arch: "amd64", Kernel: in.Kernel}
	modules, err := driver.Bring(driver.Merge(driver.Choose(x, devices, "", target, nil)), x.Packages(), in.Kernel, in.Modules)
	if errors.Is(err, kmod.ErrMissing) {
		return api.ToInstall{}, fault.Conflict.Mark(err)
	}
	install := api.ToInstall{System: string(driver.Linux), Kernel: in.Kernel, Packages: []api.DriverPackage{}}
	for _, m := range modules { // one after the other: the order counts
		install.Packages = append(install.Packages, packagesToInstall(driver.PlaceModules([]driver.Brought{m}))...)
	}
	return install, err
}
