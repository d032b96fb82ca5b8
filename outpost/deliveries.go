package outpost

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/netip"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"time"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/delivery"
	"jugate/core/fault"
	"jugate/core/image"
	"jugate/core/parts"
	"jugate/core/roster"
	"jugate/core/slabstore"
	"jugate/stream"
)

// deliveries are the parts of deliveries that the outpost carries through: it gathers the workstations of its site, streams to
// them and mends, whether the service answers or not. What they leave behind waits in the outbox until it is handed in.
type deliveries struct {
	o       *Outpost
	files   *parts.Store // manifests, slab maps, lists of bases, and payloads, by their digests
	streams *stream.Streams
	clock   clock

	following sync.Mutex // held while what the service says is carried out, also while the disk works; taken before mu

	mu       sync.Mutex
	work     map[int64]api.OutpostDelivery // what the service said last
	starting map[int64]bool                // their files are on their way
	last     map[member]api.Progress       // last reports of those who have ended, until their receipts are kept
	moved    map[int64]map[int64]struct{}  // workstations that something is new of, by delivery
}

type member struct{ delivery, workstation int64 }

// keptReached, keptThrough: how far a delivery was, and who has a receipt (by "delivery/workstation").
const (
	keptReached = "reached" // delivery.State
	keptThrough = "through"
)

func openDeliveries(o *Outpost) (*deliveries, error) {
	files, err := parts.Open(filepath.Join(o.config.Data, "files"))
	if err != nil {
		return nil, err
	}
	d := &deliveries{o: o, files: files, work: map[int64]api.OutpostDelivery{}, starting: map[int64]bool{}, last: map[member]api.Progress{}, moved: map[int64]map[int64]struct{}{}}
	d.clock.now = o.config.Now
	d.streams = &stream.Streams{Slabs: streamed{o.slabs}, Payloads: d, Ledger: ledger{d}, Ahead: linesAtOnce, Here: o.slabs.Has, Log: o.config.Log, Now: d.clock.Now}
	d.streams.Multicast.SetDefaults()
	return d, nil
}

// from is the address that streams come from.
func (d *deliveries) from(listens string) string {
	d.mu.Lock()
	defer d.mu.Unlock()
	at, _ := netip.ParseAddrPort(listens)
	source := d.streams.Multicast.Source()
	if at.IsValid() && !at.Addr().IsUnspecified() {
		return cmp.Or(source, at.Addr().String())
	}
	return source
}

// follow takes what the service says is to be delivered here.
func (d *deliveries) follow(ctx context.Context, work api.OutpostWork) {
	d.following.Lock()
	defer d.following.Unlock()
	d.clock.saw(work.Now)
	d.useMulticast(work.Multicast)
	said := map[int64]bool{}
	for _, in := range work.Deliveries {
		said[in.ID] = true
		before, known := d.said(in.ID)
		d.mu.Lock()
		d.work[in.ID] = in
		d.mu.Unlock()
		if run := d.streams.Runner(in.ID); run != nil && known {
			d.change(ctx, run, before, in)
		} else {
			d.begin(in.ID)
		}
	}
	for id := range d.allSaid() {
		if said[id] {
			continue
		}
		d.mu.Lock()
		delete(d.work, id)
		delete(d.moved, id)
		d.mu.Unlock()
		if run := d.streams.Runner(id); run != nil {
			run.Release(nil)
		}
		d.forget(ctx, id)
	}
}

// useMulticast has streams go out as those of the service do, unless some are on their way.
func (d *deliveries) useMulticast(m api.OutpostMulticast) {
	if m.Port == 0 || len(d.streams.Runners()) > 0 {
		return
	}
	d.mu.Lock()
	d.streams.Multicast = stream.Multicast{Interface: d.o.config.Interface, Groups: m.Groups, Port: m.Port, TTL: m.TTL, Ceiling: m.Ceiling}
	d.streams.Multicast.SetDefaults()
	d.mu.Unlock()
	nudge(d.o.teller.holds)
}

// change has a part go on as the service says now. The caller holds following.
func (d *deliveries) change(ctx context.Context, run *stream.Runner, before, in api.OutpostDelivery) {
	now := d.clock.Now()
	if in.Rate != before.Rate {
		run.SetRate(now, bySelf, "", in.Rate)
	}
	if in.Paused != before.Paused {
		run.Pause(now, bySelf, "", in.Paused)
	}
	if in.Others != before.Others {
		run.SetOthers(in.Others)
	}
	members, err := d.membersOf(ctx, in)
	if err != nil {
		d.o.config.Log.Error("who has a receipt cannot be read", "delivery", in.ID, "error", err)
		return
	}
	var more []stream.Member
	for _, m := range members {
		if !run.Has(m.ID) {
			more = append(more, m)
		}
	}
	if len(more) > 0 {
		run.Extend(now, bySelf, "", more)
	}
	run.Release(members)
	if in.Stop != "" {
		run.Stop(now, in.Stop)
	}
}

const bySelf = "the outpost"

// membersOf are the workstations of a part that have no receipt yet.
func (d *deliveries) membersOf(ctx context.Context, in api.OutpostDelivery) (all []stream.Member, err error) {
	keys, err := d.o.records.Keys(ctx, keptThrough, fmt.Sprintf("%d/", in.ID))
	if err != nil {
		return nil, err
	}
	through := map[string]bool{}
	for _, k := range keys {
		through[k] = true
	}
	for _, m := range in.Members {
		if of := (member{in.ID, m.ID}); !through[of.String()] && (!d.o.carried.is(in.ID) || d.o.carried.isHere(of)) {
			all = append(all, stream.Member{ID: m.ID, Name: m.Name})
		}
	}
	return all, nil
}

func (m member) String() string { return fmt.Sprintf("%d/%d", m.delivery, m.workstation) }

// begin fetches the files of a part, and starts it. It tries again for as long as the service says so.
func (d *deliveries) begin(id int64) {
	d.mu.Lock()
	starting := d.starting[id]
	d.starting[id] = true
	d.mu.Unlock()
	if starting {
		return
	}
	d.o.work.Go(func() {
		for pause := tellAgain; ; pause = min(2*pause, tellEvery) {
			err := fault.Guard(func() error { return d.start(d.o.until, id) })
			if err == nil || d.o.until.Err() != nil {
				return
			}
			d.o.config.Log.Warn("a delivery cannot begin yet", "delivery", id, "error", err)
			select {
			case <-time.After(pause):
			case <-d.o.until.Done():
				return
			}
		}
	})
}

// runner is the one that serves a workstation in a delivery; is tells whether the service has the outpost do so. It may be nil
// all the same: its files are on their way then.
func (d *deliveries) runner(of member) (run *stream.Runner, is bool) {
	in, is := d.said(of.delivery)
	at := slices.IndexFunc(in.Members, func(m api.OutpostMember) bool { return m.ID == of.workstation })
	if !is || at < 0 {
		return nil, false
	}
	d.o.carried.arrives(of)
	run = d.streams.Runner(of.delivery)
	if run != nil && !run.Has(of.workstation) && d.o.carried.is(of.delivery) && !d.through(d.o.until, of) {
		run.Extend(d.clock.Now(), bySelf, "", []stream.Member{{ID: of.workstation, Name: in.Members[at].Name}})
		run.SetOthers(d.others(in))
		d.unicast(run, of.workstation)
	}
	if run == nil || !run.Has(of.workstation) {
		d.begin(of.delivery)
		return nil, true
	}
	return run, true
}

// others are how many workstations of a delivery that is carried may still turn up.
func (d *deliveries) others(in api.OutpostDelivery) (n int) {
	for _, m := range in.Members {
		if of := (member{in.ID, m.ID}); !d.o.carried.isHere(of) && !d.through(d.o.until, of) {
			n++
		}
	}
	return n
}

// unicast keeps a workstation out of the stream if it was started from the media itself: it has no network then.
func (d *deliveries) unicast(run *stream.Runner, workstation int64) {
	if d.o.carried.Alone {
		run.SetApart(d.clock.Now(), workstation, aloneWords)
	}
}

// start starts a part, unless it was taken away. What makes it impossible ends it, with receipts that say why.
func (d *deliveries) start(ctx context.Context, id int64) (failed error) {
	defer func() {
		if failed == nil {
			d.mu.Lock()
			defer d.mu.Unlock()
			delete(d.starting, id)
		}
	}()
	in, is := d.said(id)
	if !is {
		return nil
	}
	if left, err := d.membersOf(ctx, in); len(left) == 0 {
		return err
	}
	order, err := d.order(ctx, in)
	lasting := errors.Is(err, image.ErrManifest) || fault.KindOf(err) == fault.Invalid
	if err != nil && !lasting {
		return err
	}
	d.following.Lock()
	defer d.following.Unlock()
	if in, is = d.said(id); !is || d.streams.Runner(id) != nil { // it was taken away, or changed, meanwhile
		return nil
	}
	order.Rate, order.Paused, order.Others = in.Rate, in.Paused, in.Others
	members, problem := d.membersOf(ctx, in)
	if problem != nil {
		return problem
	}
	if d.o.carried.is(id) {
		order.Others = d.others(in)
		order.Created = d.clock.Now()
		order.AtLatest = order.Created.Add(waits(in))
	}
	if len(members) == 0 {
		return nil
	}
	if err == nil {
		err = d.streams.Start(d.o.until, order, members)
	}
	if err != nil {
		d.o.config.Log.Error("a delivery is not possible here", "delivery", id, "error", err)
		d.streams.End(d.o.until, order, members, "the outpost "+d.o.Name()+" cannot deliver it: "+err.Error())
		return nil
	}
	for _, m := range members {
		d.unicast(d.streams.Runner(id), m.ID)
	}
	if in.Stop != "" {
		d.streams.Runner(id).Stop(d.clock.Now(), in.Stop)
	}
	d.o.config.Log.Info("delivery", "delivery", id, "image", order.Version, "workstations", len(members), "state", order.State)
	return nil
}

// order is a part as it is run, with its files here. Errors of what came wrap image.ErrManifest, or are a fault.Invalid.
func (d *deliveries) order(ctx context.Context, in api.OutpostDelivery) (out stream.Order, err error) {
	out = stream.Order{ID: in.ID, Version: roster.Ref{Image: in.Image, Version: in.Version}, Aside: in.Aside, Rate: in.Rate, Session: in.Session, State: delivery.Gathering, Created: in.Ordered,
		AtLatest: in.AtLatest, Bytes: in.Bytes, Payloads: in.Payloads}
	if in.Sealed && len(in.SealKey) == 0 {
		return out, fmt.Errorf("%w, which has the key that the delivery is sealed by", apiclient.ErrAway)
	}
	out.SealKey = in.SealKey
	if out.Rule, err = delivery.ParseRule(in.Rule); err != nil {
		return out, err
	}
	if out.Channel, err = netip.ParseAddrPort(in.Channel); err != nil {
		return out, fault.Invalid.Mark(err)
	}
	for _, p := range in.Payloads {
		digest, err := slabstore.ParseDigest(p.Digest)
		if err != nil {
			return out, fault.Invalid.Mark(err)
		}
		if err := d.o.hold.part(ctx, d.files, parts.Part{Digest: digest, Size: p.Size}); err != nil {
			return out, err
		}
	}
	man, slabs, err := d.load(ctx, in.OutpostVersion)
	if err != nil {
		return out, err
	}
	out.Slabs = slabs
	if in.Bases != nil {
		raw, err := d.content(ctx, *in.Bases, image.MaxMap)
		if err != nil {
			return out, err
		}
		if out.Bases, err = image.ParseBases(raw, man); err != nil {
			return out, err
		}
	}
	if _, err := d.o.records.Kept(ctx, keptReached, strconv.FormatInt(in.ID, 10), &out.State); err != nil && fault.KindOf(err) != fault.NotFound {
		return out, err
	}
	if out.State.Over() { // another workstation is to get it
		out.State = delivery.Mending
	}
	return out, nil
}

// load has the files of a version be here, and reads them.
func (d *deliveries) load(ctx context.Context, v api.OutpostVersion) (*image.Manifest, *image.Map, error) {
	text, err := d.content(ctx, v.Manifest, image.MaxManifest)
	if err != nil {
		return nil, nil, err
	}
	man, err := image.ParseManifest(text)
	if err != nil {
		return nil, nil, err
	}
	raw, err := d.content(ctx, v.Map, image.MaxMap)
	if err != nil {
		return nil, nil, err
	}
	slabs, err := image.ParseMap(raw, man)
	if err != nil || v.Before == nil {
		return man, slabs, err
	}
	if raw, err = d.content(ctx, *v.Before, image.MaxMap); err != nil {
		return nil, nil, err
	}
	before, err := image.ParseBases(raw, man)
	if err != nil {
		return nil, nil, err
	}
	d.o.slabs.lean(slabs, before)
	return man, slabs, nil
}

// content is a file that is here, or comes.
func (d *deliveries) content(ctx context.Context, f api.OutpostFile, atMost int64) ([]byte, error) {
	if f.Size < 0 || f.Size > atMost {
		return nil, fault.Invalid.Errorf("a file of %d bytes", f.Size)
	}
	if err := d.o.hold.part(ctx, d.files, parts.Part(f)); err != nil {
		return nil, err
	}
	c, err := d.files.Open(parts.Part(f))
	if err != nil {
		return nil, err
	}
	defer c.Close()
	b := make([]byte, f.Size)
	_, err = c.ReadAt(b, 0)
	if err == io.EOF {
		err = nil
	}
	if err == nil && slabstore.Sum(b) != f.Digest {
		return nil, errors.Join(fmt.Errorf("the file %s is damaged", f.Digest.Short()), d.files.Remove(parts.Part(f))) // it comes anew
	}
	return b, err
}

// ReadPayload is stream.Payloads'.
func (d *deliveries) ReadPayload(digest string, b []byte, from int64) error {
	of, err := slabstore.ParseDigest(digest)
	if err != nil {
		return err
	}
	p, err := d.files.Find(of)
	if err != nil {
		return err
	}
	c, err := d.files.Open(p)
	if err != nil {
		return err
	}
	defer c.Close()
	_, err = c.ReadAt(b, from)
	if err == io.EOF {
		err = nil
	}
	return err
}

// through tells whether a workstation has a receipt of a delivery.
func (d *deliveries) through(ctx context.Context, m member) bool {
	_, is := d.outcome(ctx, m)
	return is
}

// received tells whether the receipt says that it was delivered.
func (d *deliveries) received(ctx context.Context, m member) bool {
	outcome, _ := d.outcome(ctx, m)
	return outcome == string(delivery.Delivered)
}

// outcome is what the receipt of a workstation says, if it has one.
func (d *deliveries) outcome(ctx context.Context, m member) (outcome any, is bool) {
	_, err := d.o.records.Kept(ctx, keptThrough, m.String(), &outcome)
	return outcome, err == nil
}

// toDo tells whether a workstation of a delivery that is carried is still to get it.
func (d *deliveries) toDo(ctx context.Context, m member) bool {
	_, is := d.said(m.delivery)
	return is && !d.through(ctx, m)
}

// said is what the service said last of a delivery.
func (d *deliveries) said(id int64) (api.OutpostDelivery, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	in, is := d.work[id]
	return in, is
}

// allSaid are the deliveries that the service said last.
func (d *deliveries) allSaid() map[int64]api.OutpostDelivery {
	d.mu.Lock()
	defer d.mu.Unlock()
	return maps.Clone(d.work)
}

// forget removes what was kept of a delivery that the service knows to be through here. The caller holds following.
func (d *deliveries) forget(ctx context.Context, id int64) {
	prefix := fmt.Sprintf("%d/", id)
	err := d.o.records.Forget(ctx, keptReached, strconv.FormatInt(id, 10))
	kinds := []string{keptServes, keptThrough}
	if d.o.carried.is(id) { // the errands stay on the media, and nobody is to do one again
		kinds = kinds[:1]
	}
	for _, kind := range kinds {
		keys, problem := d.o.records.Keys(ctx, kind, prefix)
		err = errors.Join(err, problem)
		for _, k := range keys {
			err = errors.Join(err, d.o.records.Forget(ctx, kind, k))
		}
	}
	d.o.relay.forget(id)
	needed := map[slabstore.Digest]bool{}
	need := func(v api.OutpostVersion) {
		needed[v.Manifest.Digest], needed[v.Map.Digest] = true, true
		if v.Before != nil {
			needed[v.Before.Digest] = true
		}
	}
	versions, _ := d.o.placed.said()
	for _, v := range versions {
		need(v)
	}
	for _, in := range d.allSaid() {
		need(in.OutpostVersion)
		if in.Bases != nil {
			needed[in.Bases.Digest] = true
		}
		for _, p := range in.Payloads {
			if digest, problem := slabstore.ParseDigest(p.Digest); problem == nil {
				needed[digest] = true
			}
		}
	}
	for _, f := range d.o.carried.Files {
		needed[f.File.Digest] = true
	}
	all, problem := d.files.All()
	err = errors.Join(err, problem)
	for _, p := range all {
		if !needed[p.Digest] {
			err = errors.Join(err, d.files.Remove(p))
		}
	}
	if err != nil {
		d.o.config.Log.Warn("what a delivery has left cannot be removed", "delivery", id, "error", err)
	}
}

// streamed are the slabs as streams want them: each comes over the line if it is not here, also when that has to be mended first.
// What is here only to tell others by is not fetched for that.
type streamed struct{ *slabs }

// patience is how long a stream waits for a slab while the service does not answer; after that those who lack it ask for it.
const patience = 2 * time.Minute

// Frame is stream.Store's.
func (s streamed) Frame(d slabstore.Digest) ([]byte, error) {
	s.waited.Add(1)
	defer s.waited.Add(-1)
	until := s.o.config.Now().Add(patience)
	for pause := tellAgain; ; pause = min(2*pause, tellEvery) {
		frame, err := s.Slab(d, false)
		if err == nil || !apiclient.IsPassing(err) || s.o.config.Now().After(until) {
			return frame, err
		}
		select {
		case <-time.After(pause):
		case <-s.o.until.Done():
			return nil, err
		}
	}
}
