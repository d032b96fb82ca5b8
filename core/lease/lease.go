// Package lease lets one of several machines be the service: who holds a lease among objects, and nobody
// else. Each holder has a term, a number that only grows; what it writes elsewhere it writes under that.
//
//	held, err := lease.Take(ctx, store, lease.Lease{Service: fingerprint, Holder: id}, lease.Options{})
//	go held.Keep(ctx)
//	if held.Valid() {
//		// nobody else can have taken it
//	}
//
// No two machines' clocks are compared. A holder renews the lease again and again, and counts from before it asked
// for that; whoever waits for it counts from after it has seen a lease, and takes it when that was not
// renewed for longer than any holder goes without.
package lease

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"jugate/core/fault"
	"jugate/core/objects"
)

// For is how long a lease that is not renewed is good, unless it says otherwise: a holder stops after
// three quarters of it, and another one takes it after all of it.
const For = 20 * time.Second

// Name is the object that a lease is.
const Name = "live/lease.json"

const format = "jugate lease 1"

var (
	// ErrHeld says that somebody else holds the lease.
	ErrHeld = fault.Conflict.Errorf("another machine is the service")
	// ErrTaken says that somebody else has taken it.
	ErrTaken = fault.Conflict.Errorf("another machine has become the service")
	// ErrOther says that it is the lease of something else.
	ErrOther = fault.Conflict.Errorf("the place is another service's")
	// ErrOver says that the service goes on without a lease.
	ErrOver = fault.Conflict.Errorf("the service keeps no copy there any more, and may be running without one")
)

// Lease says who is the service.
type Lease struct {
	Format  string        `json:"format"`
	Service string        `json:"service"` // the fingerprint of its authority
	Term    int64         `json:"term"`    // of this holder: each one's is greater than that of all before
	Holder  string        `json:"holder"`  // tells its data folder from every other one
	Machine string        `json:"machine"` // what people call it
	At      []string      `json:"at"`      // where it answers
	For     time.Duration `json:"for"`     // nanoseconds
	Renewed time.Time     `json:"renewed"` // by its own clock, for people
	Given   bool          `json:"given"`   // back: nobody holds it
	Over    bool          `json:"over"`    // its holder goes on without it: nobody else may take it
	Nonce   string        `json:"nonce"`   // whose write it is, and which of them
}

// Held is a lease that this machine holds.
type Held struct {
	store objects.Store
	id    string // that its writes can be told by

	renewing sync.Mutex // one write at a time; held across it
	writes   int

	mu    sync.Mutex
	lease Lease
	tag   string
	until time.Time
	taken error

	wall func() time.Time // the clock that goes on while this machine sleeps
}

// Options say how a lease is taken.
type Options struct {
	// Wait goes on waiting for a holder that is alive.
	Wait bool
	// Watching is told of the holder that is waited for.
	Watching func(Lease)
}

// Read tells who holds the lease. Errors wrap objects.ErrNotFound if nobody ever did.
func Read(ctx context.Context, store objects.Store) (l Lease, tag string, err error) {
	before, err := store.Stat(ctx, Name)
	if err != nil {
		return l, "", err
	}
	raw, err := objects.Read(ctx, store, Name, 64<<10)
	if err != nil {
		return l, "", err
	}
	if err := json.Unmarshal(raw, &l); err != nil || l.Format != format || l.Term < 1 || l.For <= 0 || l.For > time.Hour {
		return l, "", fault.Invalid.Errorf("%s is no lease", Name)
	}
	// Between the two it may have been renewed: then a write on the tag fails, and it is read again.
	return l, before.Tag, nil
}

// Take takes the lease, and returns when it is this machine's. Errors wrap ErrHeld, ErrOther, ErrOver,
// or are the store's.
func Take(ctx context.Context, store objects.Store, mine Lease, o Options) (*Held, error) {
	if mine.For == 0 {
		mine.For = For
	}
	mine.Format = format
	var watched seen // what is waited for, and since when
	var since time.Time
	old := "" // a tag that has been there for as long as a lease is good
	for {
		h, now, err := try(ctx, store, mine, old)
		if h != nil {
			return h, nil
		}
		switch old = ""; {
		case errors.Is(err, objects.ErrCondition):
			continue // somebody was faster: look again
		case err != nil:
			return nil, err
		case watched.tag == "" || o.Wait && now.tag != watched.tag:
			if watched, since = now, time.Now(); o.Watching != nil {
				o.Watching(now.lease)
			}
		case now.tag != watched.tag:
			return nil, fmt.Errorf("%w: %s, in term %d, renewed at %s by its clock", ErrHeld, now.lease.Machine, now.lease.Term, now.lease.Renewed.Format(time.RFC3339))
		case time.Since(since) >= now.lease.For:
			old = now.tag
			continue
		}
		select {
		case <-time.After(now.lease.For / 20):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

type seen struct {
	lease Lease
	tag   string
}

// try takes the lease if nobody holds it, or whoever holds it has not renewed it since it had a tag; if
// somebody does, it tells who.
func try(ctx context.Context, store objects.Store, mine Lease, old string) (*Held, seen, error) {
	l, tag, err := Read(ctx, store)
	when := objects.Condition(tag)
	switch {
	case errors.Is(err, objects.ErrNotFound):
		mine.Term, when = 1, objects.Absent
	case err != nil:
		return nil, seen{}, err
	case l.Service != mine.Service:
		return nil, seen{}, ErrOther
	case l.Holder == mine.Holder:
		mine.Term = l.Term
	case l.Over:
		return nil, seen{}, ErrOver
	case l.Given || tag == old:
		mine.Term = l.Term + 1
	default:
		return nil, seen{l, tag}, nil
	}
	h := &Held{store: store, id: rand.Text(), lease: mine, wall: func() time.Time { return time.Now().Round(0) }}
	if err := h.write(ctx, when); err != nil {
		return nil, seen{}, err
	}
	return h, seen{}, nil
}

// write renews it from now on, on a condition.
func (h *Held) write(ctx context.Context, when objects.Condition) error {
	h.mu.Lock()
	l := h.lease
	h.mu.Unlock()
	h.writes++
	asked := time.Now()
	l.Renewed, l.Nonce = asked.UTC(), fmt.Sprint(h.id, " ", h.writes)
	text, err := json.Marshal(l)
	if err != nil {
		return err
	}
	tag, err := h.store.Put(ctx, Name, text, when)
	for errors.Is(err, objects.ErrCondition) { // it may be a write of this holder's, of which the answer was lost
		now, its, readErr := Read(ctx, h.store)
		switch mine := strings.HasPrefix(now.Nonce, h.id+" "); {
		case readErr != nil && !errors.Is(readErr, objects.ErrNotFound):
			return readErr
		case !mine:
			return err
		case now.Nonce == l.Nonce:
			tag, err = its, nil
		default: // an earlier one
			tag, err = h.store.Put(ctx, Name, text, objects.Condition(its))
		}
	}
	if err != nil {
		return err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	h.lease, h.tag, h.until = l, tag, asked.Add(l.For*3/4)
	return nil
}

// Term is that of this holder.
func (h *Held) Term() int64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.lease.Term
}

// Lease is what it says now.
func (h *Held) Lease() Lease {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.lease
}

// Valid tells whether nobody else can have taken it. Both clocks of this machine have to say so: one stands
// still while it sleeps, and the other is set now and then.
func (h *Held) Valid() bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.taken == nil && time.Now().Before(h.until) && h.wall().Before(h.until.Round(0))
}

// Renew renews it now. An error that wraps ErrTaken is for good.
func (h *Held) Renew(ctx context.Context) error {
	h.renewing.Lock()
	defer h.renewing.Unlock()
	h.mu.Lock()
	tag, taken, half := h.tag, h.taken, h.lease.For/2
	h.mu.Unlock()
	if taken != nil {
		return taken
	}
	ctx, cancel := context.WithTimeout(ctx, half)
	defer cancel()
	err := h.write(ctx, objects.Condition(tag))
	if !errors.Is(err, objects.ErrCondition) {
		return err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	h.taken = ErrTaken
	if l, _, err := Read(ctx, h.store); err == nil {
		h.taken = fmt.Errorf("%w: %s, in term %d", ErrTaken, l.Machine, l.Term)
	}
	return h.taken
}

// Keep renews it until ctx ends, which is no error, or somebody else has taken it. said is told how each
// try went.
func (h *Held) Keep(ctx context.Context, said func(error)) error {
	tick := time.NewTicker(h.Lease().For / 5)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
		case <-ctx.Done():
			return nil
		}
		if err := h.Renew(ctx); errors.Is(err, ErrTaken) {
			return err
		} else if ctx.Err() == nil {
			said(err)
		}
	}
}

// Give gives it back, so that the next one need not wait.
func (h *Held) Give(ctx context.Context) error {
	return h.last(ctx, func(l *Lease) { l.Given = true })
}

// End says that the holder goes on without it, so that nobody else takes it. If that cannot be said, it
// is held as before.
func (h *Held) End(ctx context.Context) error {
	return h.last(ctx, func(l *Lease) { l.Over = true })
}

// last writes it for the last time.
func (h *Held) last(ctx context.Context, change func(*Lease)) error {
	h.renewing.Lock()
	defer h.renewing.Unlock()
	h.mu.Lock()
	was, tag, taken := h.lease, h.tag, h.taken
	if taken == nil {
		change(&h.lease)
	}
	h.mu.Unlock()
	if taken != nil {
		return taken
	}
	err := h.write(ctx, objects.Condition(tag))
	h.mu.Lock()
	defer h.mu.Unlock()
	if err != nil {
		h.lease = was
		return err
	}
	h.taken = ErrTaken
	return nil
}
