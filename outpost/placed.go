package outpost

import (
	"context"
	"errors"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/fault"
	"jugate/core/slabstore"
)

// placed has versions come ahead of time that the service says, in the hours in which the line may be used for that. What somebody
// waits for goes first.
type placed struct {
	o    *Outpost
	kick chan struct{} // has room for one

	mu       sync.Mutex
	versions []api.OutpostVersion
	hours    hours
	told     []api.PlacedVersion
	trouble  string
}

const (
	// lookEvery is how often it is looked whether the hours have begun, and whether something has gone missing.
	lookEvery = time.Minute
	// yieldFor is how long what comes ahead of time waits for what somebody waits for, before it looks again.
	yieldFor = 250 * time.Millisecond
)

// hours are a part of the day, over midnight if they end before they begin.
type hours struct{ from, until int } // minutes of the day; the same for always

// parseHours reads "20:00-06:00"; nothing stands for always.
func parseHours(text string) (h hours, err error) {
	if text == "" {
		return h, nil
	}
	from, until, _ := strings.Cut(text, "-")
	begin, err := time.Parse("15:04", from)
	end, problem := time.Parse("15:04", until)
	if errors.Join(err, problem) != nil {
		return h, fault.Invalid.Errorf("%q does not say from when until when, such as 20:00-06:00", text)
	}
	return hours{minutes(begin), minutes(end)}, nil
}

func minutes(at time.Time) int { return at.Hour()*60 + at.Minute() }

// has tells whether an instant lies in them, by the clock of its place.
func (h hours) has(at time.Time) bool {
	now := minutes(at)
	switch {
	case h.from == h.until:
		return true
	case h.from < h.until:
		return now >= h.from && now < h.until
	}
	return now >= h.from || now < h.until
}

// follow takes which versions are to be here, and when they may come.
func (p *placed) follow(work api.OutpostWork) {
	h, err := parseHours(work.Line.Hours)
	if err != nil {
		p.o.config.Log.Warn("when the line may be used is not understood", "error", err)
	}
	p.mu.Lock()
	p.versions, p.hours = work.Versions, h
	p.mu.Unlock()
	nudge(p.kick)
}

// said are the versions that are to be here.
func (p *placed) said() ([]api.OutpostVersion, hours) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.versions, p.hours
}

// run fetches until ctx ends.
func (p *placed) run(ctx context.Context) {
	again := time.NewTicker(lookEvery)
	defer again.Stop()
	for {
		select {
		case <-p.kick:
		case <-again.C:
		case <-ctx.Done():
			return
		}
		err := fault.Guard(func() error { return p.look(ctx) })
		p.mu.Lock()
		p.trouble = ""
		if err != nil && !apiclient.IsPassing(err) && ctx.Err() == nil {
			p.trouble = "versions cannot be held ahead of time: " + err.Error()
			p.o.config.Log.Warn("versions cannot be held ahead of time", "error", err)
		}
		p.mu.Unlock()
		nudge(p.o.teller.holds)
	}
}

// errNotNow ends the fetching: the hours are over, or something else is to be held.
var errNotNow = errors.New("not now")

// look has everything be here that is to be.
func (p *placed) look(ctx context.Context) error {
	if len(p.o.slabs.stores()) == 0 {
		return nil // until the key is here that they are sealed by
	}
	versions, _ := p.said()
	pinned := map[slabstore.Digest]struct{}{}
	all := make([][]slabstore.Digest, len(versions))
	for i, v := range versions {
		_, slabs, err := p.o.deliveries.load(ctx, v)
		if err != nil {
			return err
		}
		for _, d := range slabs.Distinct() {
			all[i] = append(all[i], d)
			pinned[d] = struct{}{}
		}
	}
	p.o.slabs.pin(pinned)
	defer p.count(versions, all)
	for i, v := range versions {
		p.count(versions, all)
		nudge(p.o.teller.holds)
		if err := p.bring(ctx, v, all[i]); errors.Is(err, errNotNow) {
			return nil
		} else if err != nil {
			return err
		}
	}
	return nil
}

// bring has the slabs of a version come that are not here.
func (p *placed) bring(ctx context.Context, v api.OutpostVersion, all []slabstore.Digest) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(linesAtOnce)
	for _, d := range all {
		if ctx.Err() != nil {
			break
		}
		if p.o.slabs.Has(d) {
			continue
		}
		group.Go(func() error {
			if err := p.mayNow(ctx, v); err != nil {
				return err
			}
			_, err := p.o.slabs.Slab(d, false)
			if err == nil && !p.o.slabs.Has(d) {
				err = fault.Full.Errorf("there is no room for %s@%d", v.Image, v.Version)
			}
			return err
		})
	}
	return group.Wait()
}

// mayNow waits while somebody waits for the line, and refuses what is not to come now.
func (p *placed) mayNow(ctx context.Context, v api.OutpostVersion) error {
	for {
		versions, hours := p.said()
		wanted := slices.ContainsFunc(versions, func(o api.OutpostVersion) bool { return o.Manifest == v.Manifest })
		if !wanted || !hours.has(p.o.deliveries.clock.Now().Local()) {
			return errNotNow
		}
		if p.o.slabs.waited.Load() == 0 {
			return nil
		}
		select {
		case <-time.After(yieldFor):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// count notes how much of each version is here.
func (p *placed) count(versions []api.OutpostVersion, all [][]slabstore.Digest) {
	told := make([]api.PlacedVersion, len(versions))
	for i, v := range versions {
		told[i] = api.PlacedVersion{Image: v.Image, Version: v.Version, Slabs: len(all[i])}
		for _, d := range all[i] {
			if p.o.slabs.Has(d) {
				told[i].Held++
			}
		}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.told = told
}
