package stock

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"jugate/api"
	"jugate/core/driver"
	"jugate/core/fault"
	"jugate/core/roster"
	"jugate/records"
)

func cover(v driver.Verdict) api.Cover {
	c := api.Cover{State: v.State, By: v.By, Why: v.Why}
	if v.Would != nil {
		c.Package, c.Label = v.Would.ID, v.Would.Label()
	}
	return c
}

func deviceCover(r driver.Row) api.DeviceCover {
	return api.DeviceCover{Label: r.Device.Label(), ID: r.Device.Modalias, Name: r.Device.Name, Class: string(r.Device.Class),
		Environment: cover(r.Environment), Delivered: cover(r.Delivered)}
}

// lackWords say for each device that is lacking what that means.
func lackWords(rows []driver.Row, of func(driver.Row) driver.Verdict, where string) []string {
	words := []string{}
	for _, r := range driver.Lacking(rows, of) {
		what := map[driver.Class]string{driver.Network: "network card", driver.Storage: "disk controller"}[r.Device.Class]
		words = append(words, fmt.Sprintf("its %s %s has no driver in %s; %s", what, named(r.Device), where, of(r).Why))
	}
	return words
}

func named(d driver.Device) string {
	if d.Name != "" {
		return d.Name + " (" + d.Label() + ")"
	}
	return d.Label()
}

// stand is a build and a version that the devices of workstations are compared with.
type stand struct {
	build       int
	environment *driver.Inside // nil if no build is there, or an old one
	version     *records.Version
	system      system
	order       api.DriverOrder
	sets        []driver.Set
	index       *driver.Index
}

// standAt finds the build and the version; 0 is the offered build, "" no image.
func (k *Stock) standAt(ctx context.Context, build int, image string, order api.DriverOrder) (st *stand, err error) {
	st = &stand{build: build, order: order, index: k.Library.Index()}
	if st.build == 0 {
		if st.build, err = k.Records.Offered(ctx); err != nil {
			return nil, err
		}
	}
	if st.build > 0 {
		b, err := k.findBuild(ctx, st.build)
		if err != nil {
			return nil, err
		}
		if in, err := k.insideBuild(b); err != nil {
			k.Log.Warn("a build does not say what it drives", "build", b.Number, "error", err)
		} else {
			st.environment = in.Inside
		}
	}
	if st.sets, err = k.setsOf(ctx, order.Drivers); err != nil {
		return nil, err
	}
	if image == "" {
		st.system.Why = "no image was named"
		return st, nil
	}
	ref, err := roster.ParseRef(image)
	if err != nil {
		return nil, err
	}
	if st.version, err = k.Records.Version(ctx, ref); err != nil {
		return nil, err
	}
	st.system, err = k.systemOf(ctx, st.version)
	return st, err
}

// noDrivers is what an order says that wants none installed.
const noDrivers = "none"

// setsOf finds sets by name; the name "none" stands for no set.
func (k *Stock) setsOf(ctx context.Context, names []string) (sets []driver.Set, err error) {
	for _, name := range names {
		if name == noDrivers {
			return nil, nil
		}
		set, err := k.Records.DriverSet(ctx, name)
		if err != nil {
			return nil, err
		}
		sets = append(sets, set)
	}
	return sets, nil
}

// changesDrivers tells whether the order lets the drivers of the system be changed.
func (st *stand) changesDrivers() bool { return !slices.Contains(st.order.Drivers, noDrivers) }

// coming are the packages that go into the system of a workstation.
func (st *stand) coming(m driver.Machine, fleet driver.Fleet) []driver.Choice {
	in := st.system.Inside
	if in == nil || !st.changesDrivers() {
		return nil
	}
	sets := slices.DeleteFunc(slices.Clone(st.sets), func(s driver.Set) bool { return s.System != in.System })
	if st.order.DriversWhole {
		var all []driver.Choice
		for _, set := range sets {
			all = append(all, set.Whole(st.index.Packages(), fleet, in.Target())...)
		}
		return driver.Merge(all)
	}
	if len(st.sets) > 0 {
		if len(sets) == 0 {
			return nil // sets for another system
		}
		return driver.Choose(st.index, m.Devices, m.Model, in.Target(), sets)
	}
	lacking := slices.DeleteFunc(slices.Clone(m.Devices), func(d driver.Device) bool { return in.DrivenBy(d) != "" || in.Sleeps(d) != "" })
	return driver.Choose(st.index, lacking, m.Model, in.Target(), nil)
}

// rows tell for each device of a machine what drives it, in the boot environment and in
// the delivered system.
func (st *stand) rows(m driver.Machine, fleet driver.Fleet) []driver.Row {
	rows := driver.Cover(m.Devices, st.environment, st.system.Inside, driver.NewComing(st.coming(m, fleet), st.changesDrivers()), st.index)
	for i := range rows {
		if st.environment == nil {
			rows[i].Environment.Why = "no build is offered that says what it drives"
		}
		if st.system.Inside == nil {
			rows[i].Delivered.Why = st.system.Why
		}
	}
	return rows
}

// coverage is what becomes of the devices of all models of some machines.
func (st *stand) coverage(machines []driver.Machine) api.Coverage {
	out := api.Coverage{Build: st.build, System: st.system.words(), Models: []api.ModelCover{}, Unknown: []string{}}
	if st.version != nil {
		out.Image = st.version.Ref().String()
	}
	fleet := driver.FleetOf(machines)
	names := map[string][]string{}
	for _, m := range machines {
		if m.Devices == nil {
			out.Unknown = append(out.Unknown, m.Name)
			continue
		}
		names[m.Model] = append(names[m.Model], m.Name)
	}
	for model, devices := range fleet {
		rows := st.rows(driver.Machine{Model: model, Devices: devices}, fleet)
		mc := api.ModelCover{Model: model, Workstations: names[model], Devices: []api.DeviceCover{},
			LackingEnvironment: []string{}, LackingDelivered: []string{}}
		if st.environment != nil {
			mc.LackingEnvironment = lackWords(rows, driver.Row.InEnvironment, st.environment.Name)
		}
		if st.system.Inside != nil {
			mc.LackingDelivered = lackWords(rows, driver.Row.InDelivered, st.version.Ref().String())
		}
		for _, r := range rows {
			mc.Devices = append(mc.Devices, deviceCover(r))
		}
		out.Models = append(out.Models, mc)
	}
	slices.SortFunc(out.Models, func(a, b api.ModelCover) int { return strings.Compare(a.Model, b.Model) })
	return out
}

// Lacking says for each workstation, by number, which network cards and disk controllers have no
// driver in the delivered system, even with those of the order. It says nothing if that is not
// known. It returns an error if the order's drivers cannot be installed at all.
func (k *Stock) Lacking(ctx context.Context, v *records.Version, order api.DriverOrder, targets []records.Workstation) (map[int64]driver.Outlook, error) {
	st, err := k.standAt(ctx, 0, v.Ref().String(), order)
	if err != nil {
		return nil, err
	}
	if st.system.Inside == nil {
		if len(st.sets) > 0 {
			return nil, fault.Conflict.Errorf("drivers cannot be installed in %s: %s", v.Ref(), st.system.Why)
		}
		return nil, nil // nobody can tell
	}
	fleet, err := k.models(ctx)
	if err != nil {
		return nil, err
	}
	lacking := map[int64]driver.Outlook{}
	words := map[string]driver.Outlook{} // by model and devices: whoever has the same lacks the same
	for _, w := range targets {
		m, err := k.machine(ctx, &w)
		if err != nil {
			return nil, err
		}
		if m.Devices == nil {
			continue
		}
		key := fmt.Sprintf("%s %p", m.Model, m.Devices) // devices are shared
		said, known := words[key]
		if !known {
			rows := st.rows(m, fleet)
			said = driver.Outlook{Lacking: lackWords(rows, driver.Row.InDelivered, v.Ref().String()), Remarks: startWords(rows)}
			words[key] = said
		}
		lacking[w.ID] = said
	}
	return lacking, nil
}

// startWords say which disk controllers a copy starts with by what is changed in it.
func startWords(rows []driver.Row) (words []string) {
	for _, r := range rows {
		if r.Device.Class == driver.Storage && r.Delivered.State == driver.WillInstall && r.Delivered.Why != "" {
			words = append(words, fmt.Sprintf("its disk controller %s is driven by %s: %s", named(r.Device), r.Delivered.By, r.Delivered.Why))
		}
	}
	return words
}

// CoverageQuery says whose devices are held against what.
type CoverageQuery struct {
	Group   string   // of workstations; empty for all
	To      []string // workstations, in place of those of the group
	Model   string   // with wildcards
	Build   int      // 0 is the one that is offered
	Image   string   // NAME or NAME@VERSION; empty for none
	Drivers []string // sets that go into the delivered system
}

// Coverage tells for the devices of workstations whether a boot build and an image drive
// them.
func (k *Stock) Coverage(ctx context.Context, q CoverageQuery) (api.Coverage, error) {
	st, err := k.standAt(ctx, q.Build, q.Image, api.DriverOrder{Drivers: q.Drivers})
	if err != nil {
		return api.Coverage{}, err
	}
	if q.Group != "" {
		if _, err := k.Records.Group(ctx, q.Group); err != nil {
			return api.Coverage{}, err
		}
	}
	machines, err := k.machines(ctx, q.Group)
	if err != nil {
		return api.Coverage{}, err
	}
	if len(q.To) > 0 {
		machines = nil
		for _, ref := range q.To {
			w, err := k.Records.FindWorkstation(ctx, ref)
			if err != nil {
				return api.Coverage{}, err
			}
			m, err := k.machine(ctx, w)
			if err != nil {
				return api.Coverage{}, err
			}
			machines = append(machines, m)
		}
	}
	if q.Model != "" {
		machines = slices.DeleteFunc(machines, func(m driver.Machine) bool { return !driver.Like(q.Model, m.Model) })
	}
	return st.coverage(machines), nil
}

// Lines are a coverage as a table: a line for each device of each model.
func Lines(c api.Coverage) (all []api.DriverReport) {
	by := func(c api.Cover) string { return cmp.Or(c.Label, c.By) }
	for _, m := range c.Models {
		for _, d := range m.Devices {
			one := api.DriverReport{Model: m.Model, Workstations: len(m.Workstations), Device: cmp.Or(d.Name, d.Label), ID: d.ID, Class: d.Class, Environment: string(d.Environment.State), By: by(d.Environment), System: string(driver.Unknown), SystemBy: by(d.Delivered)}
			if c.Image != "" {
				one.System = string(d.Delivered.State)
			}
			all = append(all, one)
		}
	}
	return all
}
