package stock

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"jugate/api"
	"jugate/boot"
	"jugate/core/driver"
	"jugate/core/environment/builds"
	"jugate/core/fault"
	"jugate/core/hwaddr"
	"jugate/core/kmod"
	"jugate/records"
)

// insideBuild is what a build drives; it never changes.
func (k *Stock) insideBuild(b *builds.Build) (*builds.Inside, error) {
	return k.insides.Get(b.Number, func() (*builds.Inside, error) { return k.Builds.Inside(b) })
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
func vitalChoices(x *driver.Index, inside *builds.Inside, model string, devices []driver.Device) []driver.Choice {
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

// initrdFor is the name of what a workstation loads of a build: of all layers, or without those that its devices do not need, and
// with a layer for its model, if sets on demand have something for it.
func (k *Stock) initrdFor(ctx context.Context, w records.Workstation, b *builds.Build) (string, error) {
	m, err := k.machine(ctx, &w)
	if err != nil {
		return "", err
	}
	seen := m.Devices != nil // by its own agent; others of its model may have other cards
	for _, a := range w.Addresses() {
		seen = seen && k.Boot.CameUp(a) // or a card has come of which nobody knows
		if m.Devices == nil {
			if fleet, err := k.models(ctx); err == nil {
				m.Model, m.Devices = k.toldModel(a, fleet)
			}
		}
	}
	if m.Devices == nil {
		return builds.InitrdPart, nil
	}
	inside, err := k.insideBuild(b)
	if errors.Is(err, builds.ErrOldBuild) {
		return builds.InitrdPart, nil
	}
	if err != nil {
		return "", err
	}
	own, part, err := k.ownLayer(ctx, m, b, inside)
	if err != nil {
		return "", err
	}
	var spared builds.Layer
	if seen {
		spared = inside.Spared(b, m.Devices, own)
	}
	return boot.Initrd(spared, part), nil
}

// ownLayer is the layer that sets on demand bring for a machine, and what is in it; the zero part if there is none.
func (k *Stock) ownLayer(ctx context.Context, m driver.Machine, b *builds.Build, inside *builds.Inside) ([]driver.Brought, builds.Part, error) {
	sets, err := k.Records.DriverSets(ctx)
	if err != nil {
		return nil, builds.Part{}, err
	}
	sets = slices.DeleteFunc(sets, func(s driver.Set) bool { return !s.OnDemand })
	if len(sets) == 0 {
		return nil, builds.Part{}, nil
	}
	var lacking []driver.Device
	for _, d := range m.Devices {
		if inside.DrivenBy(d) == "" {
			lacking = append(lacking, d)
		}
	}
	choices := driver.Merge(driver.Choose(k.Library.Index(), lacking, m.Model, inside.Target(), sets))
	if len(choices) == 0 {
		return nil, builds.Part{}, nil
	}
	modules, err := driver.Bring(choices, k.Library.Packages(), b.Kernel, inside.Names)
	if err != nil {
		return nil, builds.Part{}, err
	}
	key := fmt.Sprint(b.Number)
	for _, c := range choices {
		key += fmt.Sprint(" ", c.Package.ID, c.Modules)
	}
	part, err := k.composed.Get(key, func() (builds.Part, error) {
		part, err := k.Builds.Compose(b, builds.Drivers{Set: "for " + m.Model, Modules: modules, Open: k.openDriver})
		if err == nil {
			k.Log.Info("layer for a model made", "build", b.Number, "model", m.Model, "modules", len(modules), "bytes", part.Size)
		}
		return part, err
	})
	return modules, part, err
}
