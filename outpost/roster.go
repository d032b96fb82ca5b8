package outpost

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"jugate/api"
	"jugate/apiclient"
	"jugate/boot"
	"jugate/core/fault"
	"jugate/core/hwaddr"
	"jugate/core/netboot"
	"jugate/core/roster"
	"jugate/core/slabstore"
	"jugate/records/outbox"
)

// Kinds of what is kept for a time when the service does not answer.
const (
	keptWork   = "work"   // api.OutpostWork
	keptFacts  = "facts"  // netboot.Facts, by hardware address
	keptChoice = "choice" // api.OutpostChoice, by hardware address
	keptBuild  = "build"  // api.OutpostBuildFor, by hardware address
	keptLease  = "lease"  // netboot.Lease, by address
)

// againFor is how long a machine that was to boot the environment does so again while the service does not answer; after that
// it boots from its disk.
const againFor = 12 * time.Hour

// bootRoster says what machines boot, by the word of the service, or by its last.
type bootRoster struct{ *Outpost }

// last has the service asked; if it does not answer, what it said last counts, and at tells when that was. It is
// apiclient.ErrAway if nobody answers and nothing was said before.
func last[T any](ctx context.Context, o *Outpost, atMost time.Duration, kind, key string, do func(ctx context.Context) (T, error)) (answer T, at time.Time, err error) {
	if answer, err = ask(ctx, o, atMost, do); err == nil {
		if err := o.records.Keep(ctx, o.config.Now(), kind, key, answer); err != nil { // its disk is full: the answer counts now all the same
			o.config.Log.Warn("an answer cannot be kept", "error", err)
		}
		return answer, time.Time{}, nil
	}
	if !apiclient.IsPassing(err) {
		return answer, at, err
	}
	at, problem := o.records.Kept(ctx, kind, key, &answer)
	if fault.KindOf(problem) == fault.NotFound {
		return answer, at, err
	}
	return answer, at, problem
}

// Facts are boot.Roster's. Of a machine of which nothing was ever said, nothing is known.
func (r *bootRoster) Facts(ctx context.Context, a hwaddr.Address) netboot.Facts {
	facts, _, err := last(ctx, r.Outpost, factsWithin, keptFacts, a.String(), func(ctx context.Context) (netboot.Facts, error) {
		return r.client.OutpostFacts(ctx, api.OutpostAsks{Address: a})
	})
	if err != nil && !apiclient.IsPassing(err) {
		return netboot.Facts{Refused: err.Error()}
	}
	return facts
}

// BuildFor is boot.Roster's.
func (r *bootRoster) BuildFor(ctx context.Context, a hwaddr.Address) (int, error) {
	b, _, err := last(ctx, r.Outpost, answerWithin, keptBuild, a.String(), func(ctx context.Context) (api.OutpostBuildFor, error) {
		return r.client.OutpostBuildFor(ctx, api.OutpostAsks{Address: a})
	})
	if apiclient.IsPassing(err) { // as for everybody
		b.Build, err = r.hold.offered(ctx), nil
	}
	if err != nil || b.Build == 0 {
		return 0, err
	}
	return b.Build, r.hold.build(ctx, b.Build)
}

// Choose is boot.Roster's. While the service does not answer, a machine that was to boot the environment does so again, with
// a ticket that was given ahead: it waits there until the service answers. Others boot from their disk.
func (r *bootRoster) Choose(ctx context.Context, l netboot.Loader, a hwaddr.Address) (netboot.Choice, error) {
	out, at, err := last(ctx, r.Outpost, answerWithin, keptChoice, a.String(), func(ctx context.Context) (api.OutpostChoice, error) {
		return r.client.OutpostChoice(ctx, api.OutpostAsks{Address: a, Loader: &l})
	})
	c := out.Choice
	if apiclient.IsPassing(err) || err == nil && !at.IsZero() {
		if carried, is, problem := r.chooseCarried(ctx, l, a); is || problem != nil {
			return carried, problem
		}
	}
	switch {
	case apiclient.IsPassing(err):
		return netboot.Choice{Do: netboot.Disk, Name: a.String(), Address: a, Why: "the service does not answer"}, nil
	case err != nil:
		return c, err
	case at.IsZero(): // the service has said so now
		return c, r.hold.ready(ctx, c)
	}
	if c.Do != netboot.Environment || r.config.Now().Sub(at) > againFor {
		return netboot.Choice{Do: netboot.Disk, Name: c.Name, Address: a, Why: "the service does not answer"}, nil
	}
	c.Why, c.Service = fmt.Sprintf("the service does not answer; as it said at %s", at.Local().Format("15:04")), "https://"+l.Server
	if out.Spare != "" {
		c.Ticket, out.Spare = out.Spare, ""
		if err := r.records.Keep(ctx, at, keptChoice, a.String(), out); err != nil {
			return c, err
		}
	}
	return c, r.hold.ready(ctx, c)
}

// chooseCarried has a machine boot the environment that media carry a delivery for, and that has not received it; is tells whether
// there is such a delivery.
func (r *bootRoster) chooseCarried(ctx context.Context, l netboot.Loader, a hwaddr.Address) (c netboot.Choice, is bool, err error) {
	for _, place := range r.carried.whose([]hwaddr.Address{a}, roster.Identity{}) {
		if !r.deliveries.toDo(ctx, r.carried.member(place)) {
			continue
		}
		w := r.carried.Workstations[place]
		build, err := r.builds.Build(r.hold.offered(ctx))
		if err != nil {
			return c, false, err
		}
		c = netboot.Choice{Do: netboot.Environment, Name: w.Name, Address: a, Why: "the service does not answer; " + w.Label + " is here for it",
			Build: build.Number, Words: build.Words, Service: "https://" + l.Server, Ticket: rand.Text()}
		r.carried.ticketFor(a, c.Ticket)
		return c, true, nil
	}
	return c, false, nil
}

// EntryLoaded is boot.Roster's.
func (r *bootRoster) EntryLoaded(_ context.Context, a hwaddr.Address, file slabstore.Digest) {
	r.teller.loaded(a, file)
}

// Leases are boot.Roster's: an outpost keeps its own.
func (r *bootRoster) Leases(ctx context.Context) ([]netboot.Lease, error) {
	return outbox.All[netboot.Lease](ctx, r.records, keptLease)
}

// Lease is boot.Roster's.
func (r *bootRoster) Lease(ctx context.Context, l netboot.Lease) error {
	if !l.Address.IsValid() {
		return errors.New("a lease of no address")
	}
	return r.records.Keep(ctx, r.config.Now(), keptLease, l.Address.String(), l)
}

// Fixed are boot.Roster's, as the service told them last.
func (r *bootRoster) Fixed(ctx context.Context) (map[netip.Addr][]hwaddr.Address, error) {
	work, err := r.hold.work(ctx)
	fixed := map[netip.Addr][]hwaddr.Address{}
	for text, machines := range work.Fixed {
		if a, err := netip.ParseAddr(text); err == nil {
			fixed[a] = machines
		}
	}
	return fixed, err
}

var _ boot.Roster = (*bootRoster)(nil)
