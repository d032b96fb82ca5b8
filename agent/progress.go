package agent

import (
	"context"
	"time"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/delivery"
)

func (r *receiver) latest() api.Directions {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.heard
}

// setPhase goes on to a phase and has that reported at once.
func (r *receiver) setPhase(p delivery.Phase) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.progress.Phase == p {
		return
	}
	r.progress.Phase = p
	if p == delivery.Checking {
		r.progress.Done, r.progress.Backlog = 0, 0
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

// wrote counts bytes of the image that are on the disk, or of a payload that are here.
func (r *receiver) wrote(plain, multicast, unicast int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.progress.Done += plain
	r.progress.Multicast += multicast
	r.progress.Unicast += unicast
}

func (r *receiver) snapshot() api.Progress {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.progress
}

// reportEvery is how often a workstation of a delivery reports at the most; the service
// may ask for less.
const reportEvery = 500 * time.Millisecond

// doing says in words what a workstation does in a phase.
var doing = map[delivery.Phase]string{
	delivery.Ready:        "ready, waiting for the others:",
	delivery.Receiving:    "receiving",
	delivery.PhaseMending: "fetching what is missing of",
	delivery.Checking:     "checking the disk against",
}

// report tells the service how far this workstation is. Reports are sent one after the
// other.
func (r *receiver) report(ctx context.Context) (api.Directions, error) {
	r.reporting.Lock()
	defer r.reporting.Unlock()
	now := r.snapshot()
	return authorized(ctx, r.agent, func(c *apiclient.Client) (api.Directions, error) { return c.TellProgress(ctx, r.to.Delivery, now) })
}

// keepReporting tells the service how far this workstation is and hears how far
// the delivery is.
func (r *receiver) keepReporting(ctx context.Context) {
	tick := time.NewTicker(reportEvery)
	defer tick.Stop()
	for {
		directions, err := r.report(ctx)
		switch {
		case ctx.Err() != nil:
			return
		case err != nil:
			r.cancel(err)
			return
		case directions.Over:
			r.cancel(errOver)
			return
		}
		tick.Reset(max(reportEvery, time.Duration(directions.ReportAfter*float64(time.Second))))
		r.mu.Lock()
		r.heard = directions
		r.mu.Unlock()
		ring(r.changed)
		now := r.snapshot()
		r.agent.options.Show(Status{Name: r.agent.called(), Text: doing[now.Phase] + " " + r.to.Label, Done: now.Done, Total: now.Total})
		select {
		case <-tick.C:
		case <-r.hurry:
		case <-ctx.Done():
			return
		}
	}
}
