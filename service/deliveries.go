package service

import (
	"bytes"
	"cmp"
	"context"
	crand "crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"jugate/api"
	"jugate/core/delivery"
	"jugate/core/disk"
	"jugate/core/fault"
	"jugate/core/image"
	"jugate/core/parcel"
	"jugate/core/partition"
	"jugate/core/roster"
	"jugate/core/slabstore"
	"jugate/records"
)

// run starts a runner and keeps it reachable until it ends. A fault of the program ends
// the delivery, with receipts that say so, and nothing else.
func (s *Service) run(r *runner) {
	s.mu.Lock()
	s.runners[r.rec.ID] = r
	s.mu.Unlock()
	s.work.Go(func() {
		if err := fault.Guard(func() error { r.run(s.ctx); return nil }); err != nil {
			s.log.Error("a delivery has ended by a fault of the program", "delivery", r.rec.ID, "error", err)
			last := r.remains(s.config.Now(), "a fault of the program ended it; the service's log says more")
			s.mu.Lock()
			s.runners[r.rec.ID] = last
			s.mu.Unlock()
			if err := fault.Guard(func() error { last.run(s.ctx); return nil }); err != nil {
				s.log.Error("its receipts could not be written", "delivery", r.rec.ID, "error", err)
			}
		}
		s.mu.Lock()
		delete(s.runners, r.rec.ID)
		s.mu.Unlock()
	})
}

func (s *Service) runner(id int64) *runner {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.runners[id]
}

// resumeDeliveries takes up what was open when the service ended last. One that was
// under way waits a little for its workstations, and then goes on with what they
// still lack.
func (s *Service) resumeDeliveries(ctx context.Context) error {
	open, _, err := s.records.Deliveries(ctx, true, records.Page{})
	if err != nil {
		return err
	}
	for _, rec := range open {
		members, _, err := s.records.DeliveryMembers(ctx, rec.ID)
		if err != nil {
			return err
		}
		done, _, err := s.records.Receipts(ctx, records.ReceiptFilter{DeliveryID: rec.ID}, records.Page{})
		if err != nil {
			return err
		}
		members = slices.DeleteFunc(members, func(w records.Workstation) bool {
			return slices.ContainsFunc(done, func(r records.Receipt) bool { return r.WorkstationID == w.ID })
		})
		r, err := newRunner(s, rec, members)
		if err != nil {
			// The version's files are gone or damaged: nobody can get it any more.
			s.log.Error("a delivery cannot go on", "delivery", rec.ID, "image", rec.Image, "error", err)
			r = newStoppedRunner(s, rec, members, fmt.Sprintf("the service was restarted and cannot go on: %v", err))
		} else if rec.State != delivery.Gathering {
			r.note(s.config.Now(), bySelf, "goes on after a restart of the service")
		}
		s.run(r)
	}
	return nil
}

func (s *Service) delivery(d records.Delivery) api.Delivery {
	out := api.Delivery{
		ID: d.ID, Image: d.Image, Version: d.Version, Digest: d.Digest, Targets: d.Targets(), Start: d.Rule, Rate: d.Rate, Channel: d.GroupAddr,
		State: string(d.State), Reason: d.Reason, OrderedBy: d.OrderedBy, Created: d.Created, UsedBytes: d.UsedBytes, WireBytes: d.WireBytes,
		WaitAtMost: d.WaitAtMost, WhenDone: d.WhenDone, Reuse: d.Reuse, Sealed: d.Sealed,
	}
	out.Started = timeOf(d.Started)
	out.Ended = timeOf(d.Ended)
	if r := s.runner(d.ID); r != nil {
		out.WireBytes, out.Warning = r.wireBytes(), r.warning(s.config.Now())
		r.mu.Lock()
		defer r.mu.Unlock()
		out.SentSlabs, out.Slabs, out.Round = r.sent, r.slabs, r.round
		out.Rate, out.Paused, out.Unicast, out.RepairBytes = r.rate, r.paused, r.d.Unheard(), r.repairBytes
		if now := r.d.State(); !now.Over() { // it is over when every receipt is written
			out.State = string(now)
		}
		if r.streaming && !r.paused {
			out.RateNow = r.rateNow.Load()
		}
		out.SecondsLeft = secondsLeft(r.d.TimeLeft())
	}
	return out
}

// secondsLeft is nil while nothing can be said.
func secondsLeft(d time.Duration, known bool) *float64 {
	if !known {
		return nil
	}
	s := d.Seconds()
	return &s
}

// wholeDelivery is a delivery with its workstations: live as long as it runs,
// from the receipts afterwards.
func (s *Service) wholeDelivery(ctx context.Context, id int64) (api.Delivery, error) {
	rec, err := s.records.Delivery(ctx, id)
	if err != nil {
		return api.Delivery{}, err
	}
	members, _, err := s.records.DeliveryMembers(ctx, id)
	if err != nil {
		return api.Delivery{}, err
	}
	receipts, _, err := s.records.Receipts(ctx, records.ReceiptFilter{DeliveryID: id}, records.Page{})
	if err != nil {
		return api.Delivery{}, err
	}
	live := map[int64]api.Member{}
	if r := s.runner(id); r != nil {
		live = r.live(s.config.Now())
	}
	out := s.delivery(*rec)
	changes, err := s.records.DeliveryChanges(ctx, id)
	if err != nil {
		return api.Delivery{}, err
	}
	for _, c := range changes {
		out.Changes = append(out.Changes, api.DeliveryChange{At: c.At, By: c.By, What: c.What})
	}
	for _, w := range members {
		m, ok := live[w.ID]
		if !ok {
			m.Phase = string(delivery.Awaited)
		}
		m.Workstation, m.Address = w.Name, w.Address().String()
		if i := slices.IndexFunc(receipts, func(r records.Receipt) bool { return r.WorkstationID == w.ID }); i >= 0 {
			r := receipts[i]
			m.Phase, m.Outcome, m.Reason, m.Multicast, m.Unicast = string(delivery.Ended), string(r.Outcome), r.Reason, r.BytesMulticast, r.BytesUnicast
		}
		out.Members = append(out.Members, m)
	}
	return out, nil
}

// live is what is known of each workstation now.
func (r *runner) live(now time.Time) map[int64]api.Member {
	r.mu.Lock()
	defer r.mu.Unlock()
	all := map[int64]api.Member{}
	for _, m := range r.d.Members() {
		out := api.Member{
			Phase: string(m.Phase), Outcome: string(m.Outcome), Reason: m.Reason, Aside: m.Aside,
			Done: m.Last.Done, Total: m.Last.Total, Multicast: m.Last.Multicast, Unicast: m.Last.Unicast,
		}
		if m.Phase != delivery.Ended && m.Phase != delivery.Awaited {
			out.Speed, out.LossShare, out.DiskSpeed, out.Silent = m.Speed(), m.LossShare(), m.Last.DiskSpeed, now.Sub(m.Seen).Seconds()
			out.SecondsLeft = secondsLeft(r.d.MemberLeft(m.ID))
		}
		if m.Last.Multicast > 0 {
			out.RepairShare = float64(m.Last.Repaired) / float64(m.Last.Multicast)
		}
		all[m.ID] = out
	}
	return all
}

func (s *Service) tellDelivery(ctx context.Context, id int64) {
	if d, err := s.wholeDelivery(ctx, id); err == nil {
		s.events.publish(d)
	}
}

func (s *Service) tellReceipt(ctx context.Context, id int64, workstation string) {
	rows, _, err := s.records.Receipts(ctx, records.ReceiptFilter{DeliveryID: id, Workstation: workstation}, records.Page{Limit: 1})
	if err == nil && len(rows) == 1 {
		s.events.publish(receipt(rows[0]))
	}
}

func (s *Service) deliveryRoutes(h huma.API) {
	tags := []string{"deliveries"}
	huma.Register(h, huma.Operation{
		OperationID: "deliver", Method: http.MethodPost, Path: "/deliveries", Tags: tags, Summary: "Order an image version for groups and workstations",
	}, func(ctx context.Context, in *struct{ Body api.NewDelivery }) (*reply[api.Delivery], error) {
		d, err := s.order(ctx, in.Body)
		return answer(d, err)
	})

	huma.Register(h, huma.Operation{
		OperationID: "list-deliveries", Method: http.MethodGet, Path: "/deliveries", Tags: tags, Summary: "List deliveries, the newest first; sort by created, state or image",
	}, func(ctx context.Context, in *struct {
		Paging
		Open bool `query:"open" doc:"Only those that are not over"`
	}) (*reply[api.Page[api.Delivery]], error) {
		rows, total, err := s.records.Deliveries(ctx, in.Open, in.page())
		return items(rows, total, err, s.delivery)
	})

	type deliveryID struct {
		ID int64 `path:"id"`
	}
	huma.Register(h, huma.Operation{
		OperationID: "get-delivery", Method: http.MethodGet, Path: "/deliveries/{id}", Tags: tags, Summary: "Show a delivery with its workstations",
	}, func(ctx context.Context, in *deliveryID) (*reply[api.Delivery], error) {
		return answer(s.wholeDelivery(ctx, in.ID))
	})

	huma.Register(h, huma.Operation{
		OperationID: "stop-delivery", Method: http.MethodPost, Path: "/deliveries/{id}/stop", Tags: tags, Summary: "Stop a delivery for everyone who is not through",
	}, func(ctx context.Context, in *deliveryID) (*reply[api.Delivery], error) {
		rec, err := s.records.Delivery(ctx, in.ID)
		if err != nil {
			return nil, problem(err)
		}
		r := s.runner(in.ID)
		if r == nil {
			return nil, fault.Conflict.Errorf("delivery %d is %s already", in.ID, rec.State)
		}
		r.stop(s.config.Now(), "stopped by the "+administrator)
		return answer(s.wholeDelivery(ctx, in.ID))
	})
}

// order is orderBy of the administrator.
func (s *Service) order(ctx context.Context, in api.NewDelivery) (api.Delivery, error) {
	return s.orderBy(ctx, administrator, in)
}

// orderBy checks an order, records it and starts its runner.
func (s *Service) orderBy(ctx context.Context, by string, in api.NewDelivery) (api.Delivery, error) {
	ref, err := roster.ParseRef(in.Image)
	if err != nil {
		return api.Delivery{}, fault.Invalid.Mark(err)
	}
	rule, err := delivery.ParseRule(in.Start)
	if err != nil {
		return api.Delivery{}, fault.Invalid.Mark(err)
	}
	v, err := s.records.Version(ctx, ref)
	if err != nil {
		return api.Delivery{}, err
	}
	if v.Retired.Valid {
		return api.Delivery{}, fault.Conflict.Errorf("%s is retired; take it back into use first", v.Ref())
	}
	man, _, err := s.load(v)
	if err != nil {
		return api.Delivery{}, fmt.Errorf("%s cannot be delivered: %w", v.Ref(), err)
	}
	options, err := restoreOptions(man, in.RestoreOptions)
	if err != nil {
		return api.Delivery{}, fault.Invalid.Mark(err)
	}
	targets, err := s.records.Targets(ctx, in.To)
	if err != nil {
		return api.Delivery{}, err
	}
	if err := s.mayReceive(ctx, v.Image, targets); err != nil {
		return api.Delivery{}, err
	}
	if err := s.checkDrivers(ctx, v, in.DriverOrder, targets); err != nil {
		return api.Delivery{}, err
	}
	drivers, err := json.Marshal(in.DriverOrder)
	if err != nil {
		return api.Delivery{}, err
	}
	wait := in.WaitAtMost
	if wait == 0 {
		wait = int64(waitByDefault / time.Second)
	}
	if rule.Ready() > len(targets) {
		return api.Delivery{}, fault.Invalid.Errorf("the stream is to start when %d workstations are ready, but the order names only %d", rule.Ready(), len(targets))
	}
	rec := records.Delivery{
		Image: v.Image, Version: v.Number, Digest: v.Digest, Rule: rule.String(), Rate: in.Rate, State: delivery.Gathering,
		Session: rand.Uint32(), OrderedBy: by, Created: s.config.Now(), UsedBytes: v.UsedBytes, Options: options,
		WaitAtMost: wait, NotBefore: errandsFrom(rule), WhenDone: cmp.Or(in.WhenDone, "stay"), Reuse: in.Reuse, Sealed: in.Sealed, Drivers: string(drivers),
	}
	aside, err := json.Marshal(in.Aside)
	if err != nil {
		return api.Delivery{}, err
	}
	rec.Aside = string(aside)
	if in.Sealed {
		rec.SealKey = make([]byte, parcel.KeySize)
		crand.Read(rec.SealKey)
	}
	if rec.Rate == 0 {
		rec.Rate = s.config.Multicast.Rate
	}
	ids := make([]int64, len(targets))
	for i, w := range targets {
		ids[i] = w.ID
	}
	id, err := s.begin(ctx, rec, in.To, targets, ids)
	if err != nil {
		return api.Delivery{}, err
	}
	s.log.Info("delivery ordered", "delivery", id, "image", v.Ref(), "to", in.To, "workstations", len(targets), "start", rec.Rule)
	for _, w := range ids {
		s.agents.wake(w)
	}
	return s.wholeDelivery(ctx, id)
}

// begin records a delivery and starts its runner.
func (s *Service) begin(ctx context.Context, rec records.Delivery, names []string, targets []records.Workstation, ids []int64) (int64, error) {
	s.ordering.Lock()
	defer s.ordering.Unlock()
	rec.GroupAddr = s.freeChannel().String() // before another order can choose the same
	id, err := s.records.AddDelivery(ctx, rec, names, ids)
	if err != nil {
		return 0, err
	}
	stored, err := s.records.Delivery(ctx, id)
	if err != nil {
		return 0, err
	}
	r, err := newRunner(s, *stored, targets)
	if err != nil {
		return 0, err
	}
	s.run(r)
	return id, nil
}

const (
	// waitByDefault is how long a delivery waits for its gather rule, from the order or
	// the rule's earliest time; then it starts with whoever is ready.
	waitByDefault = time.Hour
	// giveUpAfter is how much longer it waits if nobody is ready at all.
	giveUpAfter = 24 * time.Hour
	// errandsAhead is how long before the earliest time of its gather rule the
	// workstations of a delivery get their errands: time to look at their disks. Until
	// then they do others.
	errandsAhead = 15 * time.Minute
)

// errandsFrom is when workstations get the errands of a delivery; zero for at once.
func errandsFrom(rule delivery.Rule) time.Time {
	if at := rule.Earliest(); !at.IsZero() {
		return at.Add(-errandsAhead)
	}
	return time.Time{}
}

// restoreOptions checks what an order says of disks, and writes it down.
func restoreOptions(man *image.Manifest, o api.RestoreOptions) (string, error) {
	if _, err := disk.ParseRule(o.Disk); err != nil {
		return "", err
	}
	grow, err := partition.ParseGrow(cmp.Or(o.Grow, "system"))
	if err != nil {
		return "", err
	}
	if grow > 0 { // whether that partition is there can be told now
		if _, err := man.Table.Onto(man.Table.DiskSize(), man.Table.SectorSize, partition.Fit{Grow: grow}); err != nil {
			return "", err
		}
	}
	text, err := json.Marshal(o)
	return string(text), err
}

// freeChannel is an address that no running delivery uses, if there is one.
func (s *Service) freeChannel() netip.AddrPort {
	s.mu.Lock()
	defer s.mu.Unlock()
	n := int64(0)
	for ; n < 1<<16; n++ {
		taken := false
		for _, r := range s.runners {
			taken = taken || r.rec.GroupAddr == s.config.Multicast.channel(n).String()
		}
		if !taken {
			break
		}
	}
	return s.config.Multicast.channel(n)
}

// progress takes a workstation's report on its delivery.
func (s *Service) progress(ctx context.Context, in *struct {
	ID   int64 `path:"id"`
	Body api.Progress
}) (*reply[api.Course], error) {
	rec, err := s.records.Delivery(ctx, in.ID)
	if err != nil {
		return nil, problem(err)
	}
	b := in.Body
	r := s.runner(in.ID)
	if r == nil {
		return answer(api.Course{State: string(rec.State), Over: true}, nil)
	}
	id, now := caller(ctx), s.config.Now()
	if !r.isMember(id) {
		return nil, fault.Forbidden.Mark(delivery.ErrNotMember)
	}
	if b.Verified && b.Phase == string(delivery.Ended) && b.Error == "" && !r.proven(id, b.Proof) {
		s.log.Warn("a workstation cannot prove that its disk is right", "delivery", in.ID, "workstation", id, "has_proof", len(b.Proof) > 0)
		b.Verified, b.Error = false, "the agent could not prove that it has read the whole disk back; if its build is older than this service: jugate bootenv build --offer"
	}
	if len(b.Drivers) > 0 {
		r.putIn(id, b.Drivers)
	}
	if b.Remark != "" {
		r.remark(now, id, b.Remark)
	}
	course, err := r.report(now, id, delivery.Report{
		Phase: delivery.Phase(b.Phase), Done: b.Done, Total: b.Total, Multicast: b.Multicast, Unicast: b.Unicast, Verified: b.Verified, Error: b.Error,
		Repaired: b.Repaired, Packets: b.Packets, Lost: b.Lost, Backlog: b.Backlog, BacklogLimit: b.BacklogLimit, DiskSpeed: b.DiskSpeed,
	})
	switch {
	case errors.Is(err, delivery.ErrNotMember):
		return nil, fault.Forbidden.Mark(err)
	case errors.Is(err, delivery.ErrReport):
		s.log.Warn("a report is not believed", "delivery", in.ID, "workstation", id, "error", err)
		return nil, fault.Invalid.Mark(err)
	}
	return answer(course, nil)
}

// lacking takes which slabs a workstation lacks.
func (s *Service) lacking(ctx context.Context, in *struct {
	ID   int64 `path:"id"`
	Body api.Lacking
}) (*struct{}, error) {
	r := s.runner(in.ID)
	if r == nil {
		return nil, fault.Conflict.Errorf("delivery %d is not running", in.ID)
	}
	if !r.isMember(caller(ctx)) { // before anything is looked at
		return nil, fault.Forbidden.Mark(delivery.ErrNotMember)
	}
	ranges := make([]delivery.Range, len(in.Body.Slabs))
	for i, x := range in.Body.Slabs {
		ranges[i] = x
	}
	set, err := delivery.ParseRanges(ranges, r.slabMap.Len())
	if err != nil {
		return nil, fault.Invalid.Mark(err)
	}
	switch err := r.lacking(s.config.Now(), caller(ctx), in.Body.Round, set); {
	case errors.Is(err, delivery.ErrNotMember):
		return nil, fault.Forbidden.Mark(err)
	case err != nil:
		return nil, fault.Conflict.Mark(err)
	}
	return nil, nil
}

// openDelivery finds the running delivery of a plain request and checks that the
// caller takes part in it.
func (s *Service) openDelivery(r *http.Request) (*runner, error) {
	id, err := strconv.ParseInt(chi.URLParam(r, "id"), 10, 64)
	if err != nil {
		return nil, fault.NotFound.Errorf("there is no such delivery")
	}
	run := s.runner(id)
	if run == nil {
		return nil, fault.Conflict.Errorf("delivery %d is not running", id)
	}
	if !run.isMember(caller(r.Context())) {
		return nil, fault.Forbidden.Mark(delivery.ErrNotMember)
	}
	return run, nil
}

func (r *runner) isMember(id int64) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	_, member := r.members[id]
	return member
}

func (s *Service) getManifest(w http.ResponseWriter, r *http.Request) { s.serveVersionFile(w, r, true) }

func (s *Service) getMap(w http.ResponseWriter, r *http.Request) { s.serveVersionFile(w, r, false) }

func (s *Service) serveVersionFile(w http.ResponseWriter, r *http.Request, wantManifest bool) {
	run, err := s.openDelivery(r)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	manifest, slabs := s.files.Paths(roster.Ref{Image: run.rec.Image, Version: run.rec.Version})
	if wantManifest {
		http.ServeFile(w, r, manifest)
		return
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	http.ServeFile(w, r, slabs)
}

// getSlab mends: it serves a slab, or of an open delivery ranges of its frame, to
// one workstation. A sealed delivery's slabs come as sealed parcels.
func (s *Service) getSlab(w http.ResponseWriter, r *http.Request) {
	run, err := s.openDelivery(r)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	d, err := slabInPath(r)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	if !run.slabMap.Has(d) {
		s.fail(w, r, fault.Forbidden.Errorf("this slab is not part of the delivery"))
		return
	}
	frame, err := s.frameFor(r, d)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	if err := run.unicasts.WaitN(r.Context(), min(len(frame), unicastBurst)); err != nil {
		return // the caller has gone
	}
	counted := &countingWriter{ResponseWriter: w}
	if run.seal != nil {
		var nonce [parcel.NonceSize]byte
		crand.Read(nonce[:])
		counted.Header().Set("Content-Type", "application/octet-stream")
		counted.Write(run.seal.Pack(0, frame, nonce))
	} else {
		counted.Header().Set("Content-Type", "application/zstd")
		http.ServeContent(counted, r, "", time.Time{}, bytes.NewReader(frame))
	}
	run.mended(caller(r.Context()), counted.n)
}

// frameFor reads a slab; for whom the last one was damaged, it is checked first, and
// one that is damaged is set aside.
func (s *Service) frameFor(r *http.Request, d slabstore.Digest) ([]byte, error) {
	if r.URL.Query().Has("doubt") {
		if _, err := s.slabs.Check(d); err != nil {
			s.log.Error("a slab is damaged", "slab", d, "error", err)
			return nil, err
		}
	}
	return s.slabs.Frame(d)
}

// countingWriter counts the bytes of a reply's body.
type countingWriter struct {
	http.ResponseWriter
	n int64
}

func (c *countingWriter) Write(b []byte) (int, error) {
	n, err := c.ResponseWriter.Write(b)
	c.n += int64(n)
	return n, err
}
