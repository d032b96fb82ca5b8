package orders

import (
	"bytes"
	"context"
	"io"
	"slices"
	"time"

	"jugate/api"
	"jugate/core/delivery"
	"jugate/core/fault"
	"jugate/core/slabstore"
	"jugate/records"
	"jugate/stream"
)

// The workstations of a delivery that are at an outpost are served there: it gathers them, streams to
// them and mends, and hands their receipts in. Here is what it is told for that, and what it tells.

// Sites know the outposts.
type Sites interface {
	// StreamsFrom is the address that the streams of an outpost come from; empty if it sends none.
	StreamsFrom(ctx context.Context, name string) string
	// Sealed tells whether nothing of a slab lies open on the disk of an outpost.
	Sealed(name string) bool
	// Up tells whether an outpost is there now.
	Up(name string) bool
	// Ring has outposts hear that there is something new for them.
	Ring()
}

// servedAt is the outpost that serves a workstation in a delivery, by where it called last; empty for the service
// itself. Of what is sealed nothing lies open on another disk.
func (o *Orders) servedAt(ctx context.Context, site string, sealed, payloads bool) string {
	switch {
	case site == "" || o.Sites == nil || o.Sites.StreamsFrom(ctx, site) == "":
		return ""
	case sealed && (payloads || !o.Sites.Sealed(site)): // payloads lie there as they are
		return ""
	}
	return site
}

// members are workstations as a delivery has them.
func (o *Orders) members(ctx context.Context, workstations []records.Workstation, d *records.Delivery, payloads bool) []stream.Member {
	all := make([]stream.Member, len(workstations))
	for i, w := range workstations {
		all[i] = stream.Member{ID: w.ID, Name: w.Label(), Where: d.CarriedBy, Unseen: !w.Seen()}
		if d.CarriedBy == "" {
			all[i].Where = o.servedAt(ctx, w.Site, d.Sealed, payloads)
		}
	}
	return all
}

// ringSites has outposts hear of what has changed of a delivery.
func (o *Orders) ringSites() {
	if o.Sites != nil {
		o.Sites.Ring()
	}
}

// Place has a workstation be served where it has called from, and tells where that is: at an outpost, or here if that is
// empty. Errors are those of Part.
func (o *Orders) Place(ctx context.Context, workstation, id int64, outpost string) (string, error) {
	r, err := o.Part(workstation, id)
	if err != nil {
		return "", err
	}
	if r.Order().CarriedBy != "" { // it comes from there, or not at all
		return r.Where(workstation), nil
	}
	if r.Place(o.Now(), workstation, o.servedAt(ctx, outpost, r.Seal != nil, len(r.Payloads()) > 0)) {
		o.ringSites()
	}
	return r.Where(workstation), nil
}

// Ends takes that a workstation is through with deliveries at an outpost, and its receipts on their way: it does not get these
// errands again.
func (o *Orders) Ends(workstation int64, deliveries []int64) {
	for _, id := range deliveries {
		if r := o.Streams.Runner(id); r != nil {
			r.EndsElsewhere(workstation)
		}
	}
}

// PartsAt are the parts of deliveries that an outpost is to carry through, without the files of their versions.
func (o *Orders) PartsAt(site string) (all []api.OutpostDelivery, err error) {
	for _, r := range o.Streams.Runners() {
		members, open := r.At(site)
		if !open {
			continue
		}
		in := r.Order()
		out := api.OutpostDelivery{ID: in.ID, OutpostVersion: api.OutpostVersion{Image: in.Version.Image, Version: in.Version.Version}, Payloads: in.Payloads, Rule: in.Rule.String(), Aside: in.Aside, Rate: in.Rate,
			Channel: in.Channel.String(), Session: in.Session, Sealed: in.SealKey != nil, SealKey: in.SealKey, Paused: in.Paused, Stop: r.Stopping(), Ordered: in.Created, AtLatest: in.AtLatest, Bytes: in.Bytes, Others: r.Unseen()}
		if out.Manifest.Digest, err = slabstore.ParseDigest(in.Digest); err != nil {
			return nil, err
		}
		for _, m := range members {
			out.Members = append(out.Members, api.OutpostMember{ID: m.ID, Name: m.Name})
		}
		if in.Bases != nil {
			out.Bases = &api.OutpostFile{Digest: in.BasesDigest, Size: int64(len(in.Bases.Bytes()))}
		}
		all = append(all, out)
	}
	return all, nil
}

// PartFile opens a file of the deliveries that an outpost carries through, by its digest: a list of bases or a payload.
func (o *Orders) PartFile(site string, d slabstore.Digest) (io.ReadSeekCloser, error) {
	all, err := o.PartsAt(site)
	if err != nil {
		return nil, err
	}
	for _, p := range all {
		r := o.Streams.Runner(p.ID)
		if p.Bases != nil && p.Bases.Digest == d && r != nil {
			return unclosed{bytes.NewReader(r.Bases().Bytes())}, nil
		}
		for _, one := range p.Payloads {
			if one.Digest == d.String() {
				return o.Stock.PayloadContent(one.Digest)
			}
		}
	}
	return nil, fault.NotFound.Errorf("there is no such file any more")
}

type unclosed struct{ io.ReadSeeker }

func (unclosed) Close() error { return nil }

// ToldOfParts takes how far an outpost is with its parts of deliveries.
func (o *Orders) ToldOfParts(site string, parts []api.OutpostPart) {
	now := o.Now()
	for _, p := range parts {
		r := o.Streams.Runner(p.Delivery)
		if r == nil || !slices.Contains(delivery.States, p.State) {
			continue
		}
		part := stream.Part{Where: site, State: p.State, RateNow: p.RateNow, Unheard: p.Unheard, Sent: p.Sent, Slabs: p.Slabs, Round: p.Round, WireBytes: p.WireBytes, RepairBytes: p.RepairBytes}
		part.Left, part.LeftKnown = leftOf(p.SecondsLeft)
		var told []stream.MemberStatus
		for _, m := range p.Members {
			if !slices.Contains(delivery.Phases, m.Phase) {
				continue
			}
			s := stream.MemberStatus{Member: stream.Member{ID: m.Workstation}, Speed: m.Speed, LossShare: m.LossShare,
				Status: delivery.Member{Phase: m.Phase, Aside: m.Aside, Began: m.Began}}
			if m.Report != nil {
				s.Status.Last = *m.Report
			}
			s.Left, s.LeftKnown = leftOf(m.SecondsLeft)
			told = append(told, s)
			if text := doing[m.Phase]; text != "" && r.Where(m.Workstation) == site {
				o.Fleet.Doing(m.Workstation, text+" "+r.Version().String())
			}
		}
		r.Told(now, part, told)
	}
}

// leftOf is the time that is left, within what a clock can count.
func leftOf(seconds *float64) (time.Duration, bool) {
	if seconds == nil || !(*seconds >= 0 && *seconds < 1e6) {
		return 0, false
	}
	return time.Duration(*seconds * float64(time.Second)), true
}

// HandIn takes what an outpost has kept for the service: receipts of workstations that it serves, held against their proofs,
// and what was done to deliveries. Each counts once, however often it comes.
func (o *Orders) HandIn(ctx context.Context, site string, in api.OutpostHandsIn) error {
	var items []records.HandedIn
	ends := map[int64]handedIn{} // by the number of the item
	for _, item := range in.Items {
		out := records.HandedIn{Number: item.Number, Delivery: item.Delivery}
		switch r := o.Streams.Runner(item.Delivery); {
		case r == nil: // over, and its receipts with it
		case item.Receipt != nil && r.Where(item.Receipt.Workstation) != site: // it is served elsewhere now, and gets another one
		case item.Receipt != nil:
			end, err := o.endOf(ctx, r, *item.Receipt)
			if err != nil {
				return err
			}
			d, err := o.Records.Delivery(ctx, item.Delivery)
			if err != nil {
				return err
			}
			rows, err := o.rowsOf(ctx, d, []stream.Receipt{end})
			if err != nil {
				return err
			}
			out.Receipt = &rows[0]
			ends[item.Number] = handedIn{d, end}
		case item.Note != nil:
			out.Change = &records.DeliveryChange{At: item.Note.At, By: "the outpost " + site, What: item.Note.What}
		}
		items = append(items, out)
	}
	taken, err := o.Records.HandIn(ctx, site, in.Box, items)
	if err != nil {
		return err
	}
	for _, item := range taken {
		switch {
		case item.Receipt != nil:
			h := ends[item.Number]
			if r := o.Streams.Runner(item.Delivery); r != nil {
				r.EndedElsewhere(h.end.End)
			}
			o.written(ctx, h.delivery, []stream.Receipt{h.end}, []records.Receipt{*item.Receipt})
			o.Log.Info("receipt", "delivery", item.Delivery, "workstation", h.end.Name, "image", h.delivery.Image, "outcome", h.end.End.Outcome, "reason", h.end.End.Reason, "outpost", site)
		case item.Change != nil:
			o.Publish(api.DeliveryMoved{Delivery: item.Delivery, Changes: []api.DeliveryChange{{At: item.Change.At, By: item.Change.By, What: item.Change.What}}})
		}
	}
	if len(ends) > 0 {
		o.ringSites()
	}
	return nil
}

type handedIn struct {
	delivery *records.Delivery
	end      stream.Receipt
}

// endOf is how a workstation has ended at an outpost, as far as that can be believed.
func (o *Orders) endOf(ctx context.Context, r *stream.Runner, in api.OutpostReceipt) (out stream.Receipt, err error) {
	is, _ := r.Member(in.Workstation)
	last, now := in.Last, o.Now()
	if in.Outcome == delivery.Delivered {
		last.Phase, last.Verified, last.Error = delivery.Ended, true, ""
		if last, err = o.believed(ctx, r, in.Workstation, last); err != nil {
			return out, err
		}
		if last.Error != "" {
			in.Outcome, in.Reason = delivery.Failed, last.Error
		}
	}
	if !slices.Contains([]delivery.Outcome{delivery.Delivered, delivery.Failed, delivery.WasStopped, delivery.Absent}, in.Outcome) {
		in.Outcome, in.Reason = delivery.Failed, "the outpost hands in a receipt that is none"
	}
	if r.Possible(last.Report) != nil {
		last.Report = delivery.Report{}
	}
	if in.Ended.After(now) || in.Ended.Before(r.Order().Created) { // its clock was wrong, and nobody was there to tell it
		in.Ended = now
	}
	if in.Began.After(in.Ended) {
		in.Began = time.Time{}
	}
	return stream.Receipt{Member: is.Member, Drivers: last.Drivers, Remark: last.Remark,
		End: delivery.Member{ID: in.Workstation, Phase: delivery.Ended, Outcome: in.Outcome, Reason: in.Reason, Aside: in.Aside, Apart: in.Apart, Last: last.Report, Began: in.Began, Ended: in.Ended}}, nil
}

// Forsaken ends the parts of an outpost that nothing will be heard of any more.
func (o *Orders) Forsaken(site string) {
	for _, r := range o.Streams.Runners() {
		r.Abandon(o.Now(), site, "the outpost "+site+" was withdrawn; what is on the disk now is not known")
	}
}
