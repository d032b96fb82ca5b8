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
		Deliver: &api.PreparedDelivery{NewDelivery: api.NewDelivery{Image: p.Version.Image, To: room, Reuse: true}},
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
	if err := s.ended(ctx, &run); err != nil {
		return err
	}
	if len(run.Parts) != 2 || len(run.Parts[0].LeftOut) != 1 || run.Parts[0].LeftOut[0].Workstation != "seed-02" {
		return fmt.Errorf("run %d of seed-bank-weekly took out another than seed-02: %s", run.ID, run.Reason)
	}
	s.say("  taken out: seed-02, %s", run.Parts[0].LeftOut[0].Reason)
	s.Fault("seed-02", [2]int64{})
	if run, err = s.Client.GoOn(ctx, run.ID); err != nil {
		return err
	}
	if err := s.ended(ctx, &run); err != nil {
		return err
	}
	if run.State != order.Done {
		return fmt.Errorf("run %d of seed-bank-weekly is %s: %s", run.ID, run.State, run.Reason)
	}
	s.say("  its disk was replaced, and the run went on for that one")
	return nil
}

// ended waits for the end of a run.
func (s *Stage) ended(ctx context.Context, run *api.OrderRun) error {
	return s.await(ctx, "run", func() (is bool, err error) {
		*run, err = s.Client.Run(ctx, run.ID)
		return run.State.Over(), err
	})
}

// Fault has the disk of a workstation that is on fail between two bytes.
func (s *Stage) Fault(name string, bytes [2]int64) {
	s.machines[name].Become(func() { s.machines[name].BadBytes = bytes })
}
