package stock

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"jugate/api"
	"jugate/core/driver"
	"jugate/core/hwaddr"
	"jugate/core/netboot"
	"jugate/core/version"
)

// NetbootStatus tells what is answered on each interface, and how far each machine is.
func (k *Stock) NetbootStatus(ctx context.Context) (api.NetbootStatus, error) {
	out := api.NetbootStatus{Links: []api.NetbootLink{}, Machines: []api.BootTrail{}, Unknown: string(k.Unknown())}
	var err error
	if out.Offered, err = k.Records.Offered(ctx); err != nil {
		return out, err
	}
	if b, err := k.Builds.Build(out.Offered); err == nil && version.Before(b.Program, k.Version) {
		out.Renew = fmt.Sprintf("the agent of build %d, which is offered, is of version %s, and the service of %s: it goes on with what it knows", b.Number, b.Program, k.Version)
	}
	for _, l := range k.Boot.Links(k.Now()) {
		link := api.NetbootLink{Interface: l.Name, Mode: string(l.Mode), Address: l.Address(), State: l.State}
		for _, p := range l.Pools {
			link.Pools = append(link.Pools, api.NetbootPool{Range: fmt.Sprintf("%s-%s", p.From, p.To), Left: p.Left, Of: p.Of})
		}
		out.Links = append(out.Links, link)
	}
	var silent []int
	for i, m := range k.Boot.Machines() {
		t := api.BootTrail{Address: m.Address.String(), Stuck: m.Stuck, Steps: []api.BootStep{}, Model: m.Model}
		if m.Silent {
			silent = append(silent, i)
		}
		for _, s := range m.Steps {
			t.Steps = append(t.Steps, api.BootStep{At: s.At, Step: string(s.Step), Detail: s.Detail})
		}
		if w, err := k.Records.FindWorkstation(ctx, t.Address); err == nil {
			t.Workstation = w.Name
		}
		out.Machines = append(out.Machines, t)
	}
	return out, k.whySilent(ctx, &out, silent)
}

// NetbootAdvice lists what to enter into another DHCP server.
func (k *Stock) NetbootAdvice() []api.BootAdvice {
	out := []api.BootAdvice{}
	for _, l := range k.Boot.Links(k.Now()) {
		for _, a := range netboot.Advise(l.Link) {
			advice := api.BootAdvice{Interface: l.Name, Architecture: a.Arch.String(), When: a.When(), Options: []api.BootOption{}}
			for _, o := range a.Options {
				advice.Options = append(advice.Options, api.BootOption{Number: o.Code, Name: o.Name, Value: o.Value})
			}
			out = append(out, advice)
		}
	}
	return out
}

// whySilent explains why agents have not checked in: it compares the devices of their
// machines with the build that they got. The devices are those of the last inventory, or
// of the model that the firmware told.
func (k *Stock) whySilent(ctx context.Context, out *api.NetbootStatus, silent []int) error {
	if len(silent) == 0 {
		return nil
	}
	fleet, err := k.models(ctx)
	if err != nil {
		return err
	}
	for _, i := range silent {
		t := &out.Machines[i]
		a, err := hwaddr.Parse(t.Address)
		if err != nil {
			continue
		}
		model, devices, how := "", []driver.Device(nil), "by its last inventory"
		build := out.Offered
		if w, err := k.Records.FindWorkstation(ctx, a.String()); err == nil {
			m, err := k.machine(ctx, w)
			if err != nil {
				return err
			}
			model, devices = m.Model, m.Devices
			if plan, err := k.Records.Plan(ctx, k.Now(), w.ID); err == nil && plan.Build > 0 {
				build = plan.Build
			}
		}
		if devices == nil {
			model, devices = k.toldModel(a, fleet)
			how = "by those of its model that are known"
		}
		if devices == nil || build == 0 {
			continue
		}
		t.Model = model
		b, err := k.Builds.Build(build)
		if err != nil {
			continue
		}
		inside, err := k.insideBuild(b)
		if err != nil {
			continue
		}
		if reason, coverable := notDriven(devices, inside.Inside, k.Library.Index()); reason != "" {
			t.Stuck = fmt.Sprintf("it received the boot environment, and its agent has not checked in: %s (%s, %s)", reason, model, how)
			if coverable {
				t.Cover = t.Address
			}
		}
	}
	return nil
}

// notDriven says which network cards of a machine a build does not drive, and whether the
// library has a driver. They count even if the build drives another card, as the machine
// has never called.
func notDriven(devices []driver.Device, inside *driver.Inside, x *driver.Index) (reason string, coverable bool) {
	rows := driver.Cover(devices, inside, nil, nil, x)
	var reasons []string
	for _, r := range rows {
		if r.Device.Class != driver.Network || r.Environment.State != driver.Uncovered {
			continue
		}
		words := fmt.Sprintf("its network card %s has no driver in %s", named(r.Device), inside.Name)
		if p := r.Environment.Would; p != nil {
			words += fmt.Sprintf("; package %s (%s) covers it", p.Label(), p.ID)
			coverable = true
		} else {
			words += ", and no package of the library covers it"
		}
		if !slices.Contains(reasons, words) {
			reasons = append(reasons, words)
		}
	}
	return strings.Join(reasons, "; "), coverable
}
