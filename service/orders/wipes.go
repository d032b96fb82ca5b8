package orders

import (
	"cmp"
	"context"
	"database/sql"
	"errors"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/delivery"
	"jugate/core/disk"
	"jugate/core/errand"
	"jugate/core/fault"
	"jugate/core/rights"
	"jugate/core/wipe"
	"jugate/records"
)

// wipeOptions are kept with an errand that wipes.
type wipeOptions struct {
	api.WipeOptions
	Serial string `json:"disk_serial"`
	Retire bool   `json:"retire"`
}

// OrderWipe has the disks of workstations wiped.
func (o *Orders) OrderWipe(ctx context.Context, in api.NewWipe) ([]api.Errand, error) {
	rule, err := disk.ParseRule(in.Disk)
	if err != nil {
		return nil, err
	}
	in.Method, in.Verify = cmp.Or(in.Method, wipe.Clear), cmp.Or(in.Verify, wipe.Sample)
	for _, name := range in.Workstations {
		if _, err := o.Records.Group(ctx, name); err == nil {
			return nil, fault.Invalid.Errorf("%s is a group; name each workstation that is to be wiped", name)
		}
	}
	targets, err := o.Fleet.Choose(ctx, in.Workstations, "")
	if err != nil {
		return nil, err
	}
	if in.Retire {
		for _, w := range targets {
			if err := rights.Check(rights.Needing(ctx, rights.Admit), w.Label(), w.Groups()); err != nil {
				return nil, err
			}
		}
	}
	serials := map[int64]string{}
	for _, w := range targets {
		err := o.Records.Inventories(ctx, []int64{w.ID}, func(_ records.Workstation, inv api.Inventory) {
			candidates := make([]disk.Candidate, len(inv.Disks))
			for i, d := range inv.Disks {
				candidates[i] = disk.Candidate{Serial: d.Serial, Size: d.Size}
			}
			if n, err := rule.Choose(candidates); err == nil { // which disk is meant is said anew at the workstation
				serials[w.ID] = inv.Disks[n].Serial
			}
		})
		if err != nil {
			return nil, err
		}
	}
	return o.addErrands(ctx, targets, errand.Wipe, func(w records.Workstation) any {
		return wipeOptions{in.WipeOptions, serials[w.ID], in.Retire}
	})
}

// fillWipe tells an agent which disk to wipe, and how.
func (o *Orders) fillWipe(e *records.Errand, out *api.ToErrand) error {
	how, err := records.OptionsOf[wipeOptions](e)
	out.Wipe = &api.ToWipe{WipeOptions: how.WipeOptions, Serial: how.Serial}
	return err
}

// Wiped ends an errand that was to wipe a disk, with a receipt. A workstation that was to be retired is, if its disk is wiped.
func (o *Orders) Wiped(ctx context.Context, workstation, id int64, done api.Wiped) error {
	e, err := o.Records.RunningErrand(ctx, workstation, id, errand.Wipe)
	if err != nil {
		return err
	}
	how, err := records.OptionsOf[wipeOptions](e)
	if err != nil {
		return err
	}
	outcome := delivery.Wiped
	if done.Error != "" || done.Report.Verify == "nothing" {
		outcome = delivery.Failed
	}
	if err := o.wipeReceipt(ctx, e, done.Report, outcome, done.Error); err != nil {
		return err
	}
	if how.Retire && outcome == delivery.Wiped {
		by := actor.With(ctx, actor.Actor{Kind: actor.Schedule, Name: e.OrderedBy})
		if err := o.Fleet.PutAway(by, workstation); err != nil {
			o.Log.Error("a workstation whose disk is wiped could not be retired", "workstation", e.Workstation, "error", err)
		}
	}
	return nil
}

// wipeReceipt writes the receipt of a wipe, which ends its errand.
func (o *Orders) wipeReceipt(ctx context.Context, e *records.Errand, report wipe.Report, outcome delivery.Outcome, reason string) error {
	w, err := o.Records.Workstation(ctx, e.WorkstationID)
	if err != nil {
		return err
	}
	r := records.Receipt{WorkstationID: w.ID, Workstation: w.Label(), Address: w.Address().String(), Started: sql.NullTime{Time: e.Created, Valid: true}, Ended: o.Now(),
		Verified: outcome == delivery.Wiped, Outcome: outcome, Reason: reason, OrderedBy: e.OrderedBy, ErrandID: e.ID}
	r.SetWipe(report)
	r.SetMachine(*w)
	if r, err = o.Records.AddReceipt(ctx, r); err != nil {
		return err
	}
	o.Log.Info("wipe", "workstation", w.Label(), "disk", report.Serial, "outcome", outcome, "reason", reason)
	o.Fleet.Changed(ctx, w.ID)
	o.Fleet.Ring(w.ID)
	o.publishErrand(ctx, e.ID)
	o.Publish(o.ReceiptOf(r))
	return nil
}

// stopWipe ends a wipe that may be under way: nobody knows what is on the disk then.
func (o *Orders) stopWipe(ctx context.Context, e *records.Errand, reason string) error {
	how, err := records.OptionsOf[wipeOptions](e)
	if err != nil {
		return err
	}
	report := wipe.Report{Method: how.Method, Serial: how.Serial, Began: e.State == errand.Running, Verify: "nothing", Remarks: []string{}}
	if report.Began {
		report.Remarks = append(report.Remarks, "the workstation may have begun; what is on the disk is not known")
	}
	err = o.wipeReceipt(ctx, e, report, delivery.WasStopped, reason)
	if errors.Is(err, fault.NotFound) {
		return fault.Conflict.Errorf("errand %d has ended", e.ID)
	}
	return err
}
