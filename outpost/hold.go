package outpost

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"sync/atomic"

	"golang.org/x/sync/singleflight"
	"golang.org/x/time/rate"

	"jugate/api"
	"jugate/boot"
	"jugate/core/environment/builds"
	"jugate/core/fault"
	"jugate/core/netboot"
	"jugate/core/parts"
	"jugate/core/slabstore"
)

// hold has builds and files of boot entries come over the line: those that the service says, ahead of time, and those that a
// machine waits for, at once.
type hold struct {
	o       *Outpost
	scratch string
	flights singleflight.Group // by what is fetched
	fetched atomic.Int64       // bytes over the line, those of slabs too
}

// work is what the service said last, or what media carry; nothing if it never said anything.
func (h *hold) work(ctx context.Context) (work api.OutpostWork, err error) {
	_, err = h.o.records.Kept(ctx, keptWork, "", &work)
	if fault.KindOf(err) == fault.NotFound {
		return h.o.carried.Work, nil
	}
	return work, err
}

func (h *hold) offered(ctx context.Context) int {
	work, _ := h.work(ctx)
	return work.Offered
}

// trust is boot.AuthorityFile, as the service gave it last.
func (h *hold) trust(ctx context.Context) []byte {
	work, _ := h.work(ctx)
	return work.Trust
}

// follow takes what the service says, fetches what is missing, the offered build first, and removes what is not there any more.
func (h *hold) follow(ctx context.Context, work api.OutpostWork) error {
	if err := h.o.records.Keep(ctx, h.o.config.Now(), keptWork, "", withoutKeys(work)); err != nil {
		return err
	}
	if i := slices.IndexFunc(work.Builds, func(b api.OutpostBuild) bool { return b.Number == work.Offered }); i > 0 {
		work.Builds[0], work.Builds[i] = work.Builds[i], work.Builds[0]
	}
	for _, b := range work.Builds {
		if err := h.take(ctx, b); err != nil {
			return err
		}
	}
	for _, f := range work.Entries {
		if err := h.part(ctx, h.o.entries, parts.Part(f)); err != nil {
			return err
		}
	}
	return h.forget(work)
}

// withoutKeys is what may be kept on the disk.
func withoutKeys(work api.OutpostWork) api.OutpostWork {
	work.SlabKey = nil
	work.Deliveries = slices.Clone(work.Deliveries)
	for i := range work.Deliveries {
		work.Deliveries[i].SealKey = nil
	}
	return work
}

// forget removes what the service has no more.
func (h *hold) forget(work api.OutpostWork) error {
	have, err := h.o.builds.Builds()
	if err != nil {
		return err
	}
	for _, n := range have {
		if !slices.ContainsFunc(work.Builds, func(b api.OutpostBuild) bool { return b.Number == n }) {
			if err := h.o.builds.Remove(n); err != nil {
				return err
			}
			h.o.config.Log.Info("build removed, as the service has it no more", "build", n)
		}
	}
	all, err := h.o.entries.All()
	if err != nil {
		return err
	}
	for _, p := range all {
		if !slices.Contains(work.Entries, api.OutpostFile(p)) {
			if err := h.o.entries.Remove(p); err != nil {
				return err
			}
		}
	}
	return nil
}

// build has a build be here.
func (h *hold) build(ctx context.Context, number int) error {
	if _, err := h.o.builds.Build(number); err == nil {
		return nil
	}
	work, err := h.work(ctx)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(work.Builds, func(b api.OutpostBuild) bool { return b.Number == number })
	if i < 0 { // it was made a moment ago
		if work, err = h.o.client.TellOutpost(ctx, api.OutpostCalls{OutpostTells: h.o.Tells(), Run: h.o.started}); err != nil {
			return err
		}
		if i = slices.IndexFunc(work.Builds, func(b api.OutpostBuild) bool { return b.Number == number }); i < 0 {
			return fmt.Errorf("build %d is not there any more", number)
		}
	}
	return h.take(ctx, work.Builds[i])
}

// take has the parts of a build come, and makes it visible.
func (h *hold) take(ctx context.Context, b api.OutpostBuild) error {
	if _, err := h.o.builds.Build(b.Number); err == nil {
		return nil
	}
	_, err, _ := h.flights.Do(fmt.Sprint("build ", b.Number), func() (any, error) {
		_, needs, err := builds.Describe(b.Description)
		if err != nil {
			return nil, err
		}
		for _, p := range needs {
			if err := h.part(ctx, h.o.builds.Parts, p); err != nil {
				return nil, err
			}
		}
		if err := h.o.builds.Take(b.Number, b.Description); err != nil {
			return nil, err
		}
		h.o.config.Log.Info("build is here", "build", b.Number)
		return nil, nil
	})
	return err
}

// ready has everything be here that a machine loads by a choice.
func (h *hold) ready(ctx context.Context, c netboot.Choice) error {
	need := boot.Needs(c)
	if need.Build > 0 {
		if err := h.build(ctx, need.Build); err != nil {
			return err
		}
	}
	for _, d := range need.Parts {
		if err := h.digest(ctx, h.o.builds.Parts, d); err != nil {
			return err
		}
	}
	for _, d := range need.Entries {
		if err := h.digest(ctx, h.o.entries, d); err != nil {
			return err
		}
	}
	return nil
}

// digest has a file be here of which only the digest is known.
func (h *hold) digest(ctx context.Context, store *parts.Store, d slabstore.Digest) error {
	if _, err := store.Find(d); err == nil {
		return nil
	}
	return h.part(ctx, store, parts.Part{Digest: d, Size: -1})
}

// part has a file be here; a size below 0 is not known. What was broken off goes on where it ended.
func (h *hold) part(ctx context.Context, store *parts.Store, p parts.Part) error {
	if have, err := store.Find(p.Digest); err == nil && (p.Size < 0 || have.Size == p.Size) {
		return nil
	}
	_, err, _ := h.flights.Do("part "+p.Digest.String(), func() (any, error) {
		path := filepath.Join(h.scratch, p.Digest.String())
		if err := h.fetch(ctx, path, p); err != nil {
			return nil, err
		}
		f, err := os.Open(path)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		err = store.Take(p, func(w io.Writer) error { _, err := io.Copy(w, f); return err })
		return nil, errors.Join(err, os.Remove(path)) // what came damaged comes anew
	})
	return err
}

// fetch has a file in the scratch folder be whole.
func (h *hold) fetch(ctx context.Context, path string, p parts.Part) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if from := info.Size(); p.Size < 0 || from > p.Size {
		if err := f.Truncate(0); err != nil {
			return err
		}
	} else if from == p.Size {
		return nil
	}
	if info, err = f.Stat(); err != nil {
		return err
	}
	body, err := h.o.bulk.OutpostPart(ctx, p.Digest, info.Size())
	if err != nil {
		return err
	}
	defer body.Close()
	_, err = io.Copy(f, &metered{ctx, body, h.o.slabs.pace, &h.fetched})
	return err
}

// metered reads no faster than the line may be used, and counts.
type metered struct {
	ctx   context.Context
	from  io.Reader
	pace  *rate.Limiter
	count *atomic.Int64
}

// burst is what comes at once over a line with a rate, in bytes.
const burst = 64 << 10

func (m *metered) Read(b []byte) (int, error) {
	b = b[:min(len(b), burst)]
	n, err := m.from.Read(b)
	m.count.Add(int64(n))
	if n > 0 && err == nil {
		err = m.pace.WaitN(m.ctx, n)
	}
	return n, err
}
