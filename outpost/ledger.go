package outpost

import (
	"context"
	"encoding/json"
	"strconv"
	"strings"
	"time"

	"jugate/api"
	"jugate/core/delivery"
	"jugate/records/outbox"
	"jugate/stream"
)

// ledger keeps what deliveries leave behind in the outbox: it is their stream.Ledger.
type ledger struct{ *deliveries }

// Receipts is stream.Ledger's.
func (l ledger) Receipts(ctx context.Context, id int64, receipts []stream.Receipt) error {
	items := make([]item, len(receipts))
	for i, r := range receipts {
		l.mu.Lock()
		last := l.last[member{id, r.ID}]
		l.mu.Unlock()
		last.Report, last.Drivers, last.Remark = r.End.Last, r.Drivers, r.Remark
		last.Phase = delivery.Ended
		items[i] = item{api.OutpostItem{Delivery: id, Receipt: &api.OutpostReceipt{Workstation: r.ID, Last: last, Outcome: r.End.Outcome, Reason: r.End.Reason,
			Aside: r.End.Aside, Apart: r.End.Apart, Began: r.End.Began, Ended: r.End.Ended}}, member{id, r.ID}.String(), r.End.Outcome}
	}
	if err := l.keep(ctx, items...); err != nil {
		return err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, r := range receipts {
		delete(l.last, member{id, r.ID})
	}
	return nil
}

// Note is stream.Ledger's. What the service has ordered it knows itself.
func (l ledger) Note(ctx context.Context, id int64, n stream.Note) error {
	if strings.TrimSpace(n.What) == "" {
		return nil
	}
	return l.keep(ctx, item{api.OutpostItem{Delivery: id, Note: &api.OutpostNote{At: n.At, What: n.What}}, "", ""})
}

// Reached is stream.Ledger's.
func (l ledger) Reached(ctx context.Context, now time.Time, id int64, state delivery.State, _ string, _ int64) error {
	if _, is := l.said(id); !is {
		return nil
	}
	return l.o.records.Keep(ctx, now, keptReached, strconv.FormatInt(id, 10), state)
}

// Moved is stream.Ledger's.
func (l ledger) Moved(_ context.Context, id int64, workstations []int64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.moved[id] == nil {
		l.moved[id] = map[int64]struct{}{}
	}
	for _, w := range workstations {
		l.moved[id][w] = struct{}{}
	}
	nudge(l.o.courier.news)
}

// GiveRoom is stream.Ledger's: slabs are given up, as they can come again.
func (l ledger) GiveRoom() bool { return l.o.slabs.give() }

// item is something for the outbox, with who is through by it.
type item struct {
	api.OutpostItem
	through string
	outcome delivery.Outcome
}

func (d *deliveries) keep(ctx context.Context, items ...item) error {
	all := make([]outbox.Item, len(items))
	for i, one := range items {
		body, err := json.Marshal(one.OutpostItem)
		if err != nil {
			return err
		}
		all[i].Body = string(body)
		if one.through != "" {
			all[i].Kind, all[i].Key, all[i].Mark = keptThrough, one.through, one.outcome
		}
	}
	err := d.o.records.Add(ctx, d.clock.Now(), all...)
	if err == nil {
		nudge(d.o.courier.letters)
	}
	return err
}
