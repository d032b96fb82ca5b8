package intake

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"

	"jugate/core/errand"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/durable"
	"jugate/core/fault"
	"jugate/core/image"
	"jugate/core/roster"
	"jugate/core/slabstore"
	"jugate/records"
)

// Upload is a version on its way into the store: a workstation's capture, or what
// a person imports.
type Upload struct {
	key         string // names it among all that are open
	image, note string
	keepEqual   bool            // make a version although nothing has changed
	days        int             // for which it is kept, of a disk that is to be erased
	folders     bool            // some of it go back, and have to be handed in first
	errand      *records.Errand // of a capture
}

// Errand is the number of the errand that captures; 0 for what a person imports.
func (u *Upload) Errand() int64 {
	if u.errand == nil {
		return 0
	}
	return u.errand.ID
}

func uploadOf(errand int64) string { return fmt.Sprintf("errand-%d", errand) }

// Missing tells which slabs the store lacks, and keeps those it has from being
// pruned while the upload is open.
func (k *Intake) Missing(u *Upload, ask api.Digests) (api.Digests, error) {
	missing := api.Digests{Digests: []string{}}
	for _, text := range ask.Digests {
		d, err := slabstore.ParseDigest(text)
		if err != nil {
			return missing, err
		}
		k.pins.pin(u.key, d)
		if !k.Slabs.Has(d) {
			missing.Digests = append(missing.Digests, text)
		}
	}
	return missing, nil
}

// quotaBeyond is what a capture may store beyond the size of its workstation's disks:
// frames of slabs that cannot be compressed are a little longer.
const quotaBeyond = 64 << 20

// mayStore keeps a capture from storing more than the size of its workstation's disks.
func (k *Intake) mayStore(ctx context.Context, u *Upload, n int64) error {
	if u.errand == nil {
		return nil
	}
	quota := k.captures.quota(u.key)
	if quota == 0 {
		w, err := k.Records.Workstation(ctx, u.errand.WorkstationID)
		if err != nil {
			return err
		}
		quota = quotaBeyond
		for _, size := range w.Disks() {
			quota += size
		}
		k.captures.setQuota(u.key, quota)
	}
	if stored := k.captures.stored(u.key); stored+n > quota {
		return fault.TooLarge.Errorf("this capture has stored %d bytes, more than the workstation's disks have", stored)
	}
	return nil
}

// Put stores the frame of a slab.
func (k *Intake) Put(ctx context.Context, u *Upload, d slabstore.Digest, frame []byte) error {
	if err := errors.Join(k.mayStore(ctx, u, int64(len(frame))), k.Room()); err != nil {
		return err
	}
	k.pins.pin(u.key, d)
	added, err := k.Slabs.Put(d, frame)
	if added {
		k.captures.count(u.key, int64(len(frame)))
	}
	return err
}

func (k *Intake) uploadedMap(upload string) string {
	return filepath.Join(k.Dir, "uploads", upload+".map")
}

// Commit makes an upload a version: it checks that it is whole, writes its files, and then
// makes it visible in one transaction. What the manifest of a capture says of its source
// and time is replaced by what the service knows; that of an import stays as it
// is, so that one version has one digest everywhere. Where the newest version in use holds
// the same already, none is made, and that one is told; made is false then.
func (k *Intake) Commit(ctx context.Context, u *Upload, text []byte) (v *records.Version, made bool, err error) {
	man, err := image.ParseManifest(text)
	if err != nil {
		return nil, false, err
	}
	if err := k.mustHaveFolders(ctx, u); err != nil {
		return nil, false, err
	}
	raw, err := os.ReadFile(k.uploadedMap(u.key))
	if errors.Is(err, os.ErrNotExist) {
		return nil, false, fault.Conflict.Errorf("the slab map has to come before the manifest")
	} else if err != nil {
		return nil, false, err
	}
	slabs, err := image.ParseMap(raw, man)
	if err != nil {
		return nil, false, err
	}
	for i, d := range slabs.Distinct() {
		k.pins.pin(u.key, d)
		if !k.Slabs.Has(d) {
			return nil, false, fault.Conflict.Errorf("slab %d (%s) is not in the store; try again, which sends just what is missing", i, d.Short())
		}
	}
	if err := k.Slabs.Flush(); err != nil {
		return nil, false, err
	}
	if u.errand != nil {
		source, err := k.Records.Workstation(ctx, u.errand.WorkstationID)
		if err != nil {
			return nil, false, err
		}
		man.Captured = k.Now().UTC().Truncate(time.Second)
		man.Source = image.Source{Workstation: source.Name, Address: source.Address(), Model: source.Model}
		if man.Despite != nil {
			man.Despite.By = actor.Administrator.String()
		}
		if text, err = man.Encode(); err != nil {
			return nil, false, err
		}
	}

	k.captures.commit.Lock()
	defer k.captures.commit.Unlock()
	if same, err := k.sameAsNewest(ctx, u, man); err != nil || same != nil {
		return same, false, err
	}
	number, err := k.Records.NextVersion(ctx, u.image)
	if err != nil {
		return nil, false, err
	}
	ref := roster.Ref{Image: u.image, Version: number}
	if err := k.Files.Save(ref, text, raw); err != nil {
		return nil, false, err
	}
	row := recorded(ref, man, text)
	v = &row
	v.Note = u.note
	counts := k.captures.take(u.key)
	v.NewSlabs, v.StoredBytes = counts.slabs, counts.bytes
	errand := int64(0)
	if u.errand != nil {
		errand = u.errand.ID
	}
	if u.days > 0 {
		v.PrivateOf, v.Expires = u.errand.WorkstationID, sql.NullTime{Time: k.until(u).UTC(), Valid: true}
	}
	if v.MovesTo, err = k.Stores.NewVersionsTo(ctx); err != nil {
		return nil, false, err
	}
	v.Store = records.FolderStore
	if err := k.Records.AddVersion(ctx, k.Now(), errand, *v); err != nil {
		return nil, false, err
	}
	if v.Note != "" {
		if err := k.keepState(ctx, ref); err != nil {
			k.Log.Warn("what was said of a version cannot be kept beside it", "image", ref, "error", err)
		}
	}
	k.pins.release(u.key)
	k.imports.end(u.key)
	k.Log.Info("version committed", "image", v.Ref(), "workstation", v.Workstation, "used_bytes", v.UsedBytes, "new_slabs", v.NewSlabs)
	k.Publish(VersionOf(*v))
	k.lean.wake()
	k.Stores.Wake()
	return v, true, os.Remove(k.uploadedMap(u.key))
}

// sameAsNewest is the newest version of an upload's image, if that is in use and holds the
// same; the upload is over then.
func (k *Intake) sameAsNewest(ctx context.Context, u *Upload, man *image.Manifest) (*records.Version, error) {
	if u.keepEqual {
		return nil, nil
	}
	newest, err := k.Records.Version(ctx, roster.Ref{Image: u.image})
	if errors.Is(err, fault.NotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	before, _, err := k.Load(newest)
	if err != nil || newest.Retired.Valid || !image.SameContent(before, man) {
		return nil, nil // one that cannot be read is nothing to rely on
	}
	if u.days > 0 { // it is kept for as long as if it had been captured now
		if err := k.Records.KeepUntil(ctx, newest.Ref(), k.until(u)); err != nil {
			return nil, err
		}
	}
	if u.errand != nil {
		if err := k.Records.EndUnchanged(ctx, k.Now(), u.errand.ID, newest.Number, fmt.Sprintf("nothing has changed since %s, so no version was made", newest.Ref())); err != nil {
			return nil, err
		}
	}
	k.captures.take(u.key)
	k.pins.release(u.key)
	k.imports.end(u.key)
	k.Log.Info("nothing has changed", "image", newest.Ref(), "import", u.errand == nil)
	return newest, os.Remove(k.uploadedMap(u.key))
}

// until is when a disk that was saved before it was erased expires.
func (k *Intake) until(u *Upload) time.Time { return k.Now().AddDate(0, 0, u.days) }

// recorded is what the records say of a version, from its manifest.
func recorded(ref roster.Ref, man *image.Manifest, text []byte) records.Version {
	v := records.Version{
		Image: ref.Image, Number: ref.Version, Digest: slabstore.Sum(text).String(), Captured: man.Captured,
		Workstation: man.Source.Workstation, DiskBytes: man.Table.DiskSize(), UsedBytes: man.UsedBytes, Slabs: man.Slabs,
		Unreadable: man.UnreadableBytes(),
	}
	if man.Despite != nil {
		v.Despite = man.Despite.Reason
	}
	return v
}

// OpenCapture finds a capture that a workstation is doing. Anything else, one that was
// stopped included, is a fault.
func (k *Intake) OpenCapture(ctx context.Context, workstation, id int64) (*Upload, error) {
	e, err := k.Records.RunningErrand(ctx, workstation, id, errand.Capture)
	if err != nil {
		return nil, err
	}
	how, err := records.OptionsOf[records.SaveOptions](e)
	return &Upload{key: uploadOf(id), image: e.Image, note: e.Note, keepEqual: how.KeepEqual, days: how.Days, folders: len(how.Folders) > 0, errand: e}, err
}

// GiveUp forgets what was held for a capture. What it has stored stays for the next try.
func (k *Intake) GiveUp(errand int64) {
	key := uploadOf(errand)
	k.captures.take(key)
	k.pins.release(key)
	os.Remove(k.uploadedMap(key))
}

// PutMap keeps the slab map of an upload.
func (k *Intake) PutMap(u *Upload, raw []byte) error {
	return durable.Write(k.uploadedMap(u.key), raw, 0o640)
}

// captures counts what running captures have put into the store.
type captures struct {
	mu     sync.Mutex
	counts map[string]stored // by upload
	quotas map[string]int64  // bytes, by upload
	commit sync.Mutex        // one version becomes visible at a time
}

// quota is how many bytes an upload may store; 0 if that is not known yet.
func (c *captures) quota(upload string) int64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.quotas[upload]
}

func (c *captures) setQuota(upload string, bytes int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.quotas == nil {
		c.quotas = map[string]int64{}
	}
	c.quotas[upload] = bytes
}

// stored is how many bytes an upload has stored.
func (c *captures) stored(upload string) int64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.counts[upload].bytes
}

type stored struct {
	slabs int
	bytes int64
}

func (c *captures) count(upload string, bytes int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.counts == nil {
		c.counts = map[string]stored{}
	}
	n := c.counts[upload]
	c.counts[upload] = stored{n.slabs + 1, n.bytes + bytes}
}

// take returns the counts of an upload that has ended.
func (c *captures) take(upload string) stored {
	c.mu.Lock()
	defer c.mu.Unlock()
	n := c.counts[upload]
	delete(c.counts, upload)
	delete(c.quotas, upload)
	return n
}
