package fleet

import (
	"context"
	"time"

	"jugate/api"
	"jugate/core/fault"
	"jugate/core/roster"
)

// Standing answers as soon as there is an errand or the workstation's state
// changed, or after a while with neither.
func (f *Fleet) Standing(ctx context.Context, id int64) (api.Standing, error) {
	f.agents.at(id, 0)
	p, _ := f.agents.presence(id)
	if p.activity.Text != "" { // whatever it was doing, it is waiting now
		f.agents.does(id, api.Activity{})
		f.publish(ctx, id)
	}
	timeout := time.NewTimer(longPoll)
	defer timeout.Stop()
	before := roster.State("")
	for last := false; ; {
		w, known := f.agents.presence(id)
		if !known { // it was forgotten
			return api.Standing{}, fault.Stranger.Errorf("this pass is not good (any more); check in again")
		}
		now := api.Standing{Name: w.name, State: w.state, OnDisk: w.onDisk}
		if roster.MustBeAdmitted("", w.state) == nil {
			var err error
			if now.Errand, err = f.Errands.Start(ctx, id); err != nil {
				return api.Standing{}, err
			}
			if now.Errand != nil {
				return now, nil
			}
		}
		if last || (before != "" && before != w.state) {
			return now, nil
		}
		before = w.state
		select {
		case <-p.bell:
		case <-timeout.C:
			last = true
		case <-f.Closing:
			last = true
		case <-ctx.Done():
			return api.Standing{}, ctx.Err()
		}
	}
}
