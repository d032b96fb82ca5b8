package service

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/http"
	"os"
	"runtime"
	"sync"
	"time"

	"jugate/core/fault"

	"github.com/danielgtaylor/huma/v2"
	"golang.org/x/sync/errgroup"

	"jugate/api"
	"jugate/core/image"
	"jugate/core/roster"
	"jugate/core/slabstore"
	"jugate/records"
)

// What concerns the store as a whole: are all slabs of a version sound, which are
// needed by nobody, and which versions are there that the records do not know.

func (s *Service) storeRoutes(h huma.API) {
	tags := []string{"store"}
	huma.Register(h, huma.Operation{
		OperationID: "verify-version", Method: http.MethodPost, Path: "/versions/{ref}/verify", Tags: tags, Summary: "Read every slab of a version and check its digest",
	}, func(ctx context.Context, in *VersionRef) (*reply[api.Verification], error) {
		row, man, slabs, err := s.opened(ctx, in.Ref)
		if err != nil {
			return nil, problem(err)
		}
		return answer(s.verify(ctx, row.Ref(), man, slabs))
	})

	huma.Register(h, huma.Operation{
		OperationID: "prune", Method: http.MethodPost, Path: "/store/prune", Tags: tags, Summary: "Remove the slabs that no version in use needs",
	}, func(ctx context.Context, in *struct{ Body api.NewPrune }) (*reply[api.Pruned], error) {
		return answer(s.prune(ctx, in.Body.DryRun))
	})

	huma.Register(h, huma.Operation{
		OperationID: "rescan", Method: http.MethodPost, Path: "/store/rescan", Tags: tags, Summary: "Enter into the records what versions have files but no record",
	}, func(ctx context.Context, _ *struct{}) (*reply[api.Rescanned], error) {
		return answer(s.rescan(ctx))
	})
}

// keepState keeps beside a version what the records say of it.
func (s *Service) keepState(ctx context.Context, ref roster.Ref) error {
	v, err := s.records.Version(ctx, ref)
	if err != nil {
		return err
	}
	state := image.State{Note: v.Note}
	state.Retired = timeOf(v.Retired)
	state.Swept = timeOf(v.Swept)
	return s.files.SetState(v.Ref(), state)
}

// timeOf is nil where there is none.
func timeOf(t sql.NullTime) *time.Time {
	if !t.Valid {
		return nil
	}
	return &t.Time
}

func nullTime(t *time.Time) sql.NullTime {
	if t == nil {
		return sql.NullTime{}
	}
	return sql.NullTime{Time: *t, Valid: true}
}

// keepStates keeps the state of versions of which none is kept yet, as earlier versions
// of the service left them.
func (s *Service) keepStates(ctx context.Context) error {
	rows, err := s.records.AllVersions(ctx)
	if err != nil {
		return err
	}
	for _, v := range rows {
		if state, err := s.files.State(v.Ref()); err == nil && state == (image.State{}) && (v.Note != "" || v.Retired.Valid || v.Swept.Valid) {
			if err := s.keepState(ctx, v.Ref()); err != nil {
				s.log.Warn("what was said of a version cannot be kept beside it", "image", v.Ref(), "error", err)
			}
		}
	}
	return nil
}

// maxFaults is how many faults a verification lists.
const maxFaults = 100

func (s *Service) verify(parent context.Context, ref roster.Ref, man *image.Manifest, slabs *image.Map) (api.Verification, error) {
	out := api.Verification{Image: ref.Image, Version: ref.Version, Faults: []api.Fault{}}
	var mu sync.Mutex
	group, ctx := errgroup.WithContext(parent)
	group.SetLimit(2 * runtime.GOMAXPROCS(0))
	for i, d := range slabs.Distinct() {
		if ctx.Err() != nil {
			break
		}
		group.Go(func() error {
			size, err := s.slabs.Check(d)
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
		s.log.Error("a version is damaged", "image", ref, "faulty_slabs", out.Faulty)
	}
	return out, parent.Err()
}

// prune removes slabs that no version in use needs, no open upload counts on, and
// no open delivery sends. Retired versions that are not being delivered are given
// up first, so that nobody takes them back meanwhile.
func (s *Service) prune(ctx context.Context, dryRun bool) (api.Pruned, error) {
	out := api.Pruned{DryRun: dryRun, Versions: []string{}}
	if !s.pins.begin() {
		return out, fault.Conflict.Errorf("a prune is under way already")
	}
	defer s.pins.end()
	running, err := s.records.RunningCaptures(ctx)
	if err != nil {
		return out, err
	}
	for _, e := range running {
		// One that began before the service was started has been told of slabs that
		// nothing here remembers.
		if p, known := s.agents.presence(e.WorkstationID); known && !s.pins.holds(uploadOf(e.ID)) && p.activity.Total > 0 {
			return out, fault.Conflict.Errorf("%s is capturing since before the service was started; wait until it is through", e.Workstation)
		}
	}
	needed, err := s.needed(ctx, dryRun, &out)
	if err != nil {
		return out, err
	}
	for slab, err := range s.slabs.All() {
		if err != nil {
			return out, err
		}
		if err := ctx.Err(); err != nil {
			return out, err
		}
		if _, keep := needed[slab.Digest]; keep {
			out.Kept++
			continue
		}
		removed, err := s.pins.unless(slab.Digest, func() error {
			if dryRun {
				return nil
			}
			return s.slabs.Remove(slab.Digest)
		})
		if err != nil {
			return out, err
		}
		if !removed {
			out.Kept++
			continue
		}
		out.Slabs++
		out.Bytes += slab.Size
	}
	if !dryRun {
		s.log.Info("store pruned", "slabs", out.Slabs, "bytes", out.Bytes, "versions", out.Versions)
	}
	return out, nil
}

// needed gathers the digests that versions need. If one cannot be read, nothing
// may be removed.
func (s *Service) needed(ctx context.Context, dryRun bool, out *api.Pruned) (map[slabstore.Digest]struct{}, error) {
	rows, err := s.records.AllVersions(ctx)
	if err != nil {
		return nil, err
	}
	open, _, err := s.records.Deliveries(ctx, true, records.Page{})
	if err != nil {
		return nil, err
	}
	delivered := map[roster.Ref]bool{}
	for _, d := range open {
		delivered[roster.Ref{Image: d.Image, Version: d.Version}] = true
	}
	needed := map[slabstore.Digest]struct{}{}
	for _, v := range rows {
		if v.Swept.Valid {
			continue
		}
		if v.Retired.Valid && !delivered[v.Ref()] {
			if !dryRun {
				err := s.records.SweepVersion(ctx, s.config.Now(), v.Ref())
				if errors.Is(err, fault.Conflict) { // somebody wants it again
					v.Retired.Valid = false
				} else if err != nil {
					return nil, err
				} else if err := s.keepState(ctx, v.Ref()); err != nil {
					return nil, err
				}
			}
			if v.Retired.Valid {
				out.Versions = append(out.Versions, v.Ref().String())
				continue
			}
		}
		_, slabs, err := s.load(&v)
		if err != nil {
			return nil, fmt.Errorf("nothing is removed, as nobody can tell what %s needs: %w", v.Ref(), err)
		}
		for _, d := range slabs.Distinct() {
			needed[d] = struct{}{}
		}
	}
	return needed, nil
}

// rescan holds the files of versions against the records, and enters what is
// missing there.
func (s *Service) rescan(ctx context.Context) (api.Rescanned, error) {
	out := api.Rescanned{Added: []string{}, Broken: []string{}}
	s.captures.commit.Lock()
	defer s.captures.commit.Unlock()
	refs, err := s.files.All()
	if err != nil {
		return out, err
	}
	for _, ref := range refs {
		name, _ := s.files.Paths(ref)
		text, err := os.ReadFile(name)
		if err != nil {
			return out, err
		}
		digest := slabstore.Sum(text)
		row, err := s.records.Version(ctx, ref)
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
		man, _, err := s.files.Load(ref, digest)
		if err != nil {
			out.Broken = append(out.Broken, fmt.Sprintf("%s: %v", ref, err))
			continue
		}
		state, err := s.files.State(ref)
		if err != nil {
			out.Broken = append(out.Broken, fmt.Sprintf("%s: what was said of it (state.json): %v", ref, err))
			continue
		}
		v := recorded(ref, man, text)
		v.Note = cmp.Or(state.Note, "found again by a rescan")
		v.Retired, v.Swept = nullTime(state.Retired), nullTime(state.Swept)
		if err := s.records.AddVersion(ctx, s.config.Now(), 0, v); err != nil {
			return out, err
		}
		out.Added = append(out.Added, ref.String())
		s.events.publish(version(v))
	}
	s.log.Info("images rescanned", "known", out.Known, "added", out.Added, "broken", out.Broken)
	return out, nil
}
