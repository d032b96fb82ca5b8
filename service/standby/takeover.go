package standby

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"jugate/core/backup"
	"jugate/core/fault"
	"jugate/core/lease"
	"jugate/core/objects"
	"jugate/records/replica"
)

// TakeOver says how another machine becomes the service.
type TakeOver struct {
	Dir     string // the data folder that is made
	Machine string
	At      []string
	// AsOf has the records be as they were then; as they are in the copy if it is zero.
	AsOf time.Time
	// Wait goes on waiting while a machine is the service.
	Wait bool
	// Watching is told of the machine that is waited for.
	Watching func(lease.Lease)
	Log      *slog.Logger
}

// TakenOver is what came of it.
type TakenOver struct {
	Held *lease.Held // is to be handed to Standby
	From int64       // the term that the copy is of
	// Took is how long it took from when nobody was the service any more, as far as was seen, to here.
	Took time.Duration
}

// Run takes the lease, and makes a data folder of the newest copy in a store. The lease is kept until ctx
// ends; Standby keeps it from then on.
func (o TakeOver) Run(ctx context.Context, store objects.Store) (out TakenOver, err error) {
	if left, err := os.ReadDir(o.Dir); err == nil && len(left) > 0 {
		return out, fault.Conflict.Errorf("%s is not empty: a takeover makes a data folder of its own", o.Dir)
	}
	l, _, err := lease.Read(ctx, store)
	if errors.Is(err, objects.ErrNotFound) {
		return out, fault.NotFound.Errorf("no service keeps a copy there: jugate standby use begins to")
	}
	if err != nil {
		return out, err
	}
	id := identity{Holder: rand.Text()}
	if out.Held, err = lease.Take(ctx, store, lease.Lease{Service: l.Service, Holder: id.Holder, Machine: o.Machine, At: o.At, For: l.For}, lease.Options{Wait: o.Wait, Watching: o.Watching}); err != nil {
		return out, err
	}
	began := time.Now()
	until, stop := context.WithCancel(ctx)
	lost := make(chan error, 1)
	go func() { lost <- out.Held.Keep(until, func(error) {}) }()
	id.Term = out.Held.Term()
	out.From, err = o.restore(ctx, store, id)
	stop()
	if taken := <-lost; taken != nil || err != nil { // a try that failed leaves it free
		return out, errors.Join(err, taken, out.Held.Give(context.WithoutCancel(ctx)))
	}
	out.Took = time.Since(began)
	return out, nil
}

// restore makes the data folder of the newest term that has all that is needed.
func (o TakeOver) restore(ctx context.Context, store objects.Store, id identity) (int64, error) {
	newest, err := terms(ctx, store, id.Term)
	if err != nil {
		return 0, err
	}
	for _, term := range newest {
		folder := termFolder(term)
		b, err := backup.Live(ctx, store, folder+backup.LiveName)
		if errors.Is(err, objects.ErrNotFound) { // it was over before anything was copied
			continue
		}
		if err != nil {
			return 0, err
		}
		err = backup.RestoreWith(ctx, store, b, o.Dir, func(dir string) error {
			if err := replica.Restore(ctx, store, folder, filepath.Join(dir, "jugate.db"), o.AsOf, o.Log); err != nil {
				return err
			}
			head, err := objects.Read(ctx, store, folder+"newest.head", 64<<10)
			if err == nil {
				err = os.WriteFile(filepath.Join(dir, "newest.head"), head, 0o640)
			} else if errors.Is(err, objects.ErrNotFound) {
				err = nil
			}
			return errors.Join(err, os.Chmod(filepath.Join(dir, "jugate.db"), 0o600), id.keep(dir))
		})
		if errors.Is(err, replica.ErrNone) {
			continue
		}
		return term, err
	}
	return 0, fault.NotFound.Errorf("there is no whole copy of the service there")
}

// terms are those before one of which there is a copy, the newest first.
func terms(ctx context.Context, store objects.Store, before int64) (all []int64, err error) {
	seen := map[int64]bool{}
	for o, err := range store.List(ctx, backup.LiveFolder) {
		if err != nil {
			return nil, err
		}
		text, _, _ := strings.Cut(strings.TrimPrefix(o.Name, backup.LiveFolder), "/")
		if n, err := strconv.ParseInt(text, 10, 64); err == nil && n < before {
			seen[n] = true
		}
	}
	all = slices.SortedFunc(maps.Keys(seen), func(a, b int64) int { return cmp.Compare(b, a) })
	if len(all) == 0 {
		return nil, fmt.Errorf("%w: no copy of the service", objects.ErrNotFound)
	}
	return all, nil
}
