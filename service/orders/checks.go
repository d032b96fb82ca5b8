package orders

import (
	"context"
	"fmt"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/check"
	"jugate/core/disk"
	"jugate/core/errand"
	"jugate/core/fault"
	"jugate/core/rights"
	"jugate/records"
	"jugate/stream"
)

// CheckOf is what is told of a check.
func (o *Orders) CheckOf(c records.MachineCheck) (out api.Check, err error) {
	out = api.Check{ID: c.ID, Errand: c.ErrandID, Workstation: c.Workstation, Address: c.Address, Maker: c.Maker, Model: c.Model, Serial: c.Serial, Ended: c.Ended, Verdict: c.Verdict, OrderedBy: c.OrderedBy}
	if out.Findings, err = c.Findings(); err != nil {
		return out, err
	}
	result, err := c.Result()
	out.Vitals = result.Health
	return out, err
}

// OrderCheck has workstations check themselves.
func (o *Orders) OrderCheck(ctx context.Context, in api.NewCheck) ([]api.Errand, error) {
	if err := checkable(in.CheckOptions); err != nil {
		return nil, err
	}
	targets, err := o.Fleet.Choose(ctx, in.To, in.Where)
	if err != nil {
		return nil, err
	}
	return o.addErrands(ctx, targets, errand.Check, func(records.Workstation) any { return in.CheckOptions })
}

// checkable refuses a check of nothing.
func checkable(in api.CheckOptions) error {
	if asked(in.Memory) || asked(in.Surface) || in.Health || in.Network {
		_, err := disk.ParseRule(in.Disk)
		return err
	}
	return fault.Invalid.Errorf("say what is to be checked: the memory, the surface of the disk, its health or the network")
}

func asked(how string) bool { return how != "" && how != "none" }

// addErrands asks workstations for something, each with options of its own: all of them, or none.
func (o *Orders) addErrands(ctx context.Context, targets []records.Workstation, kind errand.Kind, options func(w records.Workstation) any) ([]api.Errand, error) {
	asked := each(targets, func(w records.Workstation) records.Asked {
		return records.Asked{Workstation: w.ID, Kind: kind, Options: options(w)}
	})
	return o.ask(ctx, asked)
}

// ask asks workstations: all of them, or none.
func (o *Orders) ask(ctx context.Context, asked []records.Asked) ([]api.Errand, error) {
	added, err := o.Records.AddErrands(ctx, o.Now(), asked, actor.From(ctx).String())
	if err != nil {
		return nil, err
	}
	out := []api.Errand{}
	for _, e := range added {
		o.Log.Info("errand ordered", "kind", e.Kind, "workstation", e.Workstation, "image", e.Image, "errand", e.ID, "by", actor.From(ctx))
		o.Fleet.Ring(e.WorkstationID)
		o.publishErrand(ctx, e.ID)
		out = append(out, o.errandOf(e))
	}
	return out, nil
}

// fillCheck tells an agent what to check.
func (o *Orders) fillCheck(e *records.Errand, out *api.ToErrand) (err error) {
	out.Check = &api.ToCheck{Channel: o.Streams.TrialChannel(), Source: o.Streams.Multicast.Source(), Token: fmt.Sprintf("jugate trial %016x", e.ID)}
	out.Check.CheckOptions, err = records.OptionsOf[api.CheckOptions](e)
	return err
}

// Trial multicasts what a workstation that checks the network listens for.
func (o *Orders) Trial(ctx context.Context, workstation, id int64) (out api.Trial, err error) {
	e, err := o.Records.RunningErrand(ctx, workstation, id, errand.Check)
	if err != nil {
		return out, err
	}
	var told api.ToErrand
	if err := o.fillCheck(e, &told); err != nil {
		return out, err
	}
	out.Packets, err = o.Streams.Trial(ctx, told.Check.Token, stream.UsualTrial)
	return out, err
}

// TrialChannel is where trials are sent, for who listens elsewhere than at a workstation.
func (o *Orders) TrialChannel() api.TrialChannel {
	return api.TrialChannel{Channel: o.Streams.TrialChannel(), Source: o.Streams.Multicast.Source()}
}

// TrialFor multicasts a trial that begins with a word of the caller's; for a second at a rate, if one is said.
func (o *Orders) TrialFor(ctx context.Context, in api.NewTrial) (out api.Trial, err error) {
	t := stream.UsualTrial
	if in.Rate > 0 {
		t = o.Streams.TrialAt(in.Rate)
	}
	out.Packets, err = o.Streams.Trial(ctx, in.Token, t)
	return out, err
}

// Under tells whether a workstation is still to do an errand; it is a fault.Conflict if not.
func (o *Orders) Under(ctx context.Context, workstation, id int64, activity api.Activity) error {
	if _, err := o.Records.RunningErrand(ctx, workstation, id, errand.Check, errand.Wipe, errand.Command); err != nil {
		return err
	}
	o.Fleet.Active(ctx, workstation, activity)
	return nil
}

// earlierChecks is how many checks of a workstation a new one is compared with.
const earlierChecks = 20

// Checked ends an errand that has checked a workstation.
func (o *Orders) Checked(ctx context.Context, workstation, id int64, result check.Result) (out api.Judged, err error) {
	e, err := o.Records.RunningErrand(ctx, workstation, id, errand.Check)
	if err != nil {
		return out, err
	}
	if err := result.Sound(); err != nil {
		return out, err
	}
	w, err := o.Records.Workstation(ctx, workstation)
	if err != nil {
		return out, err
	}
	before, _, err := o.Records.MachineChecks(ctx, records.MachineCheckFilter{WorkstationID: workstation}, records.Page{Limit: earlierChecks})
	if err != nil {
		return out, err
	}
	var earlier []check.Result
	for _, c := range before {
		r, err := c.Result()
		if err != nil {
			return out, err
		}
		earlier = append(earlier, r)
	}
	findings := check.Judge(result, earlier)
	for _, problem := range result.Problems {
		findings = append(findings, check.Judgement{About: check.OfHealth, Verdict: check.Doubtful, Text: problem})
	}
	row := records.MachineCheck{ErrandID: id, WorkstationID: workstation, Workstation: w.Label(), Address: w.Address().String(), Maker: w.Maker, Model: w.Model, Serial: w.Serial, Ended: o.Now(), Verdict: check.Worst(findings), OrderedBy: e.OrderedBy}
	number, err := o.Records.AddMachineCheck(ctx, row, findings, result)
	if err != nil {
		return out, err
	}
	o.Log.Info("workstation checked", "workstation", w.Label(), "check", number, "verdict", row.Verdict)
	o.publishErrand(ctx, id)
	o.Fleet.Ring(workstation)
	return api.Judged{Verdict: row.Verdict, Findings: findings}, nil
}

// Checks lists what checks have found out, the newest first.
func (o *Orders) Checks(ctx context.Context, workstation string, f records.MachineCheckFilter, p records.Page) ([]api.Check, int, error) {
	if workstation != "" {
		w, err := o.Records.FindWorkstation(ctx, workstation)
		if err != nil {
			return nil, 0, err
		}
		f.WorkstationID = w.ID
	}
	f.Within = rights.From(ctx).Groups(rights.See)
	rows, total, err := o.Records.MachineChecks(ctx, f, p)
	if err != nil {
		return nil, 0, err
	}
	all := []api.Check{}
	for _, row := range rows {
		c, err := o.CheckOf(row)
		if err != nil {
			return nil, 0, err
		}
		all = append(all, c)
	}
	return all, total, nil
}

// CheckNumbered is one of them, with its figures.
func (o *Orders) CheckNumbered(ctx context.Context, id int64) (out api.Check, err error) {
	row, err := o.Records.MachineCheck(ctx, id)
	if err != nil {
		return out, err
	}
	w, err := o.Records.Workstation(ctx, row.WorkstationID)
	if err != nil {
		return out, err
	}
	if err := rights.Check(rights.Needing(ctx, rights.See), w.Label(), w.Groups()); err != nil {
		return out, err
	}
	if out, err = o.CheckOf(*row); err != nil {
		return out, err
	}
	result, err := row.Result()
	out.Result = &result
	return out, err
}
