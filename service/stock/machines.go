package stock

import (
	"context"
	"slices"
	"strings"

	"jugate/api"
	"jugate/core/driver"
	"jugate/core/hwaddr"
	"jugate/core/roster"
	"jugate/records"
)

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
func machine(w records.Workstation) driver.Machine { return machineBy(w, &driver.Parser{}) }

// machineBy is machine with devices that many workstations share.
func machineBy(w records.Workstation, parser *driver.Parser) driver.Machine {
	m := driver.Machine{Name: w.Label(), Model: w.MakerAndModel()}
	if inv, err := w.Devices(); err == nil {
		m.Devices = devicesOf(inv, parser)
	}
	return m
}

// machines are the workstations that are not retired, of a group if one is named.
func (k *Stock) machines(ctx context.Context, group string) ([]driver.Machine, error) {
	rows, _, err := k.Records.Workstations(ctx, records.WorkstationFilter{Group: group}, records.Page{})
	if err != nil {
		return nil, err
	}
	var all []driver.Machine
	var parser driver.Parser
	for _, w := range rows {
		if w.State != roster.Retired {
			all = append(all, machineBy(w, &parser))
		}
	}
	return all, nil
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
