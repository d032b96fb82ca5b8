package intake

import (
	"context"
	"errors"
	"fmt"
	"sync"

	"jugate/api"
	"jugate/core/fault"
	"jugate/core/leaning"
	"jugate/core/roster"
	"jugate/core/slabstore"
	"jugate/records"
)

// lean has the slabs that new versions brought lean on those of the versions before them, one
// version after the other, in the background.
type lean struct {
	once sync.Once
	bell chan struct{} // rings for a new version; has room for one
	work sync.Mutex    // one version leans or settles at a time
}

func (l *lean) rings() chan struct{} {
	l.once.Do(func() { l.bell = make(chan struct{}, 1) })
	return l.bell
}

func (l *lean) wake() {
	select {
	case l.rings() <- struct{}{}:
	default:
	}
}

// KeepLeaning does that until ctx ends. What was cut off is done again.
func (k *Intake) KeepLeaning(ctx context.Context) {
	for {
		if err := fault.Guard(func() error { return k.leanAll(ctx) }); err != nil && ctx.Err() == nil {
			k.Log.Error("a version could not be told by the one before; it stays as it is until the next one comes", "error", err)
		}
		select {
		case <-k.lean.rings():
		case <-ctx.Done():
			return
		}
	}
}

func (k *Intake) leanAll(ctx context.Context) error {
	all, err := k.Records.Unleaned(ctx)
	for _, v := range all { // one that fails keeps none of the others from it
		if one := k.leanOne(ctx, &v); one != nil {
			err = errors.Join(err, fmt.Errorf("%s: %w", v.Ref(), one))
		}
	}
	return err
}

// leanOne has a version lean on the newest one before it that is there.
func (k *Intake) leanOne(ctx context.Context, v *records.Version) error {
	k.lean.work.Lock() // while the disk works: nobody settles what leans now
	defer k.lean.work.Unlock()
	all, err := k.Records.Versions(ctx, v.Image)
	if err != nil {
		return err
	}
	var done leaning.Done
	for _, before := range all { // the newest first
		if before.Number >= v.Number || before.Pruned.Valid {
			continue
		}
		if done, err = k.leanOn(ctx, before, *v); err != nil {
			return err
		}
		k.Log.Info("a version is told by the one before", "image", v.Ref(), "before", before.Ref(), "slabs", done.Slabs, "saved_bytes", done.Bytes)
		break
	}
	if err := k.Records.LeanVersion(ctx, k.Now(), v.Ref(), done.Bytes); err != nil {
		return err
	}
	if v, err = k.Records.Version(ctx, v.Ref()); err != nil {
		return err
	}
	k.Publish(VersionOf(*v))
	k.Stores.Wake()
	return nil
}

func (k *Intake) leanOn(ctx context.Context, before, after records.Version) (leaning.Done, error) {
	settled, err := k.settled(ctx)
	if err != nil {
		return leaning.Done{}, err
	}
	var two [2]leaning.Version
	for i, v := range []records.Version{before, after} {
		_, slabs, err := k.Load(&v)
		if err != nil {
			return leaning.Done{}, err
		}
		two[i] = leaning.Version{Slabs: slabs, Sketches: k.Files.Sketches(v.Ref())}
	}
	return leaning.Run(ctx, k.Slabs, two[0], two[1], func(d slabstore.Digest) bool { return settled[d] })
}

// settled are the slabs of versions that stand alone, and stay so.
func (k *Intake) settled(ctx context.Context) (map[slabstore.Digest]bool, error) {
	all, err := k.Records.AllVersions(ctx)
	if err != nil {
		return nil, err
	}
	stay := map[slabstore.Digest]bool{}
	for _, v := range all {
		if !v.Settled.Valid || v.Pruned.Valid {
			continue
		}
		_, slabs, err := k.Load(&v)
		if err != nil {
			return nil, err
		}
		for _, d := range slabs.Distinct() {
			stay[d] = true
		}
	}
	return stay, nil
}

// settledAtOnce is how many slabs stand alone before the disk is made sure of.
const settledAtOnce = 64

// Settle has every slab of a version stand alone, and stay so.
func (k *Intake) Settle(ctx context.Context, ref string) (api.Settled, error) {
	k.lean.work.Lock()
	defer k.lean.work.Unlock()
	row, _, slabs, err := k.opened(ctx, ref)
	if err != nil {
		return api.Settled{}, err
	}
	if row.Pruned.Valid {
		return api.Settled{}, fault.Conflict.Errorf("%s was pruned: its slabs are gone", row.Ref())
	}
	var out api.Settled
	var group []slabstore.Digest
	settle := func() error {
		if err := errors.Join(ctx.Err(), k.Room()); err != nil {
			return err
		}
		n, added, err := k.Slabs.Settle(group)
		out.Slabs, out.Bytes, group = out.Slabs+n, out.Bytes+added, group[:0]
		return err
	}
	for _, d := range slabs.Distinct() {
		if !k.Slabs.Leans(d) {
			continue
		}
		if group = append(group, d); len(group) == settledAtOnce {
			if err := settle(); err != nil {
				return out, err
			}
		}
	}
	if err := settle(); err != nil {
		return out, err
	}
	out.Version, err = k.setSettled(ctx, row.Ref(), out.Bytes)
	k.Log.Info("a version stands alone", "image", row.Ref(), "slabs", out.Slabs, "added_bytes", out.Bytes)
	return out, err
}

func (k *Intake) setSettled(ctx context.Context, ref roster.Ref, added int64) (api.Version, error) {
	return k.alter(ctx, ref.String(), func(v *records.Version) error { return k.Records.SettleVersion(ctx, k.Now(), v.Ref(), added) })
}
