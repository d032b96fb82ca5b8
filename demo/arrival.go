package demo

import (
	"context"
	"fmt"
	"strings"

	"jugate/api"
)

// table is what the engineer has of the seed bank lab: one machine more than is there.
const table = `name,serial,groups,note,field.room,time_zone
seed-01,%s,seed-bank-lab,by the freezer,1.07,Europe/Vienna
seed-02,%s,seed-bank-lab,,1.07,Europe/Vienna
seed-03,AL-2703,seed-bank-lab,arrives in March,1.07,Europe/Vienna
`

// playArrival brings a table of a room, delivers with answers, and has each copy start under its
// own name.
func (s *Stage) playArrival(ctx context.Context, p *Prepared) error {
	names := []string{"seed-01", "seed-02"}
	in, err := s.Client.ImportRoster(ctx, fmt.Appendf(nil, table, s.machines[names[0]].Serial, s.machines[names[1]].Serial), false, true)
	if err != nil {
		return err
	}
	if !in.Entered {
		return fmt.Errorf("the table was not entered: %+v", in.Rows)
	}
	s.say("a table of the room: %d workstations changed, %d entered that nobody has seen yet", in.ChangedRows, in.NewRows)
	if _, err := s.Client.SetAnswers(ctx, api.NewAnswers{Of: seedBank, Values: map[string]any{"locale": "de_AT", "helper": true, "files": []any{map[string]any{"path": "/etc/motd", "content": "Seed bank lab\n"}}}}); err != nil {
		return err
	}
	preview, err := s.Client.PreviewAnswers(ctx, names[0], imageName)
	if err != nil {
		return err
	}
	s.say("answers are set; on the copy of %s they change %d files", names[0], len(preview.Changes))
	d, err := s.Client.Deliver(ctx, api.NewDelivery{Image: imageName, To: names, Reuse: true, RestoreOptions: api.RestoreOptions{Sizes: []string{peoplesFiles + "=rest"}}})
	if err != nil {
		return err
	}
	if _, err := s.receiptsOf(ctx, &d); err != nil {
		return err
	}
	for _, name := range names {
		if err := s.machines[name].FirstStart(ctx); err != nil {
			return fmt.Errorf("the first start of %s: %w", name, err)
		}
		s.stays(ctx, name)
	}
	receipts, err := s.receiptsOf(ctx, &d) // each with its arrival now
	if err != nil {
		return err
	}
	for _, r := range receipts {
		if r.Arrival == nil || r.Arrival.State != "arrived" || r.Arrival.Remark != "" || !strings.EqualFold(r.Arrival.Report.ComputerName, r.Workstation) {
			return fmt.Errorf("%s has not arrived as itself: %s %+v", r.Workstation, r.Reason, r.Arrival)
		}
		s.say("  %s has arrived under its own name, with machine-id %s…", r.Workstation, r.Arrival.Report.MachineID[:8])
	}
	return nil
}
