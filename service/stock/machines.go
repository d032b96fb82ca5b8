package stock

import (
	"context"
	"maps"
	"slices"
	"strings"
	"sync"

	"jugate/api"
	"jugate/core/driver"
	"jugate/core/hwaddr"
	"jugate/core/roster"
	"jugate/records"
)

// fleet is what all workstations are made of, as far as drivers are concerned. It is read
// once, when it is asked for first; whoever changes a workstation says so (Touched), and
// that one alone is read anew.
type fleet struct {
	mu       sync.Mutex               // held while it is read, too; before news.mu
	all      map[int64]driver.Machine // nil before the first reading
	byModel  driver.Fleet             // nil if it has to be made anew
	parser   driver.Parser
	sameness map[string][]driver.Device // devices by their identifiers: those of one model are the same
	news     news
}

// news are the workstations that have changed since they were read.
type news struct {
	mu      sync.Mutex
	touched map[int64]struct{}
	all     bool // everything is to be read anew
}

// Touched says that a workstation has changed, or has gone; 0 that many have.
func (k *Stock) Touched(workstation int64) { k.fleet.news.touch(workstation) }

func (n *news) touch(workstation int64) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if workstation == 0 {
		n.all = true
		return
	}
	if n.touched == nil {
		n.touched = map[int64]struct{}{}
	}
	n.touched[workstation] = struct{}{}
}

// take are the news since they were taken last.
func (n *news) take() (touched map[int64]struct{}, all bool) {
	n.mu.Lock()
	defer n.mu.Unlock()
	touched, all = n.touched, n.all
	n.touched, n.all = nil, false
	return touched, all
}

// readFleet reads what some workstations are made of, or all if ids is nil. Those that
// have gone are not in it.
type readFleet func(ids []int64) (map[int64]driver.Machine, error)

// refresh reads what has changed. The caller holds mu. What changes meanwhile is read
// when it is asked for next.
func (f *fleet) refresh(read readFleet) error {
	touched, all := f.news.take()
	if f.all == nil || all {
		f.sameness = map[string][]driver.Device{}
		found, err := read(nil)
		if err != nil {
			f.news.touch(0) // the next who asks tries again
			return err
		}
		f.all, f.byModel = found, nil
		return nil
	}
	if len(touched) == 0 {
		return nil
	}
	found, err := read(slices.Collect(maps.Keys(touched)))
	if err != nil {
		f.news.touch(0)
		return err
	}
	for id := range touched {
		m, there := found[id]
		old, was := f.all[id]
		if there != was || old.Model != m.Model || !sameSlice(old.Devices, m.Devices) {
			f.byModel = nil
		}
		if there {
			f.all[id] = m
		} else {
			delete(f.all, id)
		}
	}
	return nil
}

func sameSlice(a, b []driver.Device) bool {
	return len(a) == len(b) && (len(a) == 0 || &a[0] == &b[0])
}

// models are the devices of all workstations by model. It is not changed. The caller
// holds mu.
func (f *fleet) models() driver.Fleet {
	if f.byModel == nil {
		f.byModel = driver.FleetOf(f.machines(nil, true))
	}
	return f.byModel
}

// machines are some workstations, or all, by name. The caller holds mu.
func (f *fleet) machines(ids []int64, every bool) []driver.Machine {
	some := make([]driver.Machine, 0, len(f.all))
	if every {
		some = slices.AppendSeq(some, maps.Values(f.all))
	}
	for _, id := range ids {
		if m, there := f.all[id]; there {
			some = append(some, m)
		}
	}
	slices.SortFunc(some, func(a, b driver.Machine) int { return strings.Compare(a.Name, b.Name) })
	return some
}

// devices are the devices of an inventory that want a driver, shared with all machines
// that have the same. The caller holds mu.
func (f *fleet) devices(inv api.Inventory) []driver.Device {
	var key strings.Builder
	for _, d := range inv.Devices {
		key.WriteString(d.ID)
		key.WriteByte(byte(d.Rev))
		key.WriteString(d.Class + d.Name + d.Driver)
		if d.Empty {
			key.WriteByte('-')
		}
		key.WriteByte('\n')
	}
	if known, there := f.sameness[key.String()]; there {
		return known
	}
	all := devicesOf(inv, &f.parser)
	f.sameness[key.String()] = all
	return all
}

// devicesOf are the devices of an inventory that want a driver. What an agent says
// that makes no sense is left out.
func devicesOf(inv api.Inventory, parser *driver.Parser) (all []driver.Device) {
	for _, d := range inv.Devices {
		device, err := parser.Parse(d.ID, uint8(d.Rev))
		if err != nil || slices.ContainsFunc(all, func(o driver.Device) bool { return o.Modalias == d.ID }) {
			continue
		}
		device.Name, device.Driver, device.Empty = d.Name, d.Driver, d.Empty
		if c := driver.Class(d.Class); slices.Contains(driver.Classes, c) {
			device.Class = c
		}
		all = append(all, device)
	}
	return all
}

// withFleet lets f look at what all workstations are made of now.
func (k *Stock) withFleet(ctx context.Context, look func(f *fleet)) error {
	f := &k.fleet
	f.mu.Lock()
	defer f.mu.Unlock()
	err := f.refresh(func(ids []int64) (map[int64]driver.Machine, error) {
		found := map[int64]driver.Machine{}
		return found, k.Records.Inventories(ctx, ids, func(w records.Workstation, inv api.Inventory) {
			if w.State != roster.Retired {
				found[w.ID] = driver.Machine{Name: w.Label(), Model: w.MakerAndModel(), Devices: f.devices(inv)}
			}
		})
	})
	if err == nil {
		look(f)
	}
	return err
}

// machine is a workstation as far as drivers are concerned.
func (k *Stock) machine(ctx context.Context, w *records.Workstation) (driver.Machine, error) {
	m := driver.Machine{Name: w.Label(), Model: w.MakerAndModel()}
	err := k.withFleet(ctx, func(f *fleet) { m.Devices = f.all[w.ID].Devices })
	return m, err
}

// machines are the workstations that are not retired, by name, of a group if one is named.
func (k *Stock) machines(ctx context.Context, group string) (all []driver.Machine, err error) {
	var members []int64
	if group != "" {
		if members, err = k.Records.GroupMembers(ctx, group); err != nil {
			return nil, err
		}
	}
	err = k.withFleet(ctx, func(f *fleet) { all = f.machines(members, group == "") })
	return all, err
}

// models are the devices of all workstations by model. It is not changed.
func (k *Stock) models(ctx context.Context) (models driver.Fleet, err error) {
	err = k.withFleet(ctx, func(f *fleet) { models = f.models() })
	return models, err
}

// toldModel finds the model that a machine's firmware told when it asked for its boot
// script, among those whose devices are known; nothing if there is none.
func (k *Stock) toldModel(a hwaddr.Address, fleet driver.Fleet) (model string, devices []driver.Device) {
	told := k.Boot.Model(a)
	if told == "" {
		return "", nil
	}
	for model, devices := range fleet {
		// Inventories have the maker in front of it.
		if same := strings.ReplaceAll(model, " ", "_"); same == told || strings.HasSuffix(same, "_"+told) {
			return model, devices
		}
	}
	return "", nil
}
