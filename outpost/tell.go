package outpost

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/fault"
	"jugate/core/hwaddr"
	"jugate/core/netboot"
	"jugate/core/slabstore"
	"jugate/core/version"
)

// teller tells the service how the outpost is and how far machines are, and has the outpost hold what the service says.
type teller struct {
	o *Outpost
	// kick says that there are steps to hand in, holds that there is more to tell; both have room for one.
	kick, holds chan struct{}

	mu      sync.Mutex
	address string
	steps   []api.OutpostStep
	files   []api.OutpostLoaded
	trouble string
	again   bool // what the service said has not been done, and is asked for anew
}

const (
	// tellEvery is how often the service hears of what has changed, and the longest pause before it is tried again; tellAgain is the
	// shortest.
	tellEvery = 5 * time.Second
	tellAgain = 250 * time.Millisecond
	// stepsAtMost is how many steps wait for the service to answer; the oldest go first.
	stepsAtMost = 10_000
)

// at says where the outpost answers.
func (t *teller) at(address string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.address = address
}

// stepped is boot.Boot's.
func (t *teller) stepped(a hwaddr.Address, m netboot.Mark) {
	t.mu.Lock()
	t.steps = append(t.steps, api.OutpostStep{Address: a, At: m.At, Step: m.Step, Detail: m.Detail})
	t.steps = t.steps[max(0, len(t.steps)-stepsAtMost):]
	t.mu.Unlock()
	nudge(t.kick)
}

// loaded notes that a machine has loaded a file of a boot entry.
func (t *teller) loaded(a hwaddr.Address, file slabstore.Digest) {
	t.mu.Lock()
	t.files = append(t.files, api.OutpostLoaded{Address: a, File: file})
	t.files = t.files[max(0, len(t.files)-stepsAtMost):]
	t.mu.Unlock()
	nudge(t.kick)
}

func nudge(c chan<- struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// run tells until ctx ends, and hands in steps as they come. What is fetched ahead of time keeps it from neither.
func (t *teller) run(ctx context.Context) {
	works := make(chan api.OutpostWork, 1)
	t.o.work.Go(func() { t.follow(ctx, works) })
	t.o.work.Go(func() { t.handIn(ctx) })
	knows := ""
	log := t.o.config.Log.Warn // of several in a row, the first is of interest
	for pause := time.Duration(0); ; {
		err := fault.Guard(func() error { return t.once(ctx, works, &knows) })
		switch {
		case ctx.Err() != nil:
			return
		case err != nil:
			pause = min(max(2*pause, tellAgain), tellEvery)
			log("the service could not be told", "error", err)
			log = t.o.config.Log.Debug
		default:
			pause, log = 0, t.o.config.Log.Warn
		}
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return
		}
	}
}

// handIn hands in steps when there are some, and again when the service was away.
func (t *teller) handIn(ctx context.Context) {
	again := time.NewTicker(tellEvery)
	defer again.Stop()
	carried, states := int64(0), ""
	for {
		select {
		case <-t.kick:
		case <-again.C:
			if now := t.o.slabs.served.Load() + t.o.hold.fetched.Load(); now != carried {
				carried = now
				nudge(t.holds)
			}
			if now := t.o.linkStates(); now != states { // another outpost has come or gone
				states = now
				nudge(t.holds)
			}
		case <-ctx.Done():
			return
		}
		if err := fault.Guard(func() error { return t.tellSteps(ctx) }); err != nil && ctx.Err() == nil {
			t.o.config.Log.Debug("steps wait", "error", err)
		}
	}
}

// linkStates is how all interfaces stand, in one text.
func (o *Outpost) linkStates() string {
	var all []string
	for _, l := range o.boot.Links(o.config.Now()) {
		all = append(all, l.State)
	}
	return strings.Join(all, "; ")
}

// errMore says that there is more to tell.
var errMore = errors.New("there is more to tell")

// once tells how the outpost is, and takes what it is to hold. It returns when that changes, when the outpost holds more than
// it has told, or after a while.
func (t *teller) once(ctx context.Context, works chan api.OutpostWork, knows *string) error {
	if t.o.identity.stale(t.o.config.Now()) {
		if err := t.o.identity.renew(ctx, t.o.client); err != nil {
			t.o.line.saw(err)
			return err
		}
	}
	t.mu.Lock()
	if t.again {
		*knows, t.again = "", false
	}
	t.mu.Unlock()
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	go func() {
		select {
		case <-t.holds:
			cancel(errMore)
		case <-ctx.Done():
		}
	}()
	work, err := t.o.client.TellOutpost(ctx, api.OutpostCalls{OutpostTells: t.o.Tells(), Knows: *knows, Run: t.o.started})
	if err != nil && errors.Is(context.Cause(ctx), errMore) {
		return nil
	}
	t.o.line.saw(err)
	if apiclient.IsUnauthorized(err) { // it is no outpost any more
		t.o.deliveries.follow(t.o.until, api.OutpostWork{})
		t.o.relay.forgetSignIns(t.o.until)
	}
	if len(work.Wake) > 0 {
		if through, err := t.o.boot.Wake(work.Wake); err != nil {
			t.o.config.Log.Warn("machines cannot be woken", "error", err)
		} else {
			t.o.config.Log.Info("wake-ups sent", "cards", len(work.Wake), "interfaces", through)
		}
		work.Wake = nil
	}
	if err != nil || work.Mark == *knows {
		return err
	}
	*knows = work.Mark
	t.o.follow(work) // whatever else there is to tell
	select {
	case <-works: // an older one that nobody has taken yet
	default:
	}
	works <- work
	return nil
}

// tellSteps hands in the steps that wait. Those that come meanwhile wait for the next time.
func (t *teller) tellSteps(ctx context.Context) error {
	t.mu.Lock()
	steps, files := t.steps, t.files
	t.mu.Unlock()
	if len(steps)+len(files) == 0 {
		return nil
	}
	if _, err := ask(ctx, t.o, answerWithin, func(ctx context.Context) (struct{}, error) {
		return struct{}{}, t.o.client.TellSteps(ctx, api.OutpostSteps{Now: t.o.config.Now(), Steps: steps, Loaded: files})
	}); err != nil {
		return err
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.steps, t.files = after(t.steps, steps), after(t.files, files)
	return nil
}

// after is what of all has come since some were taken; the oldest may have gone meanwhile.
func after[T comparable](all, some []T) []T {
	if len(some) == 0 {
		return all
	}
	for i := len(all) - 1; i >= 0; i-- {
		if all[i] == some[len(some)-1] {
			return all[i+1:]
		}
	}
	return all
}

// follow has the outpost hold what the service says.
func (t *teller) follow(ctx context.Context, works <-chan api.OutpostWork) {
	for {
		var work api.OutpostWork
		select {
		case work = <-works:
		case <-ctx.Done():
			return
		}
		err := fault.Guard(func() error { return t.o.hold.follow(ctx, work) })
		if ctx.Err() != nil {
			return
		}
		t.mu.Lock()
		t.trouble = ""
		if err != nil && !apiclient.IsPassing(err) {
			t.trouble = err.Error()
			t.o.config.Log.Warn("what the service says cannot be held", "error", err)
		}
		t.mu.Unlock()
		if err != nil { // in a while, so that it does not go round and round
			select {
			case <-time.After(tellEvery):
			case <-ctx.Done():
				return
			}
			t.mu.Lock()
			t.again = true
			t.mu.Unlock()
		}
		nudge(t.holds)
	}
}

// follow takes what the service says, but for builds and files of boot entries, which come one after the other.
func (o *Outpost) follow(work api.OutpostWork) {
	o.slabs.pace.SetLimit(lineRate(work.Line))
	o.client.AlsoAt(work.At)
	if len(work.SlabKey) > 0 || !work.Line.Sealed { // else it is what was kept, without the key
		o.work.Go(func() {
			if err := fault.Guard(func() error { return o.slabs.sealBy(work.SlabKey) }); err != nil {
				o.config.Log.Error("slabs cannot be sealed, or opened", "error", err)
			}
			nudge(o.placed.kick)
			nudge(o.teller.holds)
		})
	}
	o.placed.follow(work)
	o.deliveries.follow(o.until, work)
}

// lineRate is what may come over the line, in bytes a second.
func lineRate(s api.OutpostSettings) rate.Limit {
	if s.LineRate == 0 {
		return rate.Inf
	}
	return rate.Limit(s.LineRate / 8)
}

// Tells is how the outpost is now.
func (o *Outpost) Tells() api.OutpostTells {
	out := api.OutpostTells{Version: version.Program(), Links: []api.NetbootLink{}, Builds: []int{}, Fetched: o.hold.fetched.Load(), Served: o.slabs.served.Load()}
	o.teller.mu.Lock()
	out.Address, out.Trouble = o.teller.address, o.teller.trouble
	o.teller.mu.Unlock()
	out.Streams = o.deliveries.from(out.Address)
	for _, l := range o.boot.Links(o.config.Now()) {
		link := api.NetbootLink{Interface: l.Name, Mode: string(l.Mode), Address: l.Address(), State: l.State}
		for _, p := range l.Pools {
			link.Pools = append(link.Pools, api.NetbootPool{Range: fmt.Sprintf("%s-%s", p.From, p.To), Left: p.Left, Of: p.Of})
		}
		out.Links = append(out.Links, link)
	}
	if have, err := o.builds.Builds(); err == nil && have != nil {
		out.Builds = have
	}
	if all, err := o.entries.All(); err == nil {
		out.Entries = len(all)
	}
	out.Slabs, out.Bytes = o.slabs.held()
	out.IsSealed = o.slabs.sealed.Load()
	o.placed.mu.Lock()
	out.Placed, out.Trouble = o.placed.told, cmp.Or(out.Trouble, o.placed.trouble)
	o.placed.mu.Unlock()
	return out
}
