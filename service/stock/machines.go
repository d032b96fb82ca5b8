package stock

import (
	"context"
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
	reading sync.Mutex // held while records are read; before mu

	mu       sync.Mutex
	all      map[int64]driver.Machine // nil before the first reading
	touched  map[int64]struct{}       // to be read anew
	byModel  driver.Fleet             // nil if it has to be made anew
	parser   driver.Parser
	sameness map[string][]driver.Device // devices by their identifiers: those of one model are the same
}

// Touched says that a workstation has changed, or has gone; 0 that many have.
func (k *Stock) Touched(workstation int64) {
	f := &k.fleet
	f.mu.Lock()
	defer f.mu.Unlock()
	switch {
	case workstation == 0:
		f.all = nil
	case f.all != nil:
		f.touched[workstation] = struct{}{}
	}
}

// refresh reads what has changed.
func (k *Stock) refresh(ctx context.Context) error {
	f := &k.fleet
	f.reading.Lock()
	defer f.reading.Unlock()
	f.mu.Lock()
	first, touched := f.all == nil, f.touched
	if !first && len(touched) == 0 {
		f.mu.Unlock()
		return nil
	}
	if first {
		f.all, f.sameness = map[int64]driver.Machine{}, map[string][]driver.Device{}
	}
	f.touched = map[int64]struct{}{}
	f.mu.Unlock()

	var only []int64
	if !first {
		only = make([]int64, 0, len(touched))
		for id := range touched {
			only = append(only, id)
		}
	}
	found := map[int64]driver.Machine{}
	err := k.Records.Inventories(ctx, only, func(w records.Workstation, inv api.Inventory) {
		if w.State != roster.Retired {
			found[w.ID] = driver.Machine{Name: w.Label(), Model: w.MakerAndModel(), Devices: f.devices(inv)}
		}
	})

	f.mu.Lock()
	defer f.mu.Unlock()
	if err != nil { // the next who asks tries again
		if f.all = nil; !first {
			f.touched = nil
		}
		return err
	}
	for id := range touched {
		if _, there := found[id]; !there {
			delete(f.all, id)
			f.byModel = nil
		}
	}
	for id, m := range found {
		if old, there := f.all[id]; !there || old.Model != m.Model || !sameSlice(old.Devices, m.Devices) {
			f.byModel = nil
		}
		f.all[id] = m
	}
	return nil
}

func sameSlice(a, b []driver.Device) bool {
	return len(a) == len(b) && (len(a) == 0 || &a[0] == &b[0])
}

// devices are the devices of an inventory that want a driver, shared with all machines
// that have the same. The caller holds reading.
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

// machine is a workstation as far as drivers are concerned.
func (k *Stock) machine(ctx context.Context, w *records.Workstation) (driver.Machine, error) {
	m := driver.Machine{Name: w.Label(), Model: w.MakerAndModel()}
	if err := k.refresh(ctx); err != nil {
		return m, err
	}
	k.fleet.mu.Lock()
	defer k.fleet.mu.Unlock()
	if known, there := k.fleet.all[w.ID]; there {
		m.Devices = known.Devices
	}
	return m, nil
}

// machines are the workstations that are not retired, by name, of a group if one is named.
func (k *Stock) machines(ctx context.Context, group string) ([]driver.Machine, error) {
	var members []int64
	if group != "" {
		var err error
		if members, err = k.Records.GroupMembers(ctx, group); err != nil {
			return nil, err
		}
	}
	if err := k.refresh(ctx); err != nil {
		return nil, err
	}
	k.fleet.mu.Lock()
	defer k.fleet.mu.Unlock()
	all := make([]driver.Machine, 0, len(k.fleet.all))
	if group == "" {
		for _, m := range k.fleet.all {
			all = append(all, m)
		}
	}
	for _, id := range members {
		if m, there := k.fleet.all[id]; there {
			all = append(all, m)
		}
	}
	slices.SortFunc(all, func(a, b driver.Machine) int { return strings.Compare(a.Name, b.Name) })
	return all, nil
}

// models are the devices of all workstations by model. It is not changed.
func (k *Stock) models(ctx context.Context) (driver.Fleet, error) {
	if err := k.refresh(ctx); err != nil {
		return nil, err
	}
	k.fleet.mu.Lock()
	known := k.fleet.byModel
	k.fleet.mu.Unlock()
	if known != nil {
		return known, nil
	}
	machines, err := k.machines(ctx, "")
	if err != nil {
		return nil, err
	}
	made := driver.FleetOf(machines)
	k.fleet.mu.Lock()
	defer k.fleet.mu.Unlock()
	k.fleet.byModel = made
	return made, nil
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
