package stock

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"jugate/api"
	"jugate/core/driver"
	"jugate/core/environment/builds"
	"jugate/core/fault"
	"jugate/core/hwaddr"
	"jugate/core/kmod"
	"jugate/records"
)

// insideBuild is what a build drives; it never changes.
func (k *Stock) insideBuild(b *builds.Build) (*driver.Inside, error) {
	return k.insides.Get(b.Number, func() (*driver.Inside, error) { return k.Builds.Inside(b) })
}

func (k *Stock) openDriver(p *driver.Package, name string) (io.ReadCloser, error) {
	return k.Library.Open(p, name)
}

// driverLayers are the layers that an order for a build asks for.
func (k *Stock) driverLayers(ctx context.Context, b *builds.Build, in api.NewBuild) ([]builds.Drivers, error) {
	inside, err := k.insideBuild(b)
	if err != nil {
		return nil, fault.Conflict.Mark(err)
	}
	fleet, err := k.models(ctx)
	if err != nil {
		return nil, err
	}
	packages := k.Library.Packages()
	var layers []builds.Drivers
	add := func(name string, choices []driver.Choice, nothing string) error {
		if len(choices) == 0 {
			return fault.Conflict.Errorf("%s", nothing)
		}
		modules, err := driver.Bring(choices, packages, b.Kernel, inside.Names)
		if errors.Is(err, kmod.ErrMissing) {
			return fault.Invalid.Errorf("the drivers cannot be put together").With(strings.Split(err.Error(), "\n")...)
		} else if err != nil {
			return err
		}
		layers = append(layers, builds.Drivers{Set: name, Modules: modules, Open: k.openDriver})
		return nil
	}
	for _, name := range in.Drivers {
		set, err := k.Records.DriverSet(ctx, name)
		if err != nil {
			return nil, err
		}
		if set.System != driver.Linux {
			return nil, fault.Invalid.Errorf("the set %s is for %s; the boot environment is linux", set.Name, set.System)
		}
		choices := set.Whole(packages, fleet, inside.Target())
		if err := add(set.Name, choices, fmt.Sprintf("the set %s has nothing for kernel %s", set.Name, b.Kernel)); err != nil {
			return nil, err
		}
	}
	for _, name := range in.Cover {
		model, devices, err := k.devicesFor(ctx, name, fleet)
		if err != nil {
			return nil, err
		}
		choices := vitalChoices(k.Library.Index(), inside, model, devices)
		if err := add(strings.ReplaceAll(model, " ", "-"), choices, fmt.Sprintf("build %d drives all disk controllers and network cards of %s that the library has drivers for", b.Number, model)); err != nil {
			return nil, err
		}
	}
	return layers, nil
}

// devicesFor finds the devices of a workstation, by its name or address or by what its
// firmware said when it booted, or of a model.
func (k *Stock) devicesFor(ctx context.Context, name string, fleet driver.Fleet) (model string, devices []driver.Device, err error) {
	if w, err := k.Records.FindWorkstation(ctx, name); err == nil {
		if m, err := k.machine(ctx, w); err != nil || m.Devices != nil {
			return m.Model, m.Devices, err
		}
		for _, a := range w.Addresses() {
			if told, devices := k.toldModel(a, fleet); devices != nil {
				return told, devices, nil
			}
		}
	} else if a, err := hwaddr.Parse(name); err == nil {
		if told, devices := k.toldModel(a, fleet); devices != nil {
			return told, devices, nil
		}
	}
	for m, of := range fleet {
		if driver.Like(name, m) {
			model = m
			devices = append(devices, of...)
		}
	}
	if devices == nil {
		return "", nil, fault.NotFound.Errorf("%s is neither a workstation nor a model whose devices anybody has seen", name)
	}
	return model, devices, nil
}

// vitalChoices are the best modules for disk controllers and network cards that a boot
// environment does not drive.
func vitalChoices(x *driver.Index, inside *driver.Inside, model string, devices []driver.Device) []driver.Choice {
	var lacking []driver.Device
	for _, d := range devices {
		if d.Class.Vital() && !d.Empty && inside.DrivenBy(d) == "" {
			lacking = append(lacking, d)
		}
	}
	return driver.Merge(driver.Choose(x, lacking, model, inside.Target(), nil))
}

// extendBuild makes a build out of another one, with more drivers, or programs.
func (k *Stock) extendBuild(ctx context.Context, in api.NewBuild) (*builds.Build, error) {
	base, err := k.findBuild(ctx, in.Base)
	if err != nil {
		return nil, err
	}
	layers, err := k.driverLayers(ctx, base, in)
	if err != nil {
		return nil, err
	}
	return k.addLayers(base, layers, in)
}

// addLayers saves the next build. The caller does not hold making.
func (k *Stock) addLayers(base *builds.Build, layers []builds.Drivers, in api.NewBuild) (*builds.Build, error) {
	k.making.Lock()
	defer k.making.Unlock()
	next, err := k.Builds.Next()
	if err != nil {
		return nil, err
	}
	e := builds.Extension{Number: next, Created: k.Now(), Note: in.Note, Drivers: layers}
	if len(in.Programs) > 0 {
		e.Programs = &builds.Programs{Files: in.Programs, DoWithout: in.DoWithout}
	}
	b, err := k.Builds.Extend(base, e)
	return b, incomplete(err)
}

// onDemand is the layer that sets on demand bring for a workstation that boots; the
// zero part if there is none.
func (k *Stock) onDemand(ctx context.Context, w records.Workstation, b *builds.Build) (builds.Part, error) {
	sets, err := k.Records.DriverSets(ctx)
	if err != nil {
		return builds.Part{}, err
	}
	var on []driver.Set
	for _, set := range sets {
		if set.OnDemand {
			on = append(on, set)
		}
	}
	m, err := k.machine(ctx, &w)
	if err != nil {
		return builds.Part{}, err
	}
	for _, a := range w.Addresses() {
		if m.Devices == nil {
			if fleet, err := k.models(ctx); err == nil {
				m.Model, m.Devices = k.toldModel(a, fleet)
			}
		}
	}
	if len(on) == 0 || m.Devices == nil {
		return builds.Part{}, nil
	}
	inside, err := k.insideBuild(b)
	if err != nil {
		return builds.Part{}, err
	}
	var lacking []driver.Device
	for _, d := range m.Devices {
		if inside.DrivenBy(d) == "" {
			lacking = append(lacking, d)
		}
	}
	choices := driver.Merge(driver.Choose(k.Library.Index(), lacking, m.Model, inside.Target(), on))
	if len(choices) == 0 {
		return builds.Part{}, nil
	}
	key := fmt.Sprint(b.Number)
	for _, c := range choices {
		key += fmt.Sprint(" ", c.Package.ID, c.Modules)
	}
	return k.composed.Get(key, func() (builds.Part, error) {
		modules, err := driver.Bring(choices, k.Library.Packages(), b.Kernel, inside.Names)
		if err != nil {
			return builds.Part{}, err
		}
		part, err := k.Builds.Compose(b, builds.Drivers{Set: "for " + m.Model, Modules: modules, Open: k.openDriver})
		if err == nil {
			k.Log.Info("layer for a model made", "build", b.Number, "model", m.Model, "modules", len(modules), "bytes", part.Size)
		}
		return part, err
	})
}
