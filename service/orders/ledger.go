package orders

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"time"

	"jugate/api"
	"jugate/core/delivery"
	"jugate/core/errand"
	"jugate/core/roster"
	"jugate/records"
	"jugate/stream"
)

// ledger keeps what deliveries leave behind in the records: it is their stream.Ledger.
type ledger struct{ *Orders }

// Ledger is what the streams of these orders write into.
func (o *Orders) Ledger() stream.Ledger { return ledger{o} }

// Receipts is stream.Ledger's. It writes the receipts and ends the errands, all or none.
func (l ledger) Receipts(ctx context.Context, id int64, receipts []stream.Receipt) error {
	d, err := l.Records.Delivery(ctx, id)
	if err != nil {
		return err
	}
	rows, err := l.rowsOf(ctx, d, receipts)
	if err != nil {
		return err
	}
	if rows, err = l.Records.AddReceipts(ctx, rows); err != nil {
		return err
	}
	l.written(ctx, d, receipts, rows)
	return nil
}

// rowsOf are receipts of a delivery as the records keep them.
func (o *Orders) rowsOf(ctx context.Context, d *records.Delivery, receipts []stream.Receipt) ([]records.Receipt, error) {
	restore, err := d.Restore()
	if err != nil {
		return nil, err
	}
	// If the version's record is gone, its manifest still has the count.
	unreadable := int64(0)
	if v, err := o.Records.Version(ctx, roster.Ref{Image: d.Image, Version: d.Version}); err == nil {
		unreadable = v.Unreadable
	}
	ids := make([]int64, len(receipts))
	for i, r := range receipts {
		ids[i] = r.ID
	}
	workstations, err := o.Records.ByNumber(ctx, ids)
	if err != nil {
		return nil, err
	}
	rows := make([]records.Receipt, len(receipts))
	for i, r := range receipts {
		w := workstations[r.ID]
		rows[i] = records.Receipt{
			DeliveryID: d.ID, WorkstationID: r.ID, Workstation: r.Name, Address: w.Address().String(), Image: d.Image, Version: d.Version, Digest: d.Digest,
			Started: sql.NullTime{Time: r.End.Began, Valid: !r.End.Began.IsZero()}, Ended: r.End.Ended, BytesMulticast: r.End.Last.Multicast, BytesUnicast: r.End.Last.Unicast,
			Verified: r.End.Outcome == delivery.Delivered, Outcome: r.End.Outcome, Reason: r.End.Reason, OrderedBy: d.OrderedBy, Remark: r.Remark, Unreadable: unreadable,
		}
		rows[i].SetDriverList(r.Drivers)
		rows[i].SetMachine(w)
		if restore.Partition != 0 {
			rows[i].SetPart(restore.Partition)
		}
	}
	return rows, nil
}

// written is what follows when receipts are in the records.
func (o *Orders) written(ctx context.Context, d *records.Delivery, receipts []stream.Receipt, rows []records.Receipt) {
	for _, r := range receipts {
		if r.End.Aside != "" && !r.End.Apart {
			o.checkWhoWasAside(ctx, d, r)
		}
	}
	for _, row := range rows {
		o.Fleet.Changed(ctx, row.WorkstationID)
		o.Fleet.Ring(row.WorkstationID)                               // its errand has ended: there may be another
		if whole, err := o.Records.Receipt(ctx, row.ID); err == nil { // with the arrival that it awaits
			row = *whole
		}
		o.Publish(o.ReceiptOf(row))
	}
}

// checkWhoWasAside has a workstation check itself that would have held the others back, so that somebody knows why. It is no part of the
// delivery, which has ended for it.
func (o *Orders) checkWhoWasAside(ctx context.Context, d *records.Delivery, r stream.Receipt) {
	if run := o.Streams.Runner(d.ID); run != nil && run.Unheard(r.Where) {
		return // it is the network, and no machine
	}
	open, _, err := o.Records.Errands(ctx, records.ErrandFilter{WorkstationID: r.ID, Open: true}, records.Page{})
	if err == nil && !slices.ContainsFunc(open, func(e records.Errand) bool { return e.Kind == errand.Check }) {
		options := api.CheckOptions{Surface: "sample", Health: true, Network: true, WhenDone: d.WhenDone}
		_, err = o.Records.AddErrand(ctx, o.Now(), records.Asked{Workstation: r.ID, Kind: errand.Check, Options: options}, fmt.Sprintf("delivery %d, which set it aside: %s", d.ID, r.End.Aside))
	}
	if err != nil {
		o.Log.Error("a workstation that was set aside could not be asked to check itself", "workstation", r.Name, "delivery", d.ID, "error", err)
	}
}

// Note is stream.Ledger's.
func (l ledger) Note(ctx context.Context, id int64, n stream.Note) error {
	if err := l.Records.AddDeliveryChange(ctx, id, records.DeliveryChange{At: n.At, By: n.By, What: n.What}); err != nil {
		return err
	}
	l.Publish(api.DeliveryMoved{Delivery: id, Changes: []api.DeliveryChange{{At: n.At, By: n.By, What: n.What}}})
	return nil
}

// Reached is stream.Ledger's.
func (l ledger) Reached(ctx context.Context, now time.Time, id int64, state delivery.State, reason string, wire int64) error {
	defer l.moved.ring()
	if state.Over() {
		l.sample(ctx, id, true)
		if r := l.Streams.Runner(id); r != nil {
			if err := l.Records.SetReused(ctx, id, r.Status(now).Reused); err != nil {
				return err
			}
		}
	}
	return l.Records.SetDelivery(ctx, now, id, state, reason, wire)
}

// Moved is stream.Ledger's. It publishes the delivery, and the workstations that have
// moved.
func (l ledger) Moved(ctx context.Context, id int64, workstations []int64) {
	d, err := l.Records.Delivery(ctx, id)
	if err != nil {
		return
	}
	l.Publish(l.deliveryOf(*d))
	l.sample(ctx, id, false)
	if len(workstations) == 0 {
		return
	}
	moved := api.DeliveryMoved{Delivery: id, Members: make([]api.Member, len(workstations))}
	r, now := l.Streams.Runner(id), l.Now()
	for i, w := range workstations {
		moved.Members[i] = liveMember(r, now, w)
	}
	l.Publish(moved)
}

// GiveRoom is stream.Ledger's.
func (l ledger) GiveRoom() bool {
	gave := l.Reserve.Give()
	if gave {
		l.Log.Error("the disk of the records is full; the reserve was given up for them. Free some room")
	}
	return gave
}
