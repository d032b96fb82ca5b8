package demo

import (
	"context"
	"fmt"

	"jugate/api"
	"jugate/core/order"
	"jugate/demo/golddisk"
)

// playWeek prepares an order for each Monday and runs it once: it checks two workstations, and one of them has a disk that would have held
// the other back.
func (s *Stage) playWeek(ctx context.Context, p *Prepared) error {
	g, err := s.Client.SetGroupImage(ctx, seedBank, p.Version.Image)
	if err != nil {
		return err
	}
	s.say("%s should have %s: %d of %d are behind", g.Name, g.Image, g.Behind, g.Workstations)
	room := []string{"seed-01", "seed-02"}
	_, err = s.Client.SaveOrder(ctx, api.Order{
		Name: "seed-bank-weekly", Note: "the lab, each Monday", Wake: true, Schedule: &api.OrderSchedule{When: "monday 18:30", Zone: "Europe/Vienna"},
		Check:   &api.PreparedCheck{NewCheck: api.NewCheck{To: room, CheckOptions: api.CheckOptions{Memory: "quick", Surface: "whole", Health: true, Network: true}}, Require: []string{"memory >= 4GiB"}},
		Deliver: &api.PreparedDelivery{NewDelivery: api.NewDelivery{Image: p.Version.Image, To: room, Reuse: true}, Await: true},
	})
	if err != nil {
		return err
	}
	s.Fault("seed-02", [2]int64{150 * golddisk.MiB, 150*golddisk.MiB + 4096})
	run, err := s.Client.RunOrder(ctx, "seed-bank-weekly")
	if err != nil {
		return err
	}
	s.say("the order seed-bank-weekly is prepared, and run once")
	if err := s.startsAndEnds(ctx, &run, "seed-01"); err != nil {
		return err
	}
	if len(run.Parts) != 3 || len(run.Parts[0].LeftOut) != 1 || run.Parts[0].LeftOut[0].Workstation != "seed-02" {
		return fmt.Errorf("run %d of seed-bank-weekly took out another than seed-02: %s", run.ID, run.Reason)
	}
	s.say("  taken out: seed-02, %s", run.Parts[0].LeftOut[0].Reason)
	s.Fault("seed-02", [2]int64{})
	if run, err = s.Client.GoOn(ctx, run.ID); err != nil {
		return err
	}
	if err := s.startsAndEnds(ctx, &run, "seed-02"); err != nil {
		return err
	}
	if run.State != order.Done {
		return fmt.Errorf("run %d of seed-bank-weekly is %s: %s", run.ID, run.State, run.Reason)
	}
	s.say("  its disk was replaced, and the run went on for that one, until it had arrived")
	return nil
}

// startsAndEnds waits for the delivery of a run, starts what it has brought to a workstation, and waits for the run's end.
func (s *Stage) startsAndEnds(ctx context.Context, run *api.OrderRun, name string) error {
	until := func(done func() bool) error {
		return s.await(ctx, "run", func() (is bool, err error) {
			*run, err = s.Client.Run(ctx, run.ID)
			return err == nil && (run.State.Over() || done()), err
		})
	}
	if err := until(func() bool { return run.Parts[len(run.Parts)-1].State == order.Running }); err != nil || run.State.Over() {
		return err
	}
	if err := s.machines[name].FirstStart(ctx); err != nil {
		return fmt.Errorf("the first start of %s: %w", name, err)
	}
	return until(func() bool { return false })
}

// Fault has the disk of a workstation that is on fail between two bytes.
func (s *Stage) Fault(name string, bytes [2]int64) {
	s.machines[name].Become(func() { s.machines[name].BadBytes = bytes })
}
