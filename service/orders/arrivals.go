package orders

import (
	"context"

	"jugate/api"
	"jugate/core/delivery"
	"jugate/core/slabstore"
	"jugate/records"
)

// arrivalOf is the first start of a copy; nil if none is awaited.
func (o *Orders) arrivalOf(r records.Receipt) *api.Arrival {
	switch {
	case !r.ArrivalIssued.Valid || r.Outcome != delivery.Delivered:
		return nil
	case r.Arrived.Valid:
		report := r.ArrivalReport()
		return &api.Arrival{State: "arrived", At: &r.Arrived.Time, Remark: r.ArrivalRemark, Report: &report}
	}
	if o.Now().Sub(r.Ended) > o.ArrivalWithin() {
		return &api.Arrival{State: "not arrived"}
	}
	return &api.Arrival{State: "awaited"}
}

// Arrive takes the report of a delivered system that has started for the first time, with the
// token that it was given.
func (o *Orders) Arrive(ctx context.Context, token, key string, report api.ArrivalReport) error {
	r, err := o.Records.Arrive(ctx, o.Now(), slabstore.Sum([]byte(token)).String(), report)
	if err != nil {
		o.Log.Warn("a report of an arrival is refused", "computer", report.ComputerName, "error", err)
		return err
	}
	if r.ArrivalRemark != "" {
		o.Log.Warn("a copy has arrived, and something is odd", "workstation", r.Workstation, "image", r.Image, "remark", r.ArrivalRemark)
	} else {
		o.Log.Info("a copy has arrived", "workstation", r.Workstation, "image", r.Image, "computer", report.ComputerName)
	}
	if err := o.Fleet.Arrived(ctx, r.WorkstationID, key, report.Helper); err != nil {
		o.Log.Error("the helper of a workstation could not be noted", "workstation", r.Workstation, "error", err)
	}
	o.Publish(o.ReceiptOf(*r))
	o.moved.ring() // a run may wait for it
	return nil
}
