package service

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"jugate/api"
	"jugate/core/driver"
	"jugate/core/hwaddr"
)

// toldModel finds the model that a machine's firmware told when it asked for its boot
// script, among those whose devices are known; nothing if there is none.
func (s *Service) toldModel(a hwaddr.Address, fleet driver.Fleet) (model string, devices []driver.Device) {
	s.boot.mu.Lock()
	told := s.boot.told[a]
	s.boot.mu.Unlock()
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

// whySilent holds machines that never called against the build that they got, by their
// last inventory or by what their firmware told of the model.
func (s *Service) whySilent(ctx context.Context, out *api.NetbootStatus, silent []int) error {
	if len(silent) == 0 {
		return nil
	}
	machines, err := s.machines(ctx, "")
	if err != nil {
		return err
	}
	fleet := driver.FleetOf(machines)
	for _, i := range silent {
		t := &out.Machines[i]
		a, err := hwaddr.Parse(t.Address)
		if err != nil {
			continue
		}
		model, devices, how := "", []driver.Device(nil), "by its last inventory"
		build := out.Offered
		if w, err := s.records.FindWorkstation(ctx, a.String()); err == nil {
			m := machine(*w)
			model, devices = m.Model, m.Devices
			if plan, err := s.records.Plan(ctx, s.config.Now(), w.ID); err == nil && plan.Build > 0 {
				build = plan.Build
			}
		}
		if devices == nil {
			model, devices = s.toldModel(a, fleet)
			how = "by those of its model that are known"
		}
		if devices == nil || build == 0 {
			continue
		}
		t.Model = model
		b, err := s.boot.builds.Build(build)
		if err != nil {
			continue
		}
		inside, err := s.insideBuild(b)
		if err != nil {
			continue
		}
		if reason, coverable := notDriven(devices, inside, s.drivers.Index()); reason != "" {
			t.Stuck = fmt.Sprintf("it has all of the boot environment and never called: %s (%s, %s)", reason, model, how)
			if coverable {
				t.Cover = t.Address
			}
		}
	}
	return nil
}

// notDriven says which network cards of a machine a build does not drive, and whether
// the library would. One of another kind that it drives does not help a machine that
// never called.
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
