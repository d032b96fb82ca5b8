package outpost

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/delivery"
	"jugate/core/fault"
	"jugate/stream"
)

// courier tells the service how far deliveries are, and hands in what waits in the outbox.
type courier struct {
	o *Outpost
	// news says that something is new of deliveries, letters that something waits in the outbox; both have room for one.
	news, letters chan struct{}
}

const (
	// partsEvery is how often the service hears of deliveries at the most, and each workstation adds so much: the line has more to
	// carry.
	partsEvery, partsPerMember = 500 * time.Millisecond, 5 * time.Millisecond
	// itemsAtOnce is how many receipts and notes are handed in at once.
	itemsAtOnce = 100
)

func newCourier(o *Outpost) courier {
	return courier{o: o, news: make(chan struct{}, 1), letters: make(chan struct{}, 1)}
}

// run tells and hands in until ctx ends.
func (c *courier) run(ctx context.Context) {
	c.o.work.Go(func() { c.handIn(ctx) })
	for {
		select {
		case <-c.news:
		case <-ctx.Done():
			return
		}
		told := 0
		err := fault.Guard(func() (err error) {
			told, err = c.tellParts(ctx)
			return err
		})
		if err != nil && ctx.Err() == nil {
			c.o.config.Log.Debug("how far deliveries are could not be told", "error", err)
		}
		select {
		case <-time.After(partsEvery + time.Duration(told)*partsPerMember):
		case <-ctx.Done():
			return
		}
	}
}

// tellParts tells how far deliveries are, and returns of how many workstations.
func (c *courier) tellParts(ctx context.Context) (told int, err error) {
	d := c.o.deliveries
	d.mu.Lock()
	moved := d.moved
	d.moved = map[int64]map[int64]struct{}{}
	d.mu.Unlock()
	var in api.OutpostParts
	now := d.clock.Now()
	for id, workstations := range moved {
		run := d.streams.Runner(id)
		if run == nil {
			continue // its receipts say the rest
		}
		part := partOf(run.Status(now))
		part.Delivery = id
		for w := range workstations {
			if m, known := run.Member(w); known {
				part.Members = append(part.Members, memberOf(m))
			}
		}
		told += len(part.Members)
		in.Parts = append(in.Parts, part)
	}
	if len(in.Parts) == 0 {
		return 0, nil
	}
	_, err = ask(ctx, c.o, answerWithin, func(ctx context.Context) (struct{}, error) { return struct{}{}, c.o.client.TellParts(ctx, in) })
	if err != nil { // all of them another time
		d.mu.Lock()
		defer d.mu.Unlock()
		for id, workstations := range moved {
			if d.moved[id] == nil {
				d.moved[id] = workstations
				continue
			}
			for w := range workstations {
				d.moved[id][w] = struct{}{}
			}
		}
	}
	return told, err
}

func partOf(s stream.Status) api.OutpostPart {
	return api.OutpostPart{State: s.State, RateNow: s.RateNow, Unheard: s.Unheard, Sent: s.Sent, Slabs: s.Slabs, Round: s.Round, WireBytes: s.WireBytes, RepairBytes: s.RepairBytes,
		SecondsLeft: stream.Seconds(s.Left, s.LeftKnown)}
}

func memberOf(m stream.MemberStatus) api.OutpostMemberTold {
	out := api.OutpostMemberTold{Workstation: m.ID, Phase: m.Status.Phase, Aside: m.Status.Aside, Began: m.Status.Began, Speed: m.Speed, LossShare: m.LossShare,
		SecondsLeft: stream.Seconds(m.Left, m.LeftKnown)}
	if m.Status.Last.Phase != "" {
		out.Report = &m.Status.Last
	}
	return out
}

// handIn hands in what waits, in order, and again what the service has not answered.
func (c *courier) handIn(ctx context.Context) {
	again := time.NewTicker(tellEvery)
	defer again.Stop()
	for {
		more := true
		for more && ctx.Err() == nil {
			err := fault.Guard(func() (err error) {
				more, err = c.handInSome(ctx)
				return err
			})
			if err == nil {
				continue
			}
			more = false
			if ctx.Err() == nil && !apiclient.IsPassing(err) {
				c.o.config.Log.Error("receipts could not be handed in, and are kept", "error", err)
			}
		}
		select {
		case <-c.letters:
		case <-again.C:
		case <-ctx.Done():
			return
		}
	}
}

// handInSome hands in the first that wait; more tells whether there may be others.
func (c *courier) handInSome(ctx context.Context) (more bool, err error) {
	box, items, err := c.o.records.Items(ctx, itemsAtOnce)
	if err != nil || len(items) == 0 {
		return false, err
	}
	var all []api.OutpostItem
	for _, item := range items {
		var one api.OutpostItem
		if err := json.Unmarshal([]byte(item.Body), &one); err != nil {
			return false, fmt.Errorf("item %d of the outbox: %w", item.Number, err)
		}
		one.Number = item.Number
		all = append(all, one)
	}
	send := func(some []api.OutpostItem) error {
		_, err := ask(ctx, c.o, answerWithin, func(ctx context.Context) (struct{}, error) {
			return struct{}{}, c.o.client.HandIn(ctx, api.OutpostHandsIn{Box: box, Items: some})
		})
		return err
	}
	if err = send(all); apiclient.IsInvalid(err) { // one of them cannot be taken: the others are none the worse for it
		err = nil
		for _, one := range all {
			if err := send([]api.OutpostItem{one}); apiclient.IsInvalid(err) {
				c.o.config.Log.Error("the service does not take an item of the outbox", "number", one.Number, "delivery", one.Delivery, "error", err)
				if err := send([]api.OutpostItem{inShort(one, err)}); err != nil {
					return false, err
				}
			} else if err != nil {
				return false, err
			}
			if err := c.o.records.Drop(ctx, one.Number); err != nil {
				return false, err
			}
		}
	}
	if err != nil {
		return false, err
	}
	return len(items) == itemsAtOnce, c.o.records.Drop(ctx, items[len(items)-1].Number)
}

// inShort is what is left of an item that the service does not take as it is: nobody stays without a receipt.
func inShort(in api.OutpostItem, why error) api.OutpostItem {
	out := api.OutpostItem{Number: in.Number, Delivery: in.Delivery}
	if r := in.Receipt; r != nil {
		out.Receipt = &api.OutpostReceipt{Workstation: r.Workstation, Outcome: delivery.Failed, Ended: r.Ended, Reason: fmt.Sprintf("the service did not take the receipt, which said %s: %v", r.Outcome, why),
			Last: api.Progress{Report: delivery.Report{Phase: delivery.Ended}}}
	}
	return out
}

// HandIn hands in what waits in the data folder of an outpost that does not run, such as that of media, and says how much that was.
func HandIn(ctx context.Context, c Config, out io.Writer) (err error) {
	o, err := Open(ctx, c)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, o.Close()) }()
	n := 0
	for {
		_, items, err := o.records.Items(ctx, itemsAtOnce)
		if err != nil {
			return err
		}
		if len(items) == 0 {
			fmt.Fprintf(out, "%s: %d receipts and notes were handed in\n", o.Name(), n)
			return nil
		}
		if _, err := o.courier.handInSome(ctx); err != nil {
			return fmt.Errorf("%d were handed in, the others are kept: %w", n, err)
		}
		n += len(items)
	}
}
