package agent

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"sync"
	"time"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/delivery"
	"jugate/core/image"
	"jugate/core/partition"
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
	case apiclient.IsUnauthorized(err):
		return err
	}
	last := r.snapshot()
	last.Phase, last.Verified = string(delivery.Ended), err == nil
	if err != nil {
		last.Error = err.Error()
		a.show("delivery %d failed: %v", to.Delivery, err)
		a.options.Log.Warn("delivery failed", "delivery", to.Delivery, "error", err)
	} else {
		a.show("image version %d is on the disk and checked", to.Version)
	}
	_, err = patiently(ctx, a, func() (api.Course, error) { return a.client.TellProgress(ctx, to.Delivery, last) })
	return err
}

// receiver is the work on one delivery.
type receiver struct {
	agent  *Agent
	to     *api.ToReceive
	cancel context.CancelCauseFunc

	disk    Disk
	slabs   *image.Map
	restore *image.Restore
	begin   func() error // restore.Begin, once
	socket  PacketReader

	mu       sync.Mutex
	progress api.Progress
	state    delivery.State // of the delivery, as last heard
	changed  chan struct{}  // rings when state changes; has room for one
	hurry    chan struct{}  // rings when a report should not wait; has room for one
}

// prepare fetches the version, holds it against the disk and joins the group,
// so that nothing is missed once the service hears "ready". It writes nothing.
func (r *receiver) prepare(ctx context.Context) error {
	a := r.agent
	a.show("preparing to receive version %d", r.to.Version)
	text, err := patiently(ctx, a, func() ([]byte, error) { return a.client.DeliveryManifest(ctx, r.to.Delivery) })
	if err != nil {
		return err
	}
	if got := slabstore.Sum(text).String(); got != r.to.Digest {
		return fmt.Errorf("%w: its digest is %s, the delivery's is %s", image.ErrManifest, got, r.to.Digest)
	}
	man, err := image.ParseManifest(text)
	if err != nil {
		return err
	}
	raw, err := patiently(ctx, a, func() ([]byte, error) { return a.client.DeliveryMap(ctx, r.to.Delivery) })
	if err != nil {
		return err
	}
	if r.slabs, err = image.ParseMap(raw, man); err != nil {
		return err
	}
	if r.disk, err = a.openDisk(r.to.Disk); err != nil {
		return err
	}
	grow, err := partition.ParseGrow(cmp.Or(r.to.Grow, "last"))
	if err == nil {
		r.restore, err = image.NewRestore(man, r.slabs, r.disk, r.disk.Size(), r.disk.SectorSize(),
			image.RestoreOptions{Grow: grow, Trim: r.to.Trim, Label: r.to.Label})
	}
	if err == nil {
		for _, c := range partition.Changes(man.Table, r.restore.Plan()) {
			a.show("plan: partition %d, sectors %d to %d there, will have sectors %d to %d here", c.Number, c.FromFirst, c.FromLast, c.ToFirst, c.ToLast)
		}
	}
	if err == nil {
		var group netip.AddrPort
		if group, err = netip.ParseAddrPort(r.to.Channel); err == nil {
			r.socket, err = a.machine.Listen(group)
		}
	}
	if err != nil {
		r.disk.Close()
		return err
	}
	r.begin = sync.OnceValue(func() error {
		found, err := r.restore.Begin(ctx, nil)
		if found > 0 {
			a.show("an earlier try has left %d bytes that are right; going on from there", found)
			r.mu.Lock()
			r.progress.Done += found
			r.mu.Unlock()
		}
		return err
	})
	r.progress = api.Progress{Phase: string(delivery.Ready)}
	for i := range r.slabs.Distinct() {
		r.progress.Total += r.slabs.Slab(i).Length()
	}
	return nil
}

func (r *receiver) close() {
	r.socket.Close()
	r.disk.Close()
}

// run takes the stream, mends what it lacks and checks the whole disk.
func (r *receiver) run(ctx context.Context) error {
	left, err := r.takeStream(ctx)
	if err != nil {
		return err
	}
	r.setPhase(delivery.Fetching)
	if err := r.begin(); err != nil { // nothing at all may have come by multicast
		return err
	}
	if err := r.mendRest(ctx, left); err != nil {
		return err
	}
	r.setPhase(delivery.Checking)
	return r.restore.Finish(ctx, func(done, total int64) {
		r.mu.Lock()
		defer r.mu.Unlock()
		r.progress.Done, r.progress.Total = done, total
	})
}

// awaitMending returns when the service says that the stream is over.
func (r *receiver) awaitMending(ctx context.Context) error {
	for {
		r.mu.Lock()
		state := r.state
		r.mu.Unlock()
		if state == delivery.Mending {
			return nil
		}
		select {
		case <-r.changed:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// setPhase goes on to a phase and has that reported at once.
func (r *receiver) setPhase(p delivery.Phase) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.progress.Phase == string(p) {
		return
	}
	r.progress.Phase = string(p)
	if p == delivery.Checking {
		r.progress.Done = 0
	}
	ring(r.hurry)
}

// ring never waits: a bell that has rung and was not heard yet is enough.
func ring(bell chan<- struct{}) {
	select {
	case bell <- struct{}{}:
	default:
	}
}

// wrote counts a slab that is on the disk.
func (r *receiver) wrote(slab int, multicast, unicast int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.progress.Done += r.slabs.Slab(slab).Length()
	r.progress.Multicast += multicast
	r.progress.Unicast += unicast
}

func (r *receiver) snapshot() api.Progress {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.progress
}

// reportEvery is how often a workstation of a delivery reports.
const reportEvery = 500 * time.Millisecond

// keepReporting tells the service how far this workstation is and hears how far
// the delivery is.
func (r *receiver) keepReporting(ctx context.Context) {
	tick := time.NewTicker(reportEvery)
	defer tick.Stop()
	for {
		now := r.snapshot()
		course, err := patiently(ctx, r.agent, func() (api.Course, error) { return r.agent.client.TellProgress(ctx, r.to.Delivery, now) })
		switch {
		case ctx.Err() != nil:
			return
		case err != nil:
			r.cancel(err)
			return
		case course.Over:
			r.cancel(errOver)
			return
		}
		r.heard(delivery.State(course.State))
		r.agent.options.Show(Status{Name: r.agent.name, Text: fmt.Sprintf("delivery %d: %s", r.to.Delivery, now.Phase), Done: now.Done, Total: now.Total})
		select {
		case <-tick.C:
		case <-r.hurry:
		case <-ctx.Done():
			return
		}
	}
}

func (r *receiver) heard(s delivery.State) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.state != s {
		r.state = s
		ring(r.changed)
	}
}
