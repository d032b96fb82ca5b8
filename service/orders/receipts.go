package orders

import (
	"context"
	"time"

	"jugate/api"
	"jugate/records"
)

// receiptOf is what is told of a receipt.
func receiptOf(r records.Receipt) api.Receipt {
	out := api.Receipt{
		ID: r.ID, Delivery: r.DeliveryID, Workstation: r.Workstation, Address: r.Address,
		Image: r.Image, Version: r.Version, Digest: r.Digest, Ended: r.Ended,
		Multicast: r.BytesMulticast, Unicast: r.BytesUnicast, Verified: r.Verified,
		Outcome: r.Outcome, Reason: r.Reason, OrderedBy: r.OrderedBy, Unreadable: r.Unreadable, Remark: r.Remark, Chain: r.Chain,
	}
	out.Drivers = r.DriverList()
	if r.Started.Valid {
		out.Started = &r.Started.Time
		out.Seconds = r.Ended.Sub(r.Started.Time).Truncate(time.Millisecond).Seconds()
	}
	return out
}

// Receipts lists receipts, the newest first.
func (o *Orders) Receipts(ctx context.Context, f records.ReceiptFilter, p records.Page) ([]api.Receipt, int, error) {
	rows, total, err := o.Records.Receipts(ctx, f, p)
	return each(rows, receiptOf), total, err
}

// CheckReceipts goes through the chain of receipts and tells whether one was changed or
// removed.
func (o *Orders) CheckReceipts(ctx context.Context) api.ReceiptCheck {
	n, err := o.Records.CheckReceipts(ctx)
	check := api.ReceiptCheck{Receipts: n, Sound: err == nil}
	if err != nil {
		check.Detail = err.Error()
	}
	return check
}
