package orders

import (
	"context"
	"errors"
	"time"

	"jugate/api"
	"jugate/core/fault"
	"jugate/core/roster"
	"jugate/records"
)

// ReceiptOf is what is told of a receipt.
func (o *Orders) ReceiptOf(r records.Receipt) api.Receipt {
	out := api.Receipt{
		ID: r.ID, Delivery: r.DeliveryID, Workstation: r.Workstation, Address: r.Address,
		Image: r.Image, Version: r.Version, Digest: r.Digest, Ended: r.Ended,
		Multicast: r.BytesMulticast, Unicast: r.BytesUnicast, Verified: r.Verified,
		Outcome: r.Outcome, Reason: r.Reason, OrderedBy: r.OrderedBy, Unreadable: r.Unreadable, Remark: r.Remark,
	}
	out.Partition = r.Part()
	m := r.Machine()
	out.Maker, out.Model, out.Serial, out.Job = m.Maker, m.Model, m.Serial, m.Job
	if r.Kind == records.OfWipe {
		if report, err := r.Wipe(); err == nil {
			out.Wipe = &report
		}
	}
	out.Drivers, out.Arrival = r.DriverList(), o.arrivalOf(r)
	if r.Started.Valid {
		out.Started = &r.Started.Time
		out.Seconds = r.Ended.Sub(r.Started.Time).Truncate(time.Millisecond).Seconds()
	}
	return out
}

// Receipts lists receipts, the newest first.
func (o *Orders) Receipts(ctx context.Context, f records.ReceiptFilter, p records.Page) ([]api.Receipt, int, error) {
	if err := o.namedByReceipts(ctx, &f); err != nil {
		return nil, 0, err
	}
	rows, total, err := o.Records.Receipts(ctx, f, p)
	return each(rows, o.ReceiptOf), total, err
}

// Receipt is one of them.
func (o *Orders) Receipt(ctx context.Context, id int64) (api.Receipt, error) {
	r, err := o.Records.Receipt(ctx, id)
	if err != nil {
		return api.Receipt{}, err
	}
	return o.ReceiptOf(*r), nil
}

// namedByReceipts returns an error if a filter names something that neither exists nor is
// in any receipt, as a misspelt name would otherwise look like an empty result.
func (o *Orders) namedByReceipts(ctx context.Context, f *records.ReceiptFilter) (err error) {
	one := records.Page{Limit: 1}
	if f.DeliveryID != 0 {
		if _, err := o.Records.Delivery(ctx, f.DeliveryID); err != nil {
			return err
		}
	}
	if f.Image != "" {
		if f.Image, err = o.Records.ImageName(ctx, f.Image); err != nil {
			return err
		}
		if _, err = o.Records.Version(ctx, roster.Ref{Image: f.Image}); errors.Is(err, fault.NotFound) {
			if _, n, anyErr := o.Records.Receipts(ctx, records.ReceiptFilter{Image: f.Image}, one); anyErr != nil || n > 0 { // one that was renamed since
				err = anyErr
			}
		}
		if err != nil {
			return err
		}
	}
	if f.Workstation != "" {
		var w *records.Workstation
		if w, err = o.Records.FindWorkstation(ctx, f.Workstation); err == nil {
			f.Workstation, f.WorkstationID = "", w.ID // under whatever name it had
		} else if errors.Is(err, fault.NotFound) {
			if _, n, anyErr := o.Records.Receipts(ctx, records.ReceiptFilter{Workstation: f.Workstation}, one); anyErr != nil || n > 0 {
				err = anyErr
			}
		}
	}
	return err
}
