// Package standby keeps a copy of a service in a store as it changes, so that another machine can become
// the service, and sees to it that only one is.
//
//	live/lease.json            who is the service (package lease)
//	live/TERM/records/…        the records, as they change (package records/replica)
//	live/TERM/files.json       the other files, as the list of a backup
//	live/TERM/newest.head      the head of the log that was signed last
//
// TERM is the number of a holder's term, with eight digits. What a holder that was replaced still writes
// lies under its own, where nobody looks any more.
package standby

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/singleflight"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/backup"
	"jugate/core/durable"
	"jugate/core/fault"
	"jugate/core/lease"
	"jugate/core/objects"
	"jugate/core/slabstore"
	"jugate/records"
	"jugate/records/replica"
)

// Stores are those that the copy goes to.
type Stores interface {
	Objects(name string) (store objects.Store, as string, err error)
	// Bring puts the slabs of versions into a store.
	Bring(ctx context.Context, name string, versions []records.Version) error
}

// Files are those beside the records.
type Files interface {
	Sources() ([]backup.Source, error)
}

// Standby keeps the copy. Its fields are set before anything is asked of it.
type Standby struct {
	Dir     string // the data folder
	Records *records.DB
	Stores  Stores
	Files   Files
	Service string // the fingerprint of its authority
	Version string
	Machine string        // what people call this machine
	At      []string      // where the service answers
	For     time.Duration // of the lease; lease.For if it is 0
	Log     *slog.Logger
	Publish func(event any)
	// Taken is the lease that a takeover has brought; nil otherwise.
	Taken *lease.Held
	// Lost is called when another machine has become the service.
	Lost func(error)

	changing sync.Mutex // it begins or ends; held across that

	renewing singleflight.Group // of a lease that has run out, when something is asked for

	mu    sync.Mutex
	now   *copying // nil while no copy is kept
	lease string   // what keeps it from being renewed
	files string   // what keeps files from being copied
	bell  chan struct{}
}

// copying is one term.
type copying struct {
	store   objects.Store
	name    string
	held    *lease.Held
	records *replica.Replica
	stop    context.CancelFunc
	work    sync.WaitGroup
	files   time.Time   // when they were copied last
	slabs   time.Time   // and the slabs
	ended   atomic.Bool // by this machine, which goes on without the lease
}

// identityName has which data folder this is, and in which term it was the service last. It is in no
// backup and in no copy: another folder is another one.
const identityName = "standby.json"

type identity struct {
	Holder string `json:"holder"`
	Term   int64  `json:"term"`
}

func (s *Standby) identity() (identity, error) {
	raw, err := os.ReadFile(filepath.Join(s.Dir, identityName))
	if errors.Is(err, fs.ErrNotExist) {
		id := identity{Holder: rand.Text()}
		return id, id.keep(s.Dir)
	}
	var id identity
	if err == nil {
		err = json.Unmarshal(raw, &id)
	}
	return id, err
}

func (id identity) keep(dir string) error {
	text, err := json.Marshal(id)
	if err != nil {
		return err
	}
	return durable.Write(filepath.Join(dir, identityName), text, 0o640)
}

func termFolder(term int64) string { return fmt.Sprintf("live/%08d/", term) }

// askAgain is how long a store that does not answer is left alone.
const askAgain = 2 * time.Second

// Begin goes on with the copy, if there is to be one. While the store does not answer it waits: nobody can
// tell who is the service. An error that wraps lease.ErrHeld says that another machine is.
func (s *Standby) Begin(ctx context.Context) error {
	s.mu.Lock()
	s.bell = make(chan struct{}, 1)
	s.mu.Unlock()
	name, err := s.Records.CopyingTo(ctx)
	if err == nil && name == "" && s.Taken != nil {
		err = fault.Invalid.Errorf("the records do not say that a copy of them is kept")
	}
	if err != nil || name == "" {
		return err
	}
	s.changing.Lock()
	defer s.changing.Unlock()
	for said := ""; ; {
		err := s.begin(ctx, name)
		if !errors.Is(err, fault.Unreachable) {
			return err
		}
		if said != err.Error() {
			said = err.Error()
			s.Log.Warn("the store that says who is the service does not answer; waiting for it", "store", name, "error", err)
		}
		select {
		case <-time.After(askAgain):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func (s *Standby) begin(ctx context.Context, name string) error {
	store, name, err := s.Stores.Objects(name)
	if err != nil {
		return err
	}
	id, err := s.identity()
	if err != nil {
		return err
	}
	held := s.Taken
	if held == nil {
		if held, err = s.own(ctx, store, id); err != nil {
			return err
		}
	}
	id.Term = held.Term()
	if err := id.keep(s.Dir); err != nil {
		return err
	}
	c := &copying{store: store, name: name, held: held}
	if c.records, err = replica.Start(ctx, filepath.Join(s.Dir, "jugate.db"), store, termFolder(held.Term()), s.Log.With("copy", name)); err != nil {
		return err
	}
	until, stop := context.WithCancel(context.WithoutCancel(ctx))
	c.stop = stop
	s.mu.Lock()
	s.now, s.Taken = c, nil
	s.mu.Unlock()
	c.work.Go(func() { s.keepLease(until, c) })
	// Nothing is answered before there is a copy of this term: a machine that dies young takes no more
	// with it than any other.
	k := &keeper{seen: backup.Seen{}}
	if err := errors.Join(c.records.Sync(ctx), k.files(ctx, s, c)); err != nil {
		return errors.Join(err, s.end(ctx))
	}
	c.work.Go(func() { s.keepFiles(until, c, k) })
	s.Log.Info("this machine is the service, and a copy of it is kept", "store", name, "term", held.Term())
	return nil
}

// own takes the lease for this data folder, if it is its own, or nobody's. Anybody else's is taken by a
// takeover alone, which brings what they have done.
func (s *Standby) own(ctx context.Context, store objects.Store, id identity) (*lease.Held, error) {
	l, _, err := lease.Read(ctx, store)
	if err != nil && !errors.Is(err, objects.ErrNotFound) {
		return nil, err
	}
	if err == nil && l.Service == s.Service && l.Holder != id.Holder {
		return nil, fmt.Errorf("%w: %s, since term %d; what it has done is not in this data folder; to become the service again, start jugate takeover with a new one", lease.ErrHeld, l.Machine, l.Term)
	}
	return lease.Take(ctx, store, s.claim(id.Holder), lease.Options{})
}

func (s *Standby) claim(holder string) lease.Lease {
	return lease.Lease{Service: s.Service, Holder: holder, Machine: s.Machine, At: s.At, For: s.For}
}

// keepLease renews the lease, and gives the service up when somebody else has taken it.
func (s *Standby) keepLease(ctx context.Context, c *copying) {
	err := c.held.Keep(ctx, func(err error) { s.renewed(c, err) })
	if err == nil || c.ended.Load() {
		return
	}
	s.Log.Error("this machine is no longer the service", "error", err)
	s.renewed(c, err)
	c.records.Abandon()
	s.Lost(err)
}

// renewed is told how a try to renew the lease went.
func (s *Standby) renewed(c *copying, err error) {
	switch {
	case c.ended.Load(): // by this machine, which goes on
	case err == nil:
		s.note(&s.lease, "")
	case errors.Is(err, lease.ErrTaken):
		s.note(&s.lease, err.Error())
	default:
		s.note(&s.lease, "the store that says who is the service does not answer: "+err.Error())
	}
}

// note keeps what is in the way, in one of the fields for that.
func (s *Standby) note(field *string, trouble string) {
	s.mu.Lock()
	changed := *field != trouble
	*field = trouble
	s.mu.Unlock()
	if !changed {
		return
	}
	if trouble != "" {
		s.Log.Error("the copy of the service is in trouble", "error", trouble)
	}
	s.Publish(api.StoresChanged{})
}

// Serving is an error while another machine may be the service. A lease that ran out while nothing was in
// its way, as this machine slept or was busy, is renewed at once: if nobody has taken it, nobody notices.
func (s *Standby) Serving(ctx context.Context) error {
	for {
		s.mu.Lock()
		c, trouble := s.now, s.lease
		s.mu.Unlock()
		switch {
		case c == nil || c.held.Valid():
			return nil
		case trouble != "":
			return fault.Unready.Errorf("this machine may no longer be the service: %s", trouble)
		}
		renewed := s.renewing.DoChan("", func() (any, error) {
			s.renewed(c, c.held.Renew(context.WithoutCancel(ctx)))
			return nil, nil
		})
		select {
		case <-renewed:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// Wake has files be copied now.
func (s *Standby) Wake() {
	s.mu.Lock()
	defer s.mu.Unlock()
	select {
	case s.bell <- struct{}{}:
	default:
	}
}

func (s *Standby) keepFiles(ctx context.Context, c *copying, k *keeper) {
	tick := time.NewTicker(c.held.Lease().For / 4) // unless Wake asks for it
	defer tick.Stop()
	for {
		if c.held.Valid() {
			words := ""
			if err := fault.Guard(func() error { return k.round(ctx, s, c) }); err != nil {
				words = "files cannot be copied: " + err.Error()
			}
			if ctx.Err() == nil {
				s.note(&s.files, words)
			}
		}
		select {
		case <-tick.C:
		case <-s.bell:
		case <-ctx.Done():
			return
		}
	}
}

// keeper remembers what is there already.
type keeper struct {
	seen  backup.Seen
	last  slabstore.Digest
	head  string
	slabs string
}

func (k *keeper) round(ctx context.Context, s *Standby, c *copying) error {
	if err := k.files(ctx, s, c); err != nil {
		return err
	}
	return k.bring(ctx, s, c)
}

// files copies those that have changed, and the newest head.
func (k *keeper) files(ctx context.Context, s *Standby, c *copying) error {
	folder := termFolder(c.held.Term())
	head, err := s.Records.NewestHead(ctx)
	if err != nil {
		return err
	}
	from, err := s.Files.Sources()
	if err != nil {
		return err
	}
	now := time.Now()
	b := backup.Backup{Taken: now.UTC(), Service: s.Service, Version: s.Version, Slabs: true}
	if k.last, err = backup.SaveLive(ctx, c.store, folder+backup.LiveName, b, from, k.seen, k.last); err != nil {
		return err
	}
	if head != nil && head.Signed != k.head {
		if _, err := c.store.Put(ctx, folder+"newest.head", []byte(head.Signed), objects.Always); err != nil {
			return err
		}
		k.head = head.Signed
	}
	s.mu.Lock()
	c.files = now
	s.mu.Unlock()
	return nil
}

// bring copies the slabs of versions that are new, wherever they are: another machine has no others.
func (k *keeper) bring(ctx context.Context, s *Standby, c *copying) error {
	now := time.Now()
	all, err := s.Records.AllVersions(ctx)
	if err != nil {
		return err
	}
	var refs []string
	var there []records.Version
	for _, v := range all {
		if !v.Pruned.Valid {
			refs, there = append(refs, v.Ref().String()), append(there, v)
		}
	}
	if names := strings.Join(refs, " "); names != k.slabs {
		if err := s.Stores.Bring(ctx, c.name, there); err != nil {
			return fmt.Errorf("slabs: %w", err)
		}
		k.slabs = names
	}
	s.mu.Lock()
	c.slabs = now
	s.mu.Unlock()
	return nil
}

// Use begins to keep a copy in a store, or ends it, if that is empty.
func (s *Standby) Use(ctx context.Context, name string) (api.Standby, error) {
	s.changing.Lock()
	defer s.changing.Unlock()
	if err := s.over(ctx); err != nil {
		return api.Standby{}, err
	}
	if name != "" {
		_, as, err := s.Stores.Objects(name)
		if err != nil {
			return api.Standby{}, err
		}
		name = as
	}
	// On record before there is a copy: what is made of that has to go on with it.
	if err := s.Records.SetCopyingTo(ctx, name); err != nil {
		return api.Standby{}, err
	}
	if name != "" {
		if err := s.begin(ctx, name); err != nil {
			return api.Standby{}, errors.Join(err, s.Records.SetCopyingTo(ctx, ""))
		}
	}
	s.Log.Info("where a copy of the service is kept", "store", name, "by", actor.From(ctx))
	s.Publish(api.StoresChanged{})
	return s.Show(ctx)
}

// over ends the copy for good: whoever waits to take over must not, as the service goes on here.
func (s *Standby) over(ctx context.Context) error {
	s.mu.Lock()
	c := s.now
	s.mu.Unlock()
	if c == nil {
		return nil
	}
	c.ended.Store(true)
	if err := c.held.End(ctx); err != nil {
		c.ended.Store(false)
		return fmt.Errorf("the copy goes on: the store cannot be told that it ends, and another machine would take over: %w", err)
	}
	return s.end(ctx)
}

// end stops keeping the copy; the lease stays that of this data folder.
func (s *Standby) end(ctx context.Context) error {
	s.mu.Lock()
	c := s.now
	s.now, s.lease, s.files = nil, "", ""
	s.mu.Unlock()
	if c == nil {
		return nil
	}
	c.stop()
	c.work.Wait()
	if !c.held.Valid() && !c.ended.Load() {
		return c.records.Abandon()
	}
	return c.records.Close(ctx)
}

// Close copies what is left. The lease stays this data folder's for as long as it is good, so that a service
// that is just started again goes on.
func (s *Standby) Close(ctx context.Context) error {
	s.changing.Lock()
	defer s.changing.Unlock()
	return s.end(ctx)
}

// Show tells how the copy is.
func (s *Standby) Show(ctx context.Context) (out api.Standby, err error) {
	name, err := s.Records.CopyingTo(ctx)
	if err != nil {
		return out, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	out.Store, out.Trouble = name, cmp.Or(s.lease, s.files)
	if c := s.now; c != nil {
		out.Term, out.Machine = c.held.Term(), s.Machine
		out.Serving = c.held.Valid()
		out.Records, out.Files, out.Slabs = timeOf(c.records.Last()), timeOf(c.files), timeOf(c.slabs)
	}
	return out, nil
}

func timeOf(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}
