// Package stores keeps the object stores that slabs may lie in, and moves versions between them
// and the data folder.
//
//	err := s.Add(ctx, api.NewStore{Name: "big", Place: "https://objects.fennholt.example/jugate", …})
//	out, err := s.Use(ctx, api.StoreUse{Store: &name}) // new versions go there
//
// A version is captured into the data folder, and moved in the background. What the folder has of
// a version that is elsewhere is a cache: it is taken away when there is too much of it.
package stores

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"jugate/api"
	"jugate/bucket"
	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/core/image"
	"jugate/core/objects"
	"jugate/core/packs"
	"jugate/core/roster"
	"jugate/core/slabstore"
	"jugate/records"
)

// Secrets seal what must not lie open on the disk.
type Secrets interface {
	Seal(about, text string) (string, error)
	Unseal(about, text string) (string, error)
}

// Versions are those of the service.
type Versions interface {
	// Load reads the files of a version.
	Load(v *records.Version) (*image.Manifest, *image.Map, error)
	// Changed tells everybody of a version that was changed.
	Changed(ctx context.Context, ref roster.Ref)
}

// Stores keeps the object stores. Its fields are set before anything is asked of it.
type Stores struct {
	Dir      string // the data folder
	Records  *records.DB
	Secrets  Secrets
	Slabs    *slabstore.Front
	Versions Versions
	Log      *slog.Logger
	Now      func() time.Time
	Publish  func(event any)
	// Backups tells which slabs the backups in a store need.
	Backups func(ctx context.Context, store objects.Store) (map[slabstore.Digest]struct{}, error)
	// Service tells this service from every other one: the fingerprint of its authority.
	Service string

	changing sync.Mutex // one store comes, goes, is looked through or is filled at a time; held across its work

	mu     sync.Mutex
	open   map[string]*opened // by name
	cached int64              // bytes of the folder that are elsewhere, too
	bell   chan struct{}
}

// opened is a store that is in use.
type opened struct {
	objects objects.Store
	packs   *packs.Packs
	trouble string
	fresh   bool // what is in it was learnt since the start
	moved   int  // of the version that goes there now
	toMove  int
}

// Behind is slabstore.Behind for those slabs that a store has, as far as is known.
var _ slabstore.Behind = (*packs.Packs)(nil)

func about(name string) string { return "store " + name }

// OpenAll opens the stores on record. One that does not answer is not needed for that: what it has
// is remembered.
func (s *Stores) OpenAll(ctx context.Context) error {
	s.mu.Lock()
	s.open, s.bell = map[string]*opened{}, make(chan struct{}, 1)
	s.mu.Unlock()
	all, err := s.Records.Stores(ctx)
	for _, row := range all {
		if one := s.openOne(row); one != nil {
			err = errors.Join(err, fmt.Errorf("store %s: %w", row.Name, one))
		}
	}
	return err
}

func (s *Stores) dir(name string) string { return filepath.Join(s.Dir, "stores", name) }

func (s *Stores) openOne(row records.Store) error {
	secret := row.Secret
	if secret != "" {
		var err error
		if secret, err = s.Secrets.Unseal(about(row.Name), secret); err != nil {
			return err
		}
	}
	o := &opened{}
	var err error
	if o.objects, err = bucket.OpenPlace(row.Place, row.Region, row.Key, secret); err != nil {
		return err
	}
	if err := os.MkdirAll(s.dir(row.Name), 0o750); err != nil {
		return err
	}
	if o.packs, err = packs.Open(o.objects, s.dir(row.Name)); err != nil {
		return err
	}
	s.mu.Lock()
	s.open[row.Name] = o
	s.mu.Unlock()
	s.setBehind()
	return nil
}

// setBehind tells the folder which stores are behind it.
func (s *Stores) setBehind() {
	s.mu.Lock()
	var all []slabstore.Behind
	for _, o := range s.open {
		all = append(all, o.packs)
	}
	s.mu.Unlock()
	s.Slabs.SetBehind(all)
}

// Close gives back what is open.
func (s *Stores) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	var errs []error
	for _, o := range s.open {
		errs = append(errs, o.packs.Close())
	}
	return errors.Join(errs...)
}

func (s *Stores) opened(name string) (*opened, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for known, o := range s.open {
		if strings.EqualFold(known, name) {
			return o, nil
		}
	}
	return nil, fault.NotFound.Errorf("there is no store %s", name)
}

// List lists the data folder and the object stores.
func (s *Stores) List(ctx context.Context) ([]api.Store, error) {
	rows, err := s.Records.Stores(ctx)
	if err != nil {
		return nil, err
	}
	use, err := s.Records.Storing(ctx)
	if err != nil {
		return nil, err
	}
	versions, err := s.Records.AllVersions(ctx)
	if err != nil {
		return nil, err
	}
	out := []api.Store{{Name: records.FolderStore, Place: filepath.Join(s.Dir, "slabs"), State: "ready", MayCache: use.Cache}}
	for _, r := range rows {
		out = append(out, api.Store{Name: r.Name, Place: r.Place, Region: r.Region, Key: r.Key, Added: r.Added})
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	out[0].Cached = s.cached
	for i := range out {
		one := &out[i]
		one.InUse = one.Name == use.Store
		for _, v := range versions {
			switch {
			case v.Pruned.Valid:
			case v.MovesTo == one.Name:
				one.Moving++
			case v.Store == one.Name && v.MovesTo == "":
				one.Versions++
			}
		}
		if o := s.open[one.Name]; o != nil {
			one.State, one.Trouble, one.Moved, one.ToMove = "ready", o.trouble, o.moved, o.toMove
			if o.trouble != "" {
				one.State = "away"
			}
			one.Packs, one.Bytes, one.Unneeded = o.packs.Size()
		} else if i > 0 {
			one.State, one.Trouble = "away", "it could not be opened; the service's log says why"
		}
	}
	return out, nil
}

// Show tells of one store.
func (s *Stores) Show(ctx context.Context, name string) (api.Store, error) {
	all, err := s.List(ctx)
	if err != nil {
		return api.Store{}, err
	}
	i := slices.IndexFunc(all, func(o api.Store) bool { return strings.EqualFold(o.Name, name) })
	if i < 0 {
		return api.Store{}, fault.NotFound.Errorf("there is no store %s", name)
	}
	return all[i], nil
}

// Add enters a store, if it behaves as one.
func (s *Stores) Add(ctx context.Context, in api.NewStore) (api.Store, error) {
	if in.Name == records.FolderStore {
		return api.Store{}, fault.Conflict.Errorf("the store in the data folder is called %s already", in.Name)
	}
	store, err := bucket.OpenPlace(in.Place, in.Region, in.Key, in.Secret)
	if err == nil && !strings.Contains(in.Place, "://") {
		err = Outside(s.Dir, in.Place)
	}
	if err != nil {
		return api.Store{}, err
	}
	if faults := probe(ctx, store); len(faults) > 0 {
		return api.Store{}, fault.Conflict.Errorf("%s cannot be relied on as a store: %s", in.Place, strings.Join(faults, "; "))
	}
	if err := s.claim(ctx, store); err != nil {
		return api.Store{}, err
	}
	row := records.Store{Name: in.Name, Place: in.Place, Region: in.Region, Key: in.Key, Added: s.Now()}
	if in.Secret != "" {
		if row.Secret, err = s.Secrets.Seal(about(in.Name), in.Secret); err != nil {
			return api.Store{}, err
		}
	}
	s.changing.Lock()
	defer s.changing.Unlock()
	if err := s.Records.AddStore(ctx, row); err != nil {
		return api.Store{}, err
	}
	if err := s.openOne(row); err != nil {
		return api.Store{}, errors.Join(err, s.Records.RemoveStore(ctx, in.Name))
	}
	s.Log.Info("store entered", "store", in.Name, "place", in.Place, "by", actor.From(ctx))
	s.ring()
	s.Publish(api.StoresChanged{})
	return s.Show(ctx, in.Name)
}

// Again opens a store again that could not be opened, and looks up what is in it. It is an error if it does not answer.
func (s *Stores) Again(ctx context.Context, name string) error {
	s.changing.Lock()
	defer s.changing.Unlock()
	row, err := s.Records.Store(ctx, name)
	if err != nil {
		return err
	}
	o, err := s.opened(row.Name)
	if err != nil {
		if err := s.openOne(*row); err != nil {
			return fault.Conflict.Errorf("the store %s cannot be opened: %w", row.Name, err)
		}
		if o, err = s.opened(row.Name); err != nil {
			return err
		}
	}
	err = s.learn(ctx, o)
	s.note(o, err)
	s.ring()
	if err != nil {
		return fault.Conflict.Errorf("the store %s does not answer: %w", row.Name, err)
	}
	return nil
}

// Outside refuses a folder that lies in the data folder, or that the data folder lies in.
func Outside(data, place string) error {
	one, err := filepath.EvalSymlinks(data)
	if err != nil {
		return err
	}
	if one, err = filepath.Abs(one); err != nil {
		return err
	}
	other, err := filepath.EvalSymlinks(place)
	if errors.Is(err, os.ErrNotExist) {
		return fault.NotFound.Errorf("the folder %s does not exist", place)
	}
	if err != nil {
		return err
	}
	for _, pair := range [][2]string{{one, other}, {other, one}} {
		if rel, err := filepath.Rel(pair[0], pair[1]); err == nil && filepath.IsLocal(rel) {
			return fault.Invalid.Errorf("%s and the data folder %s lie in each other: what is to outlast the data folder needs a disk of its own", place, data)
		}
	}
	return nil
}

// Remove forgets a store that no version needs. What is in it stays there.
func (s *Stores) Remove(ctx context.Context, name string) error {
	s.changing.Lock()
	defer s.changing.Unlock()
	row, err := s.Records.Store(ctx, name)
	if err != nil {
		return err
	}
	if err := s.Records.RemoveStore(ctx, row.Name); err != nil {
		return err
	}
	s.mu.Lock()
	o := s.open[row.Name]
	delete(s.open, row.Name)
	s.mu.Unlock()
	s.setBehind()
	s.Log.Info("store forgotten", "store", row.Name, "by", actor.From(ctx))
	s.Publish(api.StoresChanged{})
	if o != nil {
		err = o.packs.Close()
	}
	return errors.Join(err, os.RemoveAll(s.dir(row.Name)))
}

// Use says where new versions go, and how much the data folder may have of others.
func (s *Stores) Use(ctx context.Context, in api.StoreUse) (api.Store, error) {
	use, err := s.Records.Storing(ctx)
	if err != nil {
		return api.Store{}, err
	}
	if in.Cache != nil {
		use.Cache = *in.Cache
	}
	if in.Store != nil {
		to, err := s.Show(ctx, *in.Store)
		if err != nil {
			return api.Store{}, err
		}
		use.Store = to.Name
	}
	if err := s.Records.SetStoring(ctx, use); err != nil {
		return api.Store{}, err
	}
	s.Log.Info("where new versions go", "store", use.Store, "cache_bytes", use.Cache, "by", actor.From(ctx))
	s.ring()
	s.Publish(api.StoresChanged{})
	return s.Show(ctx, use.Store)
}

// NewVersionsTo is where a version is moved that is committed now; empty if it stays. A version in
// the folder that shares slabs with one elsewhere is moved to the folder, so that it has them all.
func (s *Stores) NewVersionsTo(ctx context.Context) (string, error) {
	use, err := s.Records.Storing(ctx)
	if err != nil {
		return "", err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if use.Store == records.FolderStore && len(s.open) == 0 {
		return "", nil
	}
	return use.Store, nil
}

// Move has versions be moved to a store, in the background.
func (s *Stores) Move(ctx context.Context, name string, in api.StoreMove) (api.StoreMoving, error) {
	out := api.StoreMoving{Versions: []string{}}
	to, err := s.Show(ctx, name)
	if err != nil {
		return out, err
	}
	var want roster.Ref
	if in.Version != "" {
		if want, err = roster.ParseRef(in.Version); err != nil {
			return out, err
		}
		if want.Image, err = s.Records.ImageName(ctx, want.Image); err != nil {
			return out, err
		}
	}
	all, err := s.Records.AllVersions(ctx)
	if err != nil {
		return out, err
	}
	found := false
	for _, v := range all {
		if want.Image != "" && v.Image != want.Image || want.Version != 0 && v.Number != want.Version {
			continue
		}
		found = true
		if v.Pruned.Valid || v.Store == to.Name && v.MovesTo == "" {
			continue
		}
		if err := s.Records.MoveVersion(ctx, v.Ref(), to.Name); err != nil {
			return out, err
		}
		s.Versions.Changed(ctx, v.Ref())
		out.Versions = append(out.Versions, v.Ref().String())
	}
	if !found && in.Version != "" {
		return out, fault.NotFound.Errorf("there is no version %s", in.Version)
	}
	s.Log.Info("versions are moved", "store", to.Name, "versions", out.Versions, "by", actor.From(ctx))
	s.ring()
	s.Publish(api.StoresChanged{})
	return out, nil
}
