package service

import (
	"cmp"
	"context"
	"encoding/json"
	"slices"
	"strings"

	"jugate/api"
	"jugate/core/driver"
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

// modelOf is how a workstation's model is called.
func modelOf(maker, model string) string {
	return cmp.Or(strings.TrimSpace(maker+" "+model), "unknown model")
}

// machine is a workstation as far as drivers are concerned.
func machine(w records.Workstation) driver.Machine { return machineBy(w, &driver.Parser{}) }

// machineBy is machine with devices that many workstations share.
func machineBy(w records.Workstation, parser *driver.Parser) driver.Machine {
	var inv api.Inventory
	m := driver.Machine{Name: w.Label(), Model: modelOf(w.Maker, w.Model)}
	if json.Unmarshal([]byte(w.Inventory), &inv) == nil {
		m.Devices = devicesOf(inv, parser)
	}
	return m
}

// machines are the workstations that are not retired, of a group if one is named.
func (s *Service) machines(ctx context.Context, group string) ([]driver.Machine, error) {
	rows, _, err := s.records.Workstations(ctx, records.WorkstationFilter{Group: group}, records.Page{})
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
