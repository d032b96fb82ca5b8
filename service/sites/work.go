package sites

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"os"
	"slices"
	"time"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/core/hwaddr"
	"jugate/core/netboot"
	"jugate/core/parts"
	"jugate/core/slabstore"
)

// holdFor is how long an outpost waits for something new.
const holdFor = 15 * time.Second

// Tell takes what an outpost tells of itself, and says what it is to hold: at once if that is not what it knows, else when
// it changes, or after a while.
func (s *Sites) Tell(ctx context.Context, name string, in api.OutpostCalls) (work api.OutpostWork, err error) {
	if err := s.saw(ctx, name, in); err != nil {
		return work, err
	}
	defer func() { work.Now = s.Now() }() // as late as can be
	over := time.NewTimer(holdFor)
	defer over.Stop()
	for {
		changed := s.awaits()
		work, err = s.work(ctx, name)
		if work.Wake = s.takeWakes(name); err != nil || work.Mark != in.Knows || work.Wake != nil {
			return work, err
		}
		select {
		case <-changed:
		case <-over.C:
			return work, nil
		case <-s.Closing:
			return work, nil
		case <-ctx.Done():
			return work, ctx.Err()
		}
	}
}

// Wake has an outpost switch a machine on, by its cards.
func (s *Sites) Wake(site string, cards []hwaddr.Address) error {
	s.mu.Lock()
	p, known := s.live[site]
	up := known && s.Now().Sub(p.seen) < upFor
	if up {
		if s.wakes == nil {
			s.wakes = map[string][]hwaddr.Address{}
		}
		s.wakes[site] = append(s.wakes[site], cards...)
	}
	s.mu.Unlock()
	if !up {
		return fault.Unreachable.Errorf("the outpost %s, which would wake it, is away", site)
	}
	s.Ring()
	return nil
}

// takeWakes are the cards that an outpost is to wake; nil if there are none.
func (s *Sites) takeWakes(name string) []hwaddr.Address {
	s.mu.Lock()
	defer s.mu.Unlock()
	cards := s.wakes[name]
	delete(s.wakes, name)
	return cards
}

// awaits is closed when something may have changed that outposts hold.
func (s *Sites) awaits() <-chan struct{} {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.changed == nil {
		s.changed = make(chan struct{})
	}
	return s.changed
}

// Heard is told every event of the service, and has outposts hear of those that matter to them.
func (s *Sites) Heard(event any) {
	switch e := event.(type) {
	case api.BootStepped:
		if e.Address != "" {
			return
		}
	case api.BootEntriesChanged, api.Version:
	default:
		return
	}
	s.Ring()
}

// Ring has outposts that wait look again.
func (s *Sites) Ring() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.changed != nil {
		close(s.changed)
		s.changed = nil
	}
}

// saw notes what an outpost tells of itself.
func (s *Sites) saw(ctx context.Context, name string, call api.OutpostCalls) error {
	in := call.OutpostTells
	now := s.Now()
	s.mu.Lock()
	before, known := s.live[name]
	p := presence{seen: now, kept: before.kept, told: in, run: call.Run, before: before.before, twice: before.twice}
	if known && call.Run != before.run {
		if call.Run == before.before {
			p.twice = now
		}
		p.before = before.run
	}
	keep := now.Sub(p.kept) >= keepEvery
	if keep {
		p.kept = now
	}
	s.live[name] = p
	s.mu.Unlock()
	if keep {
		if err := s.Records.SawOutpost(ctx, now, name, in); err != nil {
			return err
		}
	}
	if !known || now.Sub(before.seen) >= upFor || before.told.Trouble != in.Trouble {
		s.Log.Info("outpost is there", "outpost", name, "version", in.Version, "trouble", in.Trouble)
		s.Publish(api.SitesChanged{})
	}
	return nil
}

// work is what an outpost is to hold, all builds and files of boot entries, and what it is to deliver.
func (s *Sites) work(ctx context.Context, name string) (api.OutpostWork, error) {
	out := api.OutpostWork{Name: name, Builds: []api.OutpostBuild{}, Entries: []api.OutpostFile{}, Fixed: map[string][]hwaddr.Address{}, Trust: s.Trust, Multicast: s.Multicast()}
	var err error
	if out.Offered, err = s.Records.Offered(ctx); err != nil {
		return out, err
	}
	numbers, err := s.Builds.Builds()
	if err != nil {
		return out, err
	}
	for _, n := range numbers {
		text, err := s.Builds.Description(n)
		if errors.Is(err, fs.ErrNotExist) {
			continue // it was removed meanwhile
		}
		if err != nil {
			return out, err
		}
		out.Builds = append(out.Builds, api.OutpostBuild{Number: n, Description: text})
	}
	all, err := s.Entries.All()
	if err != nil {
		return out, err
	}
	for _, p := range all {
		out.Entries = append(out.Entries, api.OutpostFile(p))
	}
	fixed, err := s.Records.FixedAddresses(ctx)
	for a, machines := range fixed {
		out.Fixed[a.String()] = machines
	}
	if err != nil {
		return out, err
	}
	if out.Deliveries, err = s.Deliveries.PartsAt(name); err != nil {
		return out, err
	}
	told := out.Deliveries[:0]
	for _, p := range out.Deliveries {
		f, err := s.version(ctx, p.Image, p.Version, p.Manifest.Digest.String())
		if err != nil { // which keeps the outpost from nothing else
			s.Log.Error("a delivery cannot be told to an outpost", "outpost", name, "delivery", p.ID, "error", err)
			continue
		}
		p.OutpostVersion = f.OutpostVersion
		told = append(told, p)
	}
	out.Deliveries = told
	row, err := s.Records.Outpost(ctx, name)
	if err != nil {
		return out, err
	}
	if out.Line, err = row.Settings(); err != nil {
		return out, err
	}
	if out.Line.Sealed {
		if out.SlabKey, err = s.slabKey(row); err != nil {
			return out, err
		}
	}
	out.At = s.At
	if out.Versions, err = s.ahead(ctx, name); err != nil {
		return out, err
	}
	text, err := json.Marshal(out)
	out.Mark = slabstore.Sum(text).String()
	return out, err
}

// Facts are what DHCP at an outpost has to know of a machine.
func (s *Sites) Facts(ctx context.Context, in api.OutpostAsks) netboot.Facts {
	return s.Roster.Facts(ctx, in.Address)
}

// BuildFor is the build whose loaders a machine gets.
func (s *Sites) BuildFor(ctx context.Context, in api.OutpostAsks) (api.OutpostBuildFor, error) {
	n, err := s.Roster.BuildFor(ctx, in.Address)
	return api.OutpostBuildFor{Build: n}, err
}

// Choose decides what a machine at an outpost boots now, and gives it a ticket more for a time when nobody can be asked.
func (s *Sites) Choose(ctx context.Context, name string, in api.OutpostAsks) (out api.OutpostChoice, err error) {
	if in.Loader == nil {
		return out, fault.Invalid.Errorf("what loads is not told")
	}
	s.Boot.NoteModel(in.Address, in.Loader.Model)
	ctx = actor.With(ctx, actor.Actor{Kind: actor.Outpost, Name: name})
	if out.Choice, err = s.Roster.Choose(ctx, *in.Loader, in.Address); err != nil {
		return out, err
	}
	if out.Choice.Do == netboot.Environment {
		out.Spare, err = s.Tickets.Ticket(ctx, in.Address)
	}
	return out, err
}

// Hear takes steps of machines that boot at an outpost, by its clock.
func (s *Sites) Hear(ctx context.Context, name string, in api.OutpostSteps) error {
	ahead := in.Now.Sub(s.Now())
	if ahead > -clockSlack && ahead < clockSlack {
		ahead = 0
	}
	for _, step := range in.Steps {
		if !slices.Contains(netboot.Steps, step.Step) {
			continue // of a newer outpost, or of none
		}
		at := step.At.Add(-ahead).UTC()
		if now := s.Now().UTC(); at.After(now.Add(clockSlack)) {
			at = now
		}
		s.Boot.Hear(step.Address, netboot.Mark{At: at, Step: step.Step, Detail: name + ": " + step.Detail})
	}
	for _, l := range in.Loaded {
		s.Roster.EntryLoaded(ctx, l.Address, l.File)
	}
	return nil
}

// clockSlack is how far an outpost's clock may be off before its times are moved.
const clockSlack = 5 * time.Second

// Part opens a file of a build, of a boot entry, or of a delivery that an outpost carries through, by its digest.
func (s *Sites) Part(ctx context.Context, name, digest string) (io.ReadSeekCloser, error) {
	d, err := slabstore.ParseDigest(digest)
	if err != nil {
		return nil, fault.Invalid.Mark(err)
	}
	for _, store := range []*parts.Store{s.Builds.Parts, s.Entries} {
		p, err := store.Find(d)
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		c, err := store.Open(p)
		if err != nil {
			return nil, err
		}
		return content{io.NewSectionReader(c, 0, c.Size), c}, nil
	}
	f, err := s.versionFile(ctx, name, d)
	if errors.Is(err, fault.NotFound) {
		return s.Deliveries.PartFile(name, d)
	}
	return f, err
}

type content struct {
	io.ReadSeeker
	io.Closer
}

// Slab is the frame of a slab; or, to who has another one, what differs from that, if that is less.
func (s *Sites) Slab(digest, on string) (frame []byte, delta bool, err error) {
	d, err := slabstore.ParseDigest(digest)
	if err != nil {
		return nil, false, fault.Invalid.Mark(err)
	}
	if frame, err = s.Slabs.Frame(d); err != nil || on == "" {
		return frame, false, err
	}
	base, err := slabstore.ParseDigest(on)
	if err != nil {
		return nil, false, fault.Invalid.Mark(err)
	}
	less, err := s.deltas.Get(leaning{d, base}, func() ([]byte, error) {
		was, err := s.Slabs.Get(base)
		if err != nil {
			return nil, err
		}
		is, err := slabstore.ExpandChecked(nil, frame, d)
		if err != nil {
			return nil, err
		}
		return slabstore.CompressDelta(nil, is, was, base)
	})
	if err == nil && len(less) < len(frame) { // the base may have gone meanwhile
		return less, true, nil
	}
	return frame, false, nil
}
