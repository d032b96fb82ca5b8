// Package backups copies what a service has into a store, while it runs.
//
//	b, err := s.Make(ctx, api.NewBackup{Store: "big"})
//	err = s.WriteTar(ctx, w, true) // the same as one file
//
// The records are copied by SQLite's online backup, before the files that they speak of: those are
// there whole before a record names them.
package backups

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/backup"
	"jugate/core/durable"
	"jugate/core/image"
	"jugate/core/objects"
	"jugate/core/packs"
	"jugate/core/slabstore"
	"jugate/records"
)

// Stores are those that backups go to.
type Stores interface {
	// Objects are what is in a store.
	Objects(name string) (store objects.Store, as string, err error)
	// Bring puts the slabs of versions into a store.
	Bring(ctx context.Context, name string, versions []records.Version) error
	// BringInto does that for one that is nobody's.
	BringInto(ctx context.Context, p *packs.Packs, versions []records.Version) error
}

// Backups makes them. Its fields are set before anything is asked of it.
type Backups struct {
	Dir     string // the data folder
	Scratch string
	Config  string // a file outside the data folder that goes with it; none if it is empty
	Records *records.DB
	Stores  Stores
	Files   image.Files
	Service string // the fingerprint of its authority
	Version string
	Log     *slog.Logger
	Now     func() time.Time
	Publish func(event any)

	making sync.Mutex // one is made at a time; held across its work
}

// left are what a backup does not have: what is made again by itself, or must not be there twice, and what
// is copied in another way.
var left = []string{"slabs", "stores", "scratch", "uploads", "reserve", "jugate.lock", "jugate.db", "jugate.db-wal", "jugate.db-shm", ".jugate.db-litestream", "standby.json"}

// recordsName is what the records are called in a backup, and configName the configuration.
const (
	recordsName = "jugate.db"
	configName  = "configuration/jugate.yaml"
)

// Make makes a backup.
func (s *Backups) Make(ctx context.Context, in api.NewBackup) (api.Backup, error) {
	s.making.Lock()
	defer s.making.Unlock()
	to, name, err := s.Stores.Objects(in.Store)
	if err != nil {
		return api.Backup{}, err
	}
	versions, err := s.versions(ctx)
	if err != nil {
		return api.Backup{}, err
	}
	if in.Slabs {
		if err := s.Stores.Bring(ctx, name, versions); err != nil {
			return api.Backup{}, fmt.Errorf("the slabs: %w", err)
		}
	}
	b, err := s.save(ctx, to, in.Slabs)
	if err != nil {
		return api.Backup{}, err
	}
	out := told(b, name)
	out.Sent = b.Sent
	for _, v := range b.Versions {
		if !in.Slabs && v.Store != name {
			out.Listed = append(out.Listed, v.Name)
		}
	}
	s.Log.Info("backup made", "store", name, "backup", b.ID(), "bytes", b.Size(), "sent", b.Sent, "by", actor.From(ctx))
	s.Publish(api.StoresChanged{})
	return out, nil
}

func (s *Backups) versions(ctx context.Context) ([]records.Version, error) {
	all, err := s.Records.AllVersions(ctx)
	return slices.DeleteFunc(all, func(v records.Version) bool { return v.Pruned.Valid }), err
}

func told(b backup.Backup, store string) api.Backup {
	return api.Backup{ID: b.ID(), Store: store, Taken: b.Taken, Of: b.Version, Files: len(b.Files), Bytes: b.Size(), Slabs: b.Slabs, Versions: len(b.Versions)}
}

// save makes a backup of all but the slabs.
func (s *Backups) save(ctx context.Context, to objects.Store, slabs bool) (backup.Backup, error) {
	b := backup.Backup{Taken: s.Now().UTC().Truncate(time.Millisecond), Service: s.Service, Version: s.Version, Slabs: slabs}
	head, err := s.Records.NewestHead(ctx) // before the records are copied, so that they have grown out of it
	if err != nil {
		return b, err
	}
	if head != nil {
		b.Head = head.Signed
	}
	scratch, err := os.MkdirTemp(s.Scratch, "backup")
	if err != nil {
		return b, err
	}
	defer os.RemoveAll(scratch)
	from := []backup.Source{{Path: recordsName, At: filepath.Join(scratch, recordsName)}}
	if b.Head != "" {
		beside := filepath.Join(scratch, "newest.head")
		if err := os.WriteFile(beside, []byte(b.Head), 0o640); err != nil {
			return b, err
		}
		from = append(from, backup.Source{Path: "newest.head", At: beside})
	}
	if err := s.Records.CopyTo(ctx, from[0].At); err != nil {
		return b, fmt.Errorf("copy the records: %w", err)
	}
	versions, err := s.versions(ctx)
	if err != nil {
		return b, err
	}
	for _, v := range versions {
		b.Versions = append(b.Versions, backup.Version{Name: v.Ref().String(), Slabs: v.Slabs, Store: v.Store})
	}
	more, err := s.Sources()
	if err != nil {
		return b, err
	}
	return backup.Save(ctx, to, b, append(from, more...))
}

// Sources are the files of the data folder that a backup has, and the configuration.
func (s *Backups) Sources() (all []backup.Source, err error) {
	if s.Config != "" {
		all = append(all, backup.Source{Path: configName, At: s.Config})
	}
	return all, filepath.WalkDir(s.Dir, func(path string, e fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(s.Dir, path)
		name := filepath.ToSlash(rel)
		switch {
		case err != nil:
			return err
		case slices.Contains(left, name) || durable.IsUnfinished(e.Name()):
			if e.IsDir() {
				return fs.SkipDir
			}
			return nil
		case e.Type().IsRegular() && name != "newest.head":
			all = append(all, backup.Source{Path: name, At: path})
		}
		return nil
	})
}

// WriteTar writes a backup as one file: a tar of the objects that a store would have.
func (s *Backups) WriteTar(ctx context.Context, w io.Writer, slabs bool) error {
	s.making.Lock()
	defer s.making.Unlock()
	scratch, err := os.MkdirTemp(s.Scratch, "backup")
	if err != nil {
		return err
	}
	defer os.RemoveAll(scratch)
	to := objects.NewTarWriter(w, scratch, s.Now())
	if slabs {
		p, err := packs.Open(to, scratch)
		if err != nil {
			return err
		}
		defer p.Close()
		versions, err := s.versions(ctx)
		if err != nil {
			return err
		}
		if err := s.Stores.BringInto(ctx, p, versions); err != nil {
			return err
		}
	}
	b, err := s.save(ctx, to, slabs)
	if err != nil {
		return err
	}
	s.Log.Info("backup written", "backup", b.ID(), "bytes", b.Size(), "slabs", slabs, "by", actor.From(ctx))
	return to.Close()
}

// List lists the backups of a store, the newest first.
func (s *Backups) List(ctx context.Context, store string) ([]api.Backup, error) {
	from, name, err := s.Stores.Objects(store)
	if err != nil {
		return nil, err
	}
	all, err := backup.List(ctx, from)
	out := make([]api.Backup, len(all))
	for i, b := range all {
		out[i] = told(b, name)
	}
	return out, err
}

// Check reads all files of a backup, and sees that the slabs are in the store that it has.
func (s *Backups) Check(ctx context.Context, store, id string) (api.BackupCheck, error) {
	from, name, err := s.Stores.Objects(store)
	if err != nil {
		return api.BackupCheck{}, err
	}
	b, err := backup.Find(ctx, from, id)
	if err != nil {
		return api.BackupCheck{}, err
	}
	out := api.BackupCheck{Backup: told(b, name), Faults: []string{}}
	faults, err := backup.Check(ctx, from, b)
	if err != nil {
		return out, err
	}
	more, err := s.lacks(ctx, from, b)
	if err != nil {
		return out, err
	}
	out.Faults = append(append(out.Faults, faults...), more...)
	if out.Sound = len(out.Faults) == 0; !out.Sound {
		s.Log.Error("a backup is not sound", "store", name, "backup", b.ID(), "faults", len(out.Faults))
	}
	return out, nil
}

// lacks tells of which versions a backup with slabs has not all, by the indexes of the store.
func (s *Backups) lacks(ctx context.Context, from objects.Store, b backup.Backup) (faults []string, err error) {
	if !b.Slabs {
		return nil, nil
	}
	scratch, err := os.MkdirTemp(s.Scratch, "check")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(scratch)
	p, err := packs.Open(from, scratch)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	if err := p.Refresh(ctx); err != nil {
		return nil, err
	}
	err = eachMap(ctx, from, b, func(name string, slabs *image.Map, broken error) error {
		if broken != nil {
			faults = append(faults, fmt.Sprintf("%s: %v", name, broken))
			return ctx.Err()
		}
		missing := 0
		for _, d := range slabs.Distinct() {
			if !p.Has(d) {
				missing++
			}
		}
		if missing > 0 {
			faults = append(faults, fmt.Sprintf("%s lacks %d slabs", name, missing))
		}
		return nil
	})
	return faults, err
}

// eachMap goes through the slab maps of the versions in a backup.
func eachMap(ctx context.Context, from objects.Store, b backup.Backup, use func(name string, slabs *image.Map, err error) error) error {
	files := map[string]backup.File{}
	for _, f := range b.Files {
		files[f.Path] = f
	}
	for _, v := range b.Versions {
		slabs, err := versionIn(ctx, from, files, v.Name)
		if slabs == nil && err == nil {
			continue
		}
		if err := use(v.Name, slabs, err); err != nil {
			return err
		}
	}
	return nil
}

// Needed are the slabs that the backups in a store need there.
func (s *Backups) Needed(ctx context.Context, from objects.Store) (map[slabstore.Digest]struct{}, error) {
	all, err := backup.List(ctx, from)
	if err != nil {
		return nil, err
	}
	out := map[slabstore.Digest]struct{}{}
	done := map[slabstore.Digest]bool{} // maps
	for _, b := range all {
		if !b.Slabs {
			continue
		}
		for _, f := range b.Files {
			if done[f.Digest] {
				b.Versions = slices.DeleteFunc(b.Versions, func(v backup.Version) bool { return mapOf(v.Name) == f.Path })
			} else if strings.HasSuffix(f.Path, "/slabs.map") {
				done[f.Digest] = true
			}
		}
		if err := eachMap(ctx, from, b, func(_ string, slabs *image.Map, err error) error {
			if err != nil {
				return err
			}
			for _, d := range slabs.Distinct() {
				out[d] = struct{}{}
			}
			return nil
		}); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Schedule tells when backups are made by themselves.
func (s *Backups) Schedule(ctx context.Context) (api.BackupsDue, error) {
	b, err := s.Records.Backing(ctx)
	return api.BackupsDue{BackupSchedule: api.BackupSchedule{Store: b.Store, At: b.At, Slabs: b.Slabs, Keep: b.Keep}, Begun: records.TimeOf(b.Begun), Ended: records.TimeOf(b.Ended), Trouble: b.Trouble}, err
}

// SetSchedule says when backups are made by themselves.
func (s *Backups) SetSchedule(ctx context.Context, in api.BackupSchedule) (api.BackupsDue, error) {
	if in.Store != "" {
		_, name, err := s.Stores.Objects(in.Store)
		if err != nil {
			return api.BackupsDue{}, err
		}
		in.Store = name
	}
	if err := s.Records.SetBacking(ctx, records.Backing{Store: in.Store, At: in.At, Slabs: in.Slabs, Keep: in.Keep}); err != nil {
		return api.BackupsDue{}, err
	}
	s.Log.Info("when backups are made", "store", in.Store, "at", in.At, "keep", in.Keep, "by", actor.From(ctx))
	s.Publish(api.StoresChanged{})
	return s.Schedule(ctx)
}

// KeepDue makes the backup that is due, if one is, and takes old ones away. One that failed is tried
// again after an hour.
func (s *Backups) KeepDue(ctx context.Context) {
	b, err := s.Records.Backing(ctx)
	if err != nil || b.Store == "" || !Due(s.Now(), b) {
		return
	}
	begun := s.Now()
	err = s.Records.BackedUp(ctx, begun, sql.NullTime{}, "")
	if err == nil {
		_, err = s.Make(ctx, api.NewBackup{Store: b.Store, Slabs: b.Slabs})
	}
	if err == nil {
		err = s.forget(ctx, b.Store, b.Keep)
	}
	if ctx.Err() != nil {
		return
	}
	trouble := ""
	if err != nil {
		trouble = err.Error()
		s.Log.Error("a backup that was due could not be made; it is tried again in an hour", "store", b.Store, "error", err)
	}
	if err := s.Records.BackedUp(ctx, begun, sql.NullTime{Time: s.Now().UTC(), Valid: true}, trouble); err != nil {
		s.Log.Error("how a backup went could not be recorded", "error", err)
	}
	s.Publish(api.StoresChanged{})
}

// again is when one that failed, or was cut off, is tried again.
const again = time.Hour

// Due tells whether a backup is due: its time of day has come since the last one began, or that failed.
func Due(now time.Time, b records.Backing) bool {
	at, err := time.ParseInLocation("15:04", b.At, now.Location())
	if err != nil {
		return false
	}
	last := time.Date(now.Year(), now.Month(), now.Day(), at.Hour(), at.Minute(), 0, 0, now.Location())
	if last.After(now) {
		last = last.AddDate(0, 0, -1)
	}
	switch {
	case !b.Begun.Valid:
		return now.Sub(last) < again // not at once, when it was set up in the afternoon
	case b.Begun.Time.Before(last):
		return true
	}
	return (b.Trouble != "" || !b.Ended.Valid) && now.Sub(b.Begun.Time) >= again
}

// forget takes all but the newest backups of this service out of a store.
func (s *Backups) forget(ctx context.Context, store string, keep int) error {
	from, _, err := s.Stores.Objects(store)
	if err != nil {
		return err
	}
	all, err := backup.List(ctx, from)
	if err != nil || len(all) <= keep {
		return err
	}
	return backup.Remove(ctx, from, all[keep:], s.Now())
}
