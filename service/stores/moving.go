package stores

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"jugate/api"
	"jugate/core/fault"
	"jugate/core/packs"
	"jugate/core/slabstore"
	"jugate/records"
)

// againAfter is when a store that did not answer is tried again, and when all are looked through.
const againAfter = time.Minute

func (s *Stores) ring() {
	s.mu.Lock()
	defer s.mu.Unlock()
	select {
	case s.bell <- struct{}{}:
	default:
	}
}

// Wake has versions be moved now.
func (s *Stores) Wake() { s.ring() }

// Keep moves versions, and keeps the folder within its bound, until ctx ends. What was cut off is
// done again, without what was done by then.
func (s *Stores) Keep(ctx context.Context) {
	tick := time.NewTicker(againAfter)
	defer tick.Stop()
	for {
		if err := fault.Guard(func() error { return s.work(ctx) }); err != nil && ctx.Err() == nil {
			s.Log.Error("a store could not be served; it is tried again", "error", err)
		}
		select {
		case <-s.bell:
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

// work does what is to be done now.
func (s *Stores) work(ctx context.Context) error {
	s.mu.Lock()
	any := len(s.open) > 0
	s.mu.Unlock()
	if !any {
		return nil
	}
	alone := func(f func() error) error { // whoever else waits comes between
		s.changing.Lock()
		defer s.changing.Unlock()
		return f()
	}
	alone(func() error { s.refresh(ctx); return nil })
	all, err := s.Records.Moving(ctx)
	for _, v := range all {
		if one := alone(func() error { return s.moveOne(ctx, &v) }); one != nil {
			err = errors.Join(err, fmt.Errorf("%s cannot be moved to the store %s: %w", v.Ref(), v.MovesTo, one))
		}
	}
	return errors.Join(err, alone(func() error { return s.trim(ctx) }))
}

// refresh learns what is in stores that nobody has looked into since the start, or that were away.
func (s *Stores) refresh(ctx context.Context) {
	s.mu.Lock()
	var stale []*opened
	for _, o := range s.open {
		if !o.fresh || o.trouble != "" {
			stale = append(stale, o)
		}
	}
	s.mu.Unlock()
	for _, o := range stale {
		s.note(o, s.learn(ctx, o))
	}
}

func (s *Stores) learn(ctx context.Context, o *opened) error {
	if err := s.claim(ctx, o.objects); err != nil {
		return err
	}
	return o.packs.Refresh(ctx)
}

// note remembers whether a store has answered well.
func (s *Stores) note(o *opened, err error) {
	s.mu.Lock()
	was := o.trouble
	if o.trouble = ""; err != nil {
		o.trouble = err.Error()
	} else {
		o.fresh = true
	}
	now := o.trouble
	s.mu.Unlock()
	if was != now {
		s.Publish(api.StoresChanged{})
	}
}

// moveOne brings a version to where it is to be. All of it is there before the records say so.
func (s *Stores) moveOne(ctx context.Context, v *records.Version) error {
	_, slabs, err := s.Versions.Load(v)
	if err != nil {
		return err
	}
	var all []slabstore.Digest
	for _, d := range slabs.Distinct() {
		all = append(all, d)
	}
	if v.MovesTo == records.FolderStore {
		err = s.toFolder(ctx, all)
	} else {
		var o *opened
		if o, err = s.opened(v.MovesTo); err == nil {
			err = s.toStore(ctx, o, all)
			s.note(o, err)
		}
	}
	if err != nil {
		return err
	}
	if err := s.Records.MovedVersion(ctx, v.Ref(), v.MovesTo); err != nil {
		return err
	}
	s.Log.Info("version moved", "image", v.Ref(), "store", v.MovesTo, "slabs", len(all))
	s.Versions.Changed(ctx, v.Ref())
	s.Publish(api.StoresChanged{})
	return nil
}

func (s *Stores) toFolder(ctx context.Context, all []slabstore.Digest) error {
	folder := s.Slabs.Fast()
	for _, d := range all {
		if err := ctx.Err(); err != nil {
			return err
		}
		if _, err := folder.Check(d); err == nil {
			if err := folder.Sync(d); err != nil {
				return err
			}
			continue
		}
		plain, err := s.Slabs.Get(d)
		if err != nil {
			return err
		}
		if _, err := folder.Keep(d, slabstore.Compress(nil, plain)); err != nil {
			return err
		}
	}
	return folder.Flush()
}

// toStore puts slabs into a store. Those that lean go there as they are if what they lean on is
// there, and as frames otherwise. The store has taken each pack with a checksum, and tells its
// length, before it counts.
func (s *Stores) toStore(ctx context.Context, o *opened, all []slabstore.Digest) error {
	s.progress(o, 0, len(all))
	defer s.progress(o, 0, 0)
	done := 0
	for _, leaning := range []bool{false, true} {
		for _, d := range all {
			if err := ctx.Err(); err != nil {
				return err
			}
			if s.Slabs.Leans(d) != leaning {
				continue
			}
			done++
			s.progress(o, done, len(all))
			if o.packs.Has(d) {
				continue
			}
			content, err := s.stored(o, d, leaning)
			if err != nil {
				return err
			}
			if _, err := o.packs.Add(ctx, packs.Stored{Digest: d, Content: content}); err != nil {
				return err
			}
		}
	}
	if err := o.packs.Flush(ctx); err != nil {
		return err
	}
	for _, d := range all { // one may have changed between leaning and not
		if !o.packs.Has(d) {
			return fault.Conflict.Errorf("slab %s did not get there", d.Short())
		}
	}
	return nil
}

// stored is a slab as it goes into a store, checked.
func (s *Stores) stored(o *opened, d slabstore.Digest, leaning bool) ([]byte, error) {
	if leaning {
		if delta, err := s.Slabs.Delta(d); err == nil {
			if on, err := slabstore.BaseOf(delta); err == nil && o.packs.HasFrame(on) {
				base, err := s.Slabs.Get(on)
				if err != nil {
					return nil, err
				}
				if _, err := slabstore.ExpandDeltaChecked(nil, delta, base, d); err != nil {
					return nil, err
				}
				return delta, nil
			}
		}
	}
	frame, err := s.Slabs.Frame(d)
	if err != nil {
		return nil, err
	}
	if _, err := slabstore.ExpandChecked(nil, frame, d); err == nil {
		return frame, nil
	}
	plain, err := s.Slabs.Get(d) // which sets aside what is damaged, and finds another one if there is
	return slabstore.Compress(nil, plain), err
}

func (s *Stores) progress(o *opened, moved, of int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	o.moved, o.toMove = moved, of
}

// trim keeps what the folder has of slabs that are elsewhere within its bound. Those stay that a
// version in the folder needs, one that is moved, or an open delivery.
func (s *Stores) trim(ctx context.Context) error {
	use, err := s.Records.Storing(ctx)
	if err != nil {
		return err
	}
	stay, err := s.needed(ctx, func(v *records.Version) bool { return v.Store == records.FolderStore || v.MovesTo != "" })
	if err != nil {
		return err
	}
	open, _, err := s.Records.Deliveries(ctx, true, records.Page{})
	if err != nil {
		return err
	}
	for _, d := range open {
		more, err := s.needed(ctx, func(v *records.Version) bool { return v.Image == d.Image && v.Number == d.Version })
		if err != nil {
			return err
		}
		for d := range more {
			stay[d] = struct{}{}
		}
	}
	removed, bytes, left, err := s.Slabs.Trim(use.Cache, func(d slabstore.Digest) bool { _, needed := stay[d]; return !needed })
	s.mu.Lock()
	s.cached = left
	s.mu.Unlock()
	if removed > 0 {
		s.Log.Info("slabs that are elsewhere left the data folder", "slabs", removed, "bytes", bytes)
	}
	return err
}

// needed are the slabs of versions.
func (s *Stores) needed(ctx context.Context, which func(v *records.Version) bool) (map[slabstore.Digest]struct{}, error) {
	all, err := s.Records.AllVersions(ctx)
	if err != nil {
		return nil, err
	}
	out := map[slabstore.Digest]struct{}{}
	for _, v := range all {
		if v.Pruned.Valid || !which(&v) {
			continue
		}
		_, slabs, err := s.Versions.Load(&v)
		if err != nil {
			return nil, fmt.Errorf("nobody can tell what %s needs: %w", v.Ref(), err)
		}
		for _, d := range slabs.Distinct() {
			out[d] = struct{}{}
		}
	}
	return out, nil
}

// Prune gives up what no version needs of the stores elsewhere. unless removes slabs that nobody
// counts on, and tells which those were.
func (s *Stores) Prune(ctx context.Context, dryRun bool, unless func(d []slabstore.Digest, f func([]slabstore.Digest) error) error) (slabs int, bytes int64, err error) {
	s.changing.Lock()
	defer s.changing.Unlock()
	s.mu.Lock()
	open := map[string]*opened{}
	for name, o := range s.open {
		open[name] = o
	}
	s.mu.Unlock()
	for name, o := range open {
		needed, err := s.needed(ctx, func(v *records.Version) bool { return strings.EqualFold(v.Store, name) || v.MovesTo != "" })
		if err != nil {
			return slabs, bytes, err
		}
		kept, err := s.Backups(ctx, o.objects)
		if err != nil {
			return slabs, bytes, fmt.Errorf("nothing is removed from the store %s, as nobody can tell what its backups need: %w", name, err)
		}
		for d := range kept {
			needed[d] = struct{}{}
		}
		n, size, err := s.pruneOne(ctx, o, needed, dryRun, unless)
		if slabs, bytes = slabs+n, bytes+size; err != nil {
			return slabs, bytes, err
		}
		if dryRun {
			continue
		}
		if _, err = o.packs.Compact(ctx, s.Now()); err != nil {
			return slabs, bytes, fmt.Errorf("store %s: %w", name, err)
		}
	}
	return slabs, bytes, nil
}

func (s *Stores) pruneOne(ctx context.Context, o *opened, needed map[slabstore.Digest]struct{}, dryRun bool, unless func(d []slabstore.Digest, f func([]slabstore.Digest) error) error) (slabs int, bytes int64, err error) {
	for slab, err := range o.packs.All() {
		if err != nil {
			return 0, 0, err
		}
		if _, is := needed[slab.Digest]; is && slab.Leans {
			needed[slab.Base] = struct{}{}
		}
	}
	const some = 1000
	sizes := map[slabstore.Digest]int64{}
	var batch []slabstore.Digest
	drop := func() error {
		err := unless(batch, func(these []slabstore.Digest) error {
			for _, d := range these {
				slabs, bytes = slabs+1, bytes+sizes[d]
			}
			if dryRun {
				return nil
			}
			return o.packs.Drop(these...)
		})
		batch = batch[:0]
		clear(sizes)
		return err
	}
	for slab, err := range o.packs.All() {
		if err = errors.Join(err, ctx.Err()); err != nil {
			return slabs, bytes, err
		}
		if _, is := needed[slab.Digest]; is {
			continue
		}
		sizes[slab.Digest] = slab.Size
		if batch = append(batch, slab.Digest); len(batch) == some {
			if err := drop(); err != nil {
				return slabs, bytes, err
			}
		}
	}
	return slabs, bytes, drop()
}
