package agent

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/delivery"
	"jugate/core/image"
	"jugate/core/parcel"
	"jugate/core/partition"
	"jugate/core/restore"
	"jugate/core/slabstore"
)

// errOver ends the work on a delivery that is over for this workstation.
var errOver = errors.New("the delivery is over for this workstation")

// receive takes part in a delivery. What goes wrong with this workstation is
// reported and becomes its receipt; only errors that end the agent's work are
// returned.
func (a *Agent) receive(ctx context.Context, to *api.ToReceive) error {
	working, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	r := &receiver{agent: a, to: to, cancel: cancel, changed: make(chan struct{}, 1), hurry: make(chan struct{}, 1)}
	var reporting sync.WaitGroup
	reportCtx, stopReports := context.WithCancel(working)
	defer stopReports()

	err := func() error {
		if err := r.prepare(working); err != nil {
			return err
		}
		defer r.close()
		reporting.Go(func() { r.keepReporting(reportCtx) })
		return r.run(working)
	}()
	stopReports()
	reporting.Wait()
	if cause := context.Cause(working); err != nil && cause != nil {
		err = cause
	}
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.Is(err, errOver):
		a.show("delivery %d is over for this workstation; its disk is left without a partition table", to.Delivery)
		return nil
	}
	last := r.snapshot()
	last.Phase, last.Verified = delivery.Ended, err == nil
	if err != nil {
		last.Error = err.Error()
		a.show("delivery %d failed: %v", to.Delivery, err)
		a.options.Log.Warn("delivery failed", "delivery", to.Delivery, "error", err)
	} else {
		a.show("image version %d is on the disk and checked", to.Version)
	}
	a.tellDisks(ctx)
	verified := err == nil
	if verified { // a service that was restarted must have heard of its checking, too
		checked := last
		checked.Phase, checked.Verified, checked.Proof = delivery.Checking, false, nil
		if _, err := authorized(ctx, a, func(c *apiclient.Client) (api.Directions, error) { return c.TellProgress(ctx, to.Delivery, checked) }); err != nil {
			return err
		}
		last.Proof, last.LeftOut = r.restore.Proof(), r.restore.LeftOut()
	}
	_, err = authorized(ctx, a, func(c *apiclient.Client) (api.Directions, error) { return c.TellProgress(ctx, to.Delivery, last) })
	if isTold(err) {
		a.show("the service does not take the report: %v", err)
		return nil
	}
	if err == nil && verified && to.WhenDone != "" && to.WhenDone != "stay" {
		a.show("image version %d is on the disk and checked; %s now", to.Version, to.WhenDone)
		return a.leave(to.WhenDone)
	}
	return err
}

// receiver is the work on one delivery.
type receiver struct {
	agent  *Agent
	to     *api.ToReceive
	cancel context.CancelCauseFunc

	disk     Disk
	place    restore.Place
	manifest *image.Manifest
	options  restore.Options
	seal     *parcel.Seal
	socket   PacketReader
	begin    func() error // restore.Begin, once

	// These are there once the slab map is, by plan.
	slabs   *image.Map
	restore *restore.Restore
	freight *freight

	reporting sync.Mutex // held across a report

	mu       sync.Mutex
	based    *image.SlabSet // slabs of which the base is on the disk
	progress api.Progress
	heard    api.Directions // last
	changed  chan struct{}  // rings when there is something to look at; has room for one
	hurry    chan struct{}  // rings when a report should not wait; has room for one
}

// prepare fetches the manifest, holds it against the disk and joins the group, so that
// nothing is missed once the service hears "ready". It fetches the slab map, too, unless
// that comes in the stream and nothing of the disk could be kept. It writes nothing.
func (r *receiver) prepare(ctx context.Context) (err error) {
	a := r.agent
	a.show("preparing to receive version %d", r.to.Version)
	if r.to.Confirm != "" {
		if err := a.confirm(ctx, r.to.Confirm); err != nil {
			return fmt.Errorf("nothing was written: %w", err)
		}
	}
	if r.to.Answer != nil {
		if err := a.complete(ctx, r.to.Answer); err != nil {
			return fmt.Errorf("nothing was written, as the copy could not be answered: %w", err)
		}
		a.show("preparing to receive version %d", r.to.Version)
	}
	text, err := authorized(ctx, a, func(c *apiclient.Client) ([]byte, error) { return c.DeliveryManifest(ctx, r.to.Delivery) })
	if err != nil {
		return err
	}
	if got := slabstore.Sum(text).String(); got != r.to.Digest {
		return fmt.Errorf("%w: its digest is %s, the delivery's is %s", image.ErrManifest, got, r.to.Digest)
	}
	if r.manifest, err = image.ParseManifest(text); err != nil {
		return err
	}
	if len(r.to.SealKey) > 0 {
		if r.seal, err = parcel.NewSeal(r.to.SealKey, r.to.Session); err != nil {
			return err
		}
	}
	if r.disk, err = a.openDisk(r.to.Disk); err != nil {
		return err
	}
	defer func() {
		if err != nil {
			r.disk.Close()
		}
	}()
	placement, err := restore.ParsePlacement(r.to.Grow, r.to.Keep, r.to.Sizes, r.to.Partition, r.to.Onto)
	if err != nil {
		return err
	}
	if r.place, r.options, err = placement.On(r.disk); err != nil {
		return fmt.Errorf("nothing was written: %w", err)
	}
	r.options.Trim, r.options.Label, r.options.Nonce = r.to.Trim, r.to.Label, r.to.Nonce
	unfinished, err := restore.Unfinished(r.manifest, r.place, r.place.Size, r.disk.SectorSize(), r.options)
	if err != nil {
		return err
	}
	r.begin = sync.OnceValue(func() error {
		_, err := r.restore.Begin(ctx, nil)
		return err
	})
	r.progress = api.Progress{Report: delivery.Report{Phase: delivery.Ready, Total: r.manifest.UsedBytes, LacksMap: true}}
	if !r.to.MapComes || r.to.Reuse || unfinished {
		if err := r.fetchMap(ctx); err != nil {
			return err
		}
	}
	group, err := netip.ParseAddrPort(r.to.Channel)
	if err != nil {
		return err
	}
	if r.socket, err = a.machine.Listen(group); err != nil {
		return err
	}
	if r.slabs == nil {
		return nil
	}
	// Before the first report says "ready": the stream may begin with that, and it
	// carries just what somebody needs.
	if err = r.say(ctx, 0); err != nil {
		r.socket.Close()
	}
	return err
}

// plan takes the slab map and looks at what is on the disk already. It writes nothing.
// Errors of the map wrap image.ErrManifest.
func (r *receiver) plan(ctx context.Context, slabMap []byte) (err error) {
	a := r.agent
	if r.slabs, err = image.ParseMap(slabMap, r.manifest); err != nil {
		return err
	}
	if r.restore, err = restore.New(r.manifest, r.slabs, r.place, r.place.Size, r.disk.SectorSize(), r.options); err != nil {
		return err
	}
	for _, p := range r.restore.Kept() {
		a.show("plan: partition %d, sectors %d to %d%s, stays as it is", p.Number, p.First, p.Last, named(p.Name))
	}
	for _, c := range partition.Changes(r.manifest.Table, r.restore.Plan()) {
		a.show("plan: partition %d, sectors %d to %d there, will have sectors %d to %d here", c.Number, c.FromFirst, c.FromLast, c.ToFirst, c.ToLast)
	}
	inv, err := a.machine.Inventory()
	if err != nil {
		return err
	}
	var needed []api.ToPayload
	if r.to.Answer != nil {
		needed = r.to.Answer.Payloads
	}
	r.freight = newFreight(r.slabs.Len(), r.to.Payloads, needed, inv.Memory/freightShare)
	total := int64(0)
	for i := range r.restore.Missing().All() {
		total += r.slabs.Slab(i).Length()
	}
	found, err := r.restore.TakeStock(ctx, r.to.Reuse, func(done, total int64) {
		a.options.Show(Status{Name: a.called(), Text: "checking what is on the disk already", Done: done, Total: total})
	})
	if err != nil {
		return err
	}
	if found > 0 {
		a.show("%d bytes are on the disk already and right", found)
	}
	if err := r.takeBases(ctx); err != nil {
		return err
	}
	for i := range r.freight.lacks().All() {
		total += int64(r.freight.cargo.Part(i).Length)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.progress.Done, r.progress.Total, r.progress.LacksMap = found, total, false
	return nil
}

func (r *receiver) close() {
	r.socket.Close()
	r.disk.Close()
}

// run takes the stream, mends what it lacks and checks the whole disk.
func (r *receiver) run(ctx context.Context) error {
	if err := r.fill(ctx); err != nil {
		return err
	}
	if err := r.begin(); err != nil { // nothing at all may have been missing
		return err
	}
	r.setPhase(delivery.Checking)
	// Reported before it begins: the service compares how long the check took with how
	// fast a disk can be.
	if _, err := r.report(ctx); err != nil {
		return err
	}
	err := r.restore.Finish(ctx, func(done, total int64) {
		r.mu.Lock()
		defer r.mu.Unlock()
		r.progress.Done, r.progress.Total = done, total
	})
	if err != nil {
		return err
	}
	r.grow()
	if err := r.installDrivers(ctx); err != nil {
		return err
	}
	return r.answer(ctx)
}

// answer has the system become what it was told to. The copy is right already, but without
// that it would be the golden machine.
func (r *receiver) answer(ctx context.Context) error {
	if r.to.Answer == nil {
		return nil
	}
	did, err := r.agent.answer(ctx, r.disk, r.among(r.to.Answer.Partition), r.to.Answer, r.carried)
	if err != nil {
		return fmt.Errorf("the copy is right, but its answers could not be carried out: %w", err)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.progress.Answered = true
	if r.progress.Remark != "" {
		did = append([]string{r.progress.Remark}, did...)
	}
	r.progress.Remark = strings.Join(did, "; ")
	return nil
}

// installDrivers installs what the order and this workstation's devices ask for. The copy
// is right already, but without them it may not start.
func (r *receiver) installDrivers(ctx context.Context) error {
	if r.to.Install == nil {
		return nil
	}
	did, err := r.agent.installDrivers(ctx, r.disk, r.among(0), r.to.Install)
	if err != nil {
		return fmt.Errorf("the copy is right, but its drivers could not be installed: %w", err)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.progress.Drivers = labels(r.to.Install)
	if r.progress.Remark != "" {
		did = append([]string{r.progress.Remark}, did...)
	}
	r.progress.Remark = strings.Join(did, "; ")
	return nil
}

// grow makes file systems fill partitions that have become longer. The copy is right
// whether that succeeds or not.
func (r *receiver) grow() {
	grown, err := growVolumes(r.disk, r.restore.Longer())
	did := r.stayed()
	for _, l := range r.restore.Longer() {
		if text, has := grown[l.Partition]; has {
			did = append(did, text)
		} else {
			did = append(did, l.String())
		}
	}
	if err != nil {
		did = append(did, fmt.Sprintf("the copy is right, but not every file system fills its partition: %v", err))
	}
	for _, line := range did {
		r.agent.show("%s", line)
		r.agent.options.Log.Info("file systems", "delivery", r.to.Delivery, "did", line)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.progress.Remark = strings.Join(did, "; ")
}

// fill goes along with the delivery until nothing is missing: it takes the stream, the
// slab map first, says after each round what it lacks, and fetches what it is told to.
func (r *receiver) fill(ctx context.Context) error {
	group, ctx := errgroup.WithContext(ctx)
	listening, leave := context.WithCancel(ctx)
	defer leave()
	writing, stop := context.WithCancel(ctx)
	defer stop()
	in := newIntake(r)
	group.Go(func() error { return in.run(listening, r.socket) })
	for range writers {
		group.Go(func() error { return in.write(writing) })
	}
	group.Go(func() error {
		defer stop()
		defer leave()
		if err := r.learn(ctx, in); err != nil {
			return err
		}
		run, said, fetched := uint32(0), 0, -1
		for r.restore.Left()+r.freight.left() > 0 {
			now := r.latest()
			switch {
			case now.Run != 0 && run == 0:
				run = now.Run
			case now.Run != run:
				// The service was restarted and wants to know anew.
				run, said, fetched = now.Run, now.Round, -1
				if err := r.say(ctx, said); err != nil {
					return err
				}
			case now.Aside != "":
				leave()
				if err := in.drained(ctx); err != nil {
					return err
				}
				r.agent.show("served alone, as this workstation %s", now.Aside)
				r.setPhase(delivery.PhaseMending)
				return r.fetch(ctx, r.lacks())
			case now.Round > said:
				if err := in.drained(ctx); err != nil {
					return err
				}
				r.setPhase(delivery.PhaseMending)
				said = now.Round
				if err := r.say(ctx, said); err != nil {
					return err
				}
			case now.Decided == said && said > fetched && said > 0 && len(now.Fetch) > 0:
				fetched = said
				told, err := image.ParseRanges(now.Fetch, r.freight.cargo.Len())
				if err != nil {
					return fmt.Errorf("what the service has this workstation fetch: %w", err)
				}
				if err := r.fetch(ctx, told.Both(r.lacks())); err != nil {
					return err
				}
			default:
				select {
				case <-r.changed:
				case <-ctx.Done():
					return ctx.Err()
				}
			}
		}
		return nil
	})
	return group.Wait()
}

// lacks is what is still to come, by the numbers of the cargo.
func (r *receiver) lacks() *image.SlabSet {
	all := r.restore.Missing()
	all.Union(r.freight.lacks())
	return all
}

// needs tells whether a slab or a piece of a payload is still to come.
func (r *receiver) needs(number int) bool {
	if r.freight.cargo.IsSlab(number) {
		return r.restore.Needs(number)
	}
	return r.freight.needs(number)
}

// say tells the service what this workstation lacks.
func (r *receiver) say(ctx context.Context, round int) error {
	lacks := r.lacks()
	in := api.Lacking{Round: round, Slabs: lacks.Ranges(), Based: r.ofBases(lacks).Ranges()}
	_, err := authorized(ctx, r.agent, func(c *apiclient.Client) (struct{}, error) {
		return struct{}{}, c.TellLacking(ctx, r.to.Delivery, in)
	})
	ring(r.hurry)
	return err
}

// menders fetch at the same time.
const menders = 3

// fetch gets slabs and pieces of payloads by unicast.
func (r *receiver) fetch(ctx context.Context, all *image.SlabSet) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(menders)
	for number := range all.All() {
		if ctx.Err() != nil {
			break
		}
		group.Go(func() error {
			switch {
			case !r.needs(number):
				return nil
			case r.freight.cargo.IsSlab(number):
				return r.fetchSlab(ctx, number)
			default:
				return r.fetchPiece(ctx, number)
			}
		})
	}
	return group.Wait()
}

func (r *receiver) fetchSlab(ctx context.Context, slab int) error {
	b, err := authorized(ctx, r.agent, func(c *apiclient.Client) ([]byte, error) {
		return c.DeliverySlab(ctx, r.to.Delivery, r.slabs.Slab(slab).Digest, false)
	})
	if err == nil {
		err = r.take(slab, b)
	}
	if !isBadFrame(err) {
		return err
	}
	// The service checks it now, and sets it aside if it is damaged.
	b, err = authorized(ctx, r.agent, func(c *apiclient.Client) ([]byte, error) {
		return c.DeliverySlab(ctx, r.to.Delivery, r.slabs.Slab(slab).Digest, true)
	})
	if err == nil {
		err = r.take(slab, b)
	}
	if err != nil {
		err = fmt.Errorf("the service's store has a damaged slab: %w", err)
	}
	return err
}

// take writes what was fetched of a slab.
func (r *receiver) take(slab int, b []byte) error {
	frame, err := r.unsealed(b)
	if err != nil {
		return err
	}
	return r.write(arrived{slab: slab, bytes: frame}, 0, int64(len(b)))
}

// unsealed is what the service has sent to this workstation alone.
func (r *receiver) unsealed(b []byte) (content []byte, err error) {
	if r.seal == nil {
		return b, nil
	}
	_, content, err = r.seal.Open(b)
	return content, err
}
