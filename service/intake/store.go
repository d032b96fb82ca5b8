package intake

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"runtime"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"jugate/api"
	"jugate/core/fault"
	"jugate/core/image"
	"jugate/core/roster"
	"jugate/core/slabstore"
	"jugate/records"
)

// Verify reads every slab of a version and checks its digest.
func (k *Intake) Verify(ctx context.Context, ref string) (api.Verification, error) {
	row, man, slabs, err := k.opened(ctx, ref)
	if err != nil {
		return api.Verification{}, err
	}
	if row.Pruned.Valid {
		return api.Verification{}, fault.Conflict.Errorf("%s was pruned: its slabs are gone, and there is nothing to verify", row.Ref())
	}
	return k.verify(ctx, row.Ref(), man, slabs)
}

// keepState keeps beside a version what the records say of it.
func (k *Intake) keepState(ctx context.Context, ref roster.Ref) error {
	v, err := k.Records.Version(ctx, ref)
	if err != nil {
		return err
	}
	state := image.State{Note: v.Note}
	state.Retired = records.TimeOf(v.Retired)
	state.Pruned, state.Expires, state.Settled = records.TimeOf(v.Pruned), records.TimeOf(v.Expires), records.TimeOf(v.Settled)
	return k.Files.SetState(v.Ref(), state)
}

// KeepStates writes the state files of versions that have none, as earlier releases did
// not write them.
func (k *Intake) KeepStates(ctx context.Context) error {
	rows, err := k.Records.AllVersions(ctx)
	if err != nil {
		return err
	}
	for _, v := range rows {
		if state, err := k.Files.State(v.Ref()); err == nil && state == (image.State{}) && (v.Note != "" || v.Retired.Valid || v.Pruned.Valid) {
			if err := k.keepState(ctx, v.Ref()); err != nil {
				k.Log.Warn("what was said of a version cannot be kept beside it", "image", v.Ref(), "error", err)
			}
		}
	}
	return nil
}

// maxFaults is how many faults a verification lists.
const maxFaults = 100

func (k *Intake) verify(parent context.Context, ref roster.Ref, man *image.Manifest, slabs *image.Map) (api.Verification, error) {
	out := api.Verification{Image: ref.Image, Version: ref.Version, Faults: []api.Fault{}}
	var mu sync.Mutex
	group, ctx := errgroup.WithContext(parent)
	group.SetLimit(2 * runtime.GOMAXPROCS(0))
	for i, d := range slabs.Distinct() {
		if ctx.Err() != nil {
			break
		}
		group.Go(func() error {
			size, err := k.Slabs.Check(d)
			mu.Lock()
			defer mu.Unlock()
			out.Slabs++
			out.Bytes += size
			if err == nil {
				return nil
			}
			if out.Faulty++; len(out.Faults) < maxFaults {
				slab := slabs.Slab(i)
				out.Faults = append(out.Faults, api.Fault{Digest: d.String(), Partition: man.Areas[slab.Area].Partition, Start: slab.Start, What: err.Error()})
			}
			return nil
		})
	}
	group.Wait()
	out.Sound = out.Faulty == 0
	if !out.Sound {
		k.Log.Error("a version is damaged", "image", ref, "faulty_slabs", out.Faulty)
	}
	return out, parent.Err()
}

// Prune removes slabs that no version in use needs, no open upload counts on, and
// no open delivery sends. Retired versions that are not being delivered are given
// up first, so that nobody takes them back meanwhile.
func (k *Intake) Prune(ctx context.Context, dryRun bool) (api.Pruned, error) {
	return k.prune(ctx, dryRun, func(records.Version) bool { return true })
}

// Expire gives up disks that were saved before they were erased, once their time is over, with the slabs that they alone need. Other
// versions that are retired keep theirs.
func (k *Intake) Expire(ctx context.Context) {
	over, err := k.Records.Expired(ctx, k.Now())
	for _, v := range over {
		if err == nil {
			err = k.Records.RetireVersion(ctx, k.Now(), v.Ref())
		}
	}
	if err == nil && len(over) > 0 {
		_, err = k.prune(ctx, false, func(v records.Version) bool { return v.Expires.Valid && v.Expires.Time.Before(k.Now()) })
	}
	if err = errors.Join(err, k.expireFolders(ctx)); err != nil && ctx.Err() == nil {
		k.Log.Error("disks that were saved and whose time is over could not be given up; they are when that is tried again", "error", err)
	}
}

// prune gives up retired versions, those alone that may be.
func (k *Intake) prune(ctx context.Context, dryRun bool, may func(v records.Version) bool) (api.Pruned, error) {
	out := api.Pruned{DryRun: dryRun, Versions: []string{}}
	if !k.pins.begin() {
		return out, fault.Conflict.Errorf("a prune is under way already")
	}
	defer k.pins.end()
	running, err := k.Records.RunningCaptures(ctx)
	if err != nil {
		return out, err
	}
	for _, e := range running {
		// A capture that began before the service was restarted counts on slabs that are
		// not pinned any more.
		if p, known := k.Fleet.Activity(e.WorkstationID); known && !k.pins.holds(uploadOf(e.ID)) && p.Total > 0 {
			return out, fault.Conflict.Errorf("%s is capturing since before the service was started; wait until it is through", e.Workstation)
		}
	}
	needed, err := k.needed(ctx, dryRun, may, &out)
	if err != nil {
		return out, err
	}
	leanedOn := map[slabstore.Digest]struct{}{}
	for _, leaning := range []bool{true, false} { // those that lean go first
		for slab, err := range k.Slabs.All() {
			if err != nil {
				return out, err
			}
			if err := ctx.Err(); err != nil {
				return out, err
			}
			if slab.Leans != leaning {
				continue
			}
			if err := k.sweep(slab, needed, leanedOn, dryRun, &out); err != nil {
				return out, err
			}
		}
	}
	slabs, bytes, err := k.Stores.Prune(ctx, dryRun, k.pins.unlessHeld)
	out.Slabs, out.Bytes = out.Slabs+slabs, out.Bytes+bytes
	if err != nil {
		return out, err
	}
	if !dryRun {
		k.Log.Info("store pruned", "slabs", out.Slabs, "bytes", out.Bytes, "versions", out.Versions)
	}
	return out, nil
}

// sweep removes a slab, unless somebody needs it or leans on it.
func (k *Intake) sweep(slab slabstore.Slab, needed, leanedOn map[slabstore.Digest]struct{}, dryRun bool, out *api.Pruned) error {
	_, keep := needed[slab.Digest]
	if !keep {
		_, leaned := leanedOn[slab.Digest]
		free, err := k.pins.unless(slab.Digest, func() error {
			if dryRun || leaned {
				return nil
			}
			return k.Slabs.Remove(slab.Digest)
		})
		if leaned = leaned || errors.Is(err, slabstore.ErrLeanedOn); leaned { // perhaps since a moment ago
			out.LeanedOn++
			out.LeanedBytes += slab.Size
		} else if err != nil {
			return err
		}
		keep = leaned || !free
	}
	if !keep {
		out.Slabs++
		out.Bytes += slab.Size
		return nil
	}
	out.Kept++
	if slab.Leans {
		leanedOn[slab.Base] = struct{}{}
	}
	return nil
}

// needed gathers the digests that versions need. If one cannot be read, nothing
// may be removed.
func (k *Intake) needed(ctx context.Context, dryRun bool, may func(v records.Version) bool, out *api.Pruned) (map[slabstore.Digest]struct{}, error) {
	rows, err := k.Records.AllVersions(ctx)
	if err != nil {
		return nil, err
	}
	open, _, err := k.Records.Deliveries(ctx, true, records.Page{})
	if err != nil {
		return nil, err
	}
	delivered := map[roster.Ref]bool{}
	for _, d := range open {
		delivered[roster.Ref{Image: d.Image, Version: d.Version}] = true
	}
	needed := map[slabstore.Digest]struct{}{}
	for _, v := range rows {
		if v.Pruned.Valid {
			continue
		}
		if v.Retired.Valid && !delivered[v.Ref()] && may(v) {
			if !dryRun {
				err := k.Records.SweepVersion(ctx, k.Now(), v.Ref())
				if errors.Is(err, fault.Conflict) { // somebody wants it again
					v.Retired.Valid = false
				} else if err != nil {
					return nil, err
				} else if err := k.keepState(ctx, v.Ref()); err != nil {
					return nil, err
				}
			}
			if v.Retired.Valid {
				out.Versions = append(out.Versions, v.Ref().String())
				continue
			}
		}
		_, slabs, err := k.Load(&v)
		if err != nil {
			return nil, fmt.Errorf("nothing is removed, as nobody can tell what %s needs: %w", v.Ref(), err)
		}
		for _, d := range slabs.Distinct() {
			needed[d] = struct{}{}
		}
	}
	return needed, nil
}

// nobodys is a saved disk of which is not known any more whose it was: it goes onto no workstation.
const nobodys = -1

// Unrecorded are the versions that have files, and that the records do not know: the records are older than the files, or were begun
// anew.
func (k *Intake) Unrecorded(ctx context.Context) (unknown []roster.Ref, err error) {
	k.captures.commit.Lock() // a version has its files first
	defer k.captures.commit.Unlock()
	refs, err := k.Files.All()
	if err != nil {
		return nil, err
	}
	rows, err := k.Records.AllVersions(ctx)
	if err != nil {
		return nil, err
	}
	known := map[string]bool{}
	for i := range rows {
		known[rows[i].Ref().String()] = true
	}
	return slices.DeleteFunc(refs, func(r roster.Ref) bool { return known[r.String()] }), nil
}

// Rescan compares the files of versions with the records, and adds the versions that the
// records lack.
func (k *Intake) Rescan(ctx context.Context) (api.Rescanned, error) {
	out := api.Rescanned{Versions: []string{}, Broken: []string{}}
	k.captures.commit.Lock()
	defer k.captures.commit.Unlock()
	refs, err := k.Files.All()
	if err != nil {
		return out, err
	}
	for _, ref := range refs {
		name, _ := k.Files.Paths(ref)
		text, err := os.ReadFile(name)
		if err != nil {
			return out, err
		}
		digest := slabstore.Sum(text)
		row, err := k.Records.Version(ctx, ref)
		if err == nil {
			if row.Digest != digest.String() {
				out.Broken = append(out.Broken, fmt.Sprintf("%s: the manifest is not the one in the records", ref))
			} else {
				out.Known++
			}
			continue
		}
		if !errors.Is(err, fault.NotFound) {
			return out, err
		}
		if err := roster.CheckName("an image", ref.Image); err != nil {
			out.Broken = append(out.Broken, fmt.Sprintf("%s: %v", ref, err))
			continue
		}
		man, _, err := k.Files.Load(ref, digest)
		if err != nil {
			out.Broken = append(out.Broken, fmt.Sprintf("%s: %v", ref, err))
			continue
		}
		state, err := k.Files.State(ref)
		if err != nil {
			out.Broken = append(out.Broken, fmt.Sprintf("%s: what was said of it (state.json): %v", ref, err))
			continue
		}
		v := recorded(ref, man, text)
		v.Note = cmp.Or(state.Note, "found again by a rescan")
		v.Retired, v.Pruned, v.Expires, v.Settled = records.NullTime(state.Retired), records.NullTime(state.Pruned), records.NullTime(state.Expires), records.NullTime(state.Settled)
		if v.Expires.Valid {
			v.PrivateOf = nobodys
		}
		if err := k.Records.AddVersion(ctx, k.Now(), 0, v); err != nil {
			return out, err
		}
		out.Versions = append(out.Versions, ref.String())
		k.Publish(VersionOf(v))
	}
	k.Log.Info("images rescanned", "known", out.Known, "added", out.Versions, "broken", out.Broken)
	return out, nil
}
