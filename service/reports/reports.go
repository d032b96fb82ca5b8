// Package reports puts together what people who never open the console ask for: which room has what, which machines fail, what
// multicast has saved.
package reports

import (
	"context"
	"time"

	"jugate/api"
	"jugate/core/check"
	"jugate/core/fault"
	"jugate/core/roster"
	"jugate/records"
)

// Records are what reports need of them.
type Records interface {
	RoomCounts(ctx context.Context) ([]records.RoomCount, error)
	NotGood(ctx context.Context, since, until time.Time) ([]records.MachineCheck, error)
	DeliverySums(ctx context.Context, since, until time.Time) ([]records.DeliverySum, error)
}

// Reports reads the records.
type Reports struct {
	Records Records
	Now     func() time.Time
}

// Rooms tells which group has which versions on its disks, and who is behind.
func (r *Reports) Rooms(ctx context.Context) ([]api.RoomReport, error) {
	rows, err := r.Records.RoomCounts(ctx)
	var all []api.RoomReport
	for _, c := range rows {
		w := records.Workstation{OnDisk: c.OnDisk}
		one := api.RoomReport{Group: c.Group, Count: c.Count, Should: c.Should, Behind: c.Should != "" && c.Should != c.OnDisk, Workstations: c.Workstations()}
		if holds, unfinished := w.Holds(); holds != (roster.Ref{}) {
			one.Image, one.Unfinished = holds.String(), unfinished
		}
		all = append(all, one)
	}
	return all, err
}

// Failures tells what the last checks of workstations did not find good.
func (r *Reports) Failures(ctx context.Context, since, until time.Time) ([]api.FailureReport, error) {
	if err := r.period(since, &until); err != nil {
		return nil, err
	}
	rows, err := r.Records.NotGood(ctx, since, until)
	var all []api.FailureReport
	for _, c := range rows {
		noticed, err := c.Findings()
		if err != nil {
			return nil, err
		}
		for _, f := range noticed {
			if f.Verdict != check.Good {
				all = append(all, api.FailureReport{Workstation: c.Workstation, Maker: c.Maker, Model: c.Model, Serial: c.Serial, Ended: c.Ended, About: string(f.About), Verdict: string(f.Verdict), Text: f.Text})
			}
		}
	}
	return all, err
}

// Savings tells for each delivery of a period what multicast has saved.
func (r *Reports) Savings(ctx context.Context, since, until time.Time) ([]api.SavingsReport, error) {
	if err := r.period(since, &until); err != nil {
		return nil, err
	}
	rows, err := r.Records.DeliverySums(ctx, since, until)
	var all []api.SavingsReport
	for _, d := range rows {
		one := api.SavingsReport{Delivery: d.ID, Image: d.Image, Version: d.Version, Ended: d.Ended, Count: d.Count, Received: d.Received, Wire: d.Wire, Reused: d.Reused, Saved: max(0, d.Received-d.Wire)}
		if d.Rate > 0 {
			one.Seconds = float64(one.Saved) * 8 / float64(d.Rate)
		}
		all = append(all, one)
	}
	return all, err
}

// period refuses one that ends before it begins; one without an end ends now.
func (r *Reports) period(since time.Time, until *time.Time) error {
	if until.IsZero() {
		*until = r.Now()
	}
	if until.Before(since) {
		return fault.Invalid.Errorf("the period ends before it begins")
	}
	return nil
}
