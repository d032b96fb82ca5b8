package fleet

import (
	"cmp"
	"context"
	"sync"
	"time"

	"jugate/api"
	"jugate/core/fault"
	"jugate/records"
)

const (
	// helperAsks is how long a helper's question is kept open.
	helperAsks = 50 * time.Second
	// runningFor is how long a system counts as on after its helper was heard.
	runningFor = 2 * time.Minute
	// toldFor is how long a helper is told something that it has not heard yet.
	toldFor = 15 * time.Minute
	// warnMinutes is how long people have to save their work if nobody says how long.
	warnMinutes = 5
)

// helpers are those that have called since the service was started.
type helpers struct {
	mu   sync.Mutex
	byID map[int64]*calling
}

type calling struct {
	heard time.Time
	bell  chan struct{} // has room for one
}

// heard notes that a workstation's helper has called; a zero time just finds it.
func (h *helpers) heard(id int64, now time.Time) *calling {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.byID == nil {
		h.byID = map[int64]*calling{}
	}
	c := h.byID[id]
	if c == nil {
		c = &calling{bell: make(chan struct{}, 1)}
		h.byID[id] = c
	}
	if !now.IsZero() {
		c.heard = now
	}
	return c
}

func (h *helpers) lastHeard(id int64) time.Time {
	h.mu.Lock()
	defer h.mu.Unlock()
	if c := h.byID[id]; c != nil {
		return c.heard
	}
	return time.Time{}
}

func (h *helpers) ring(id int64) {
	select {
	case h.heard(id, time.Time{}).bell <- struct{}{}:
	default:
	}
}

// Running tells whether the system of a workstation is on: its helper was heard lately, and no
// agent since, which would be in the boot environment.
func (f *Fleet) Running(id int64) bool {
	at := f.helpers.lastHeard(id)
	p, _ := f.agents.presence(id)
	return f.Now().Sub(at) < runningFor && at.After(p.seen)
}

// HelperAsks answers the helper with a key when there is something else to do than it knows
// (has), or when it has waited long enough. Boot names the start of its system: what was told
// in an earlier one is done.
func (f *Fleet) HelperAsks(ctx context.Context, key, boot string, has int64) (api.HelperWish, error) {
	patience := time.NewTimer(helperAsks)
	defer patience.Stop()
	for {
		h, err := f.Records.HelperOf(ctx, key)
		if err != nil {
			return api.HelperWish{}, err
		}
		if h == nil || key == "" {
			return api.HelperWish{}, fault.Stranger.Errorf("this helper is not known, or its system was replaced")
		}
		c := f.helpers.heard(h.WorkstationID, f.Now())
		if h.Verb != "" && (h.Boot != "" && h.Boot != boot || h.Boot == "" && h.Until.Valid && h.Until.Time.Before(f.Now())) {
			if err := f.Records.HelperIsDone(ctx, h); err != nil {
				return api.HelperWish{}, err
			}
			h.Verb = ""
			f.publish(ctx, h.WorkstationID)
		}
		switch {
		case h.Verb == "" && has != 0:
			return api.HelperWish{}, nil
		case h.Verb != "" && h.Number != has:
			if err := f.Records.HelperWasTold(ctx, h, boot); err != nil {
				return api.HelperWish{}, err
			}
			return api.HelperWish{Number: h.Number, Verb: h.Verb, WarnSeconds: h.WarnSeconds, Why: h.Why}, nil
		}
		select {
		case <-c.bell:
		case <-patience.C:
			return api.HelperWish{Number: has, Verb: h.Verb, WarnSeconds: h.WarnSeconds, Why: h.Why}, nil
		case <-f.Closing:
			return api.HelperWish{}, fault.Unready.Errorf("the service ends")
		case <-ctx.Done():
			return api.HelperWish{}, ctx.Err()
		}
	}
}

// Arrived notes whether a helper stays on a system that has reported its first start, and its key.
func (f *Fleet) Arrived(ctx context.Context, workstation int64, key string, stays bool) error {
	defer f.publish(ctx, workstation)
	if !stays || key == "" {
		return f.Records.RemoveHelper(ctx, workstation)
	}
	return f.Records.PutHelper(ctx, f.Now(), workstation, key)
}

// Tell has systems that are on restart or switch off.
func (f *Fleet) Tell(ctx context.Context, in api.Telling) (api.Told, error) {
	targets, err := f.Choose(ctx, in.To, in.Where)
	if err != nil {
		return api.Told{}, err
	}
	return f.tell(ctx, targets, in, f.Running)
}

// TellLater has systems do something, whether or not they are on already.
func (f *Fleet) TellLater(ctx context.Context, targets []records.Workstation, verb string, warn time.Duration, why string) error {
	_, err := f.tell(ctx, targets, api.Telling{Verb: verb, WarnMinutes: int(warn.Minutes()), Why: why}, func(int64) bool { return true })
	return err
}

func (f *Fleet) tell(ctx context.Context, targets []records.Workstation, in api.Telling, can func(id int64) bool) (api.Told, error) {
	out := api.Told{Told: []string{}, Without: []string{}, Off: []string{}}
	ids := make([]int64, len(targets))
	for i, w := range targets {
		ids[i] = w.ID
	}
	known, err := f.Records.Helpers(ctx, ids)
	if err != nil {
		return out, err
	}
	verb := in.Verb
	if verb == "nothing" {
		verb = ""
	}
	for _, w := range targets {
		h, has := known[w.ID]
		switch {
		case !has:
			out.Without = append(out.Without, w.Label())
			continue
		case verb != "" && !can(w.ID):
			out.Off = append(out.Off, w.Label())
			continue
		case verb == "" && h.Verb == "":
			continue
		}
		if err := f.Records.TellHelper(ctx, w.ID, verb, time.Duration(cmp.Or(in.WarnMinutes, warnMinutes))*time.Minute, in.Why, f.Now().Add(toldFor)); err != nil {
			return out, err
		}
		f.helpers.ring(w.ID)
		f.publish(ctx, w.ID)
		out.Told = append(out.Told, w.Label())
	}
	return out, nil
}

// helperOf is what is told of a workstation's helper; nil if it has none.
func (f *Fleet) helperOf(w records.Workstation) *api.Helper {
	if w.Helper == "" {
		return nil
	}
	out := &api.Helper{Running: f.Running(w.ID)}
	if w.Helper != "idle" {
		out.Verb = w.Helper
	}
	if at := f.helpers.lastHeard(w.ID); !at.IsZero() {
		out.Heard = &at
	}
	return out
}
