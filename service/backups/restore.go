package backups

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"jugate/core/backup"
	"jugate/core/image"
	"jugate/core/objects"
	"jugate/core/packs"
	"jugate/core/roster"
	"jugate/core/slabstore"
	"jugate/records"
)

// Restored is what came of a restore, and what is newer elsewhere.
type Restored struct {
	Backup    string    `json:"backup"`
	Taken     time.Time `json:"taken"`
	Files     int       `json:"file_count"`
	Slabs     int       `json:"slabs"` // that came back into the data folder
	Bytes     int64     `json:"bytes"` // of those, as stored
	Missing   []string  `json:"missing"`
	Newer     []string  `json:"newer_backups"`
	Receipts  int       `json:"receipts"`
	Witnesses []string  `json:"witnesses"` // who may have seen more
	Outposts  []string  `json:"outposts"`
}

// Restore makes a data folder of a backup, whose service must not run. The slabs come back of versions
// that were in the data folder, if the backup has them; progress tells how many have.
func Restore(ctx context.Context, from objects.Store, id, dir string, now time.Time, progress func(done, total int)) (out Restored, err error) {
	b, err := backup.Find(ctx, from, id)
	if err != nil {
		return out, err
	}
	out = Restored{Backup: b.ID(), Taken: b.Taken, Files: len(b.Files), Missing: []string{}, Newer: []string{}, Witnesses: []string{}, Outposts: []string{}}
	if err := backup.Restore(ctx, from, b, dir); err != nil {
		return out, err
	}
	if err := restoreSlabs(ctx, from, b, dir, &out, progress); err != nil {
		return out, err
	}
	all, err := backup.List(ctx, from)
	if err != nil {
		return out, err
	}
	for _, other := range all {
		if other.Taken.After(b.Taken) {
			out.Newer = append(out.Newer, other.ID())
		}
	}
	return out, tell(ctx, dir, now, &out)
}

// tell reads in the records who may know of more.
func tell(ctx context.Context, dir string, now time.Time, out *Restored) error {
	db, err := records.Open(ctx, now, filepath.Join(dir, recordsName))
	if err != nil {
		return err
	}
	defer db.Close()
	if _, out.Receipts, err = db.Receipts(ctx, records.ReceiptFilter{}, records.Page{Limit: 1}); err != nil {
		return err
	}
	witnesses, err := db.Witnesses(ctx)
	if err != nil {
		return err
	}
	for _, w := range witnesses {
		out.Witnesses = append(out.Witnesses, w.Name)
	}
	outposts, err := db.Outposts(ctx)
	for _, o := range outposts {
		out.Outposts = append(out.Outposts, o.Name)
	}
	return err
}

func restoreSlabs(ctx context.Context, from objects.Store, b backup.Backup, dir string, out *Restored, progress func(done, total int)) error {
	folder, err := slabstore.Open(filepath.Join(dir, "slabs"))
	if err != nil {
		return err
	}
	wanted, missing := map[slabstore.Digest]string{}, map[string]int{}
	files := image.Files{Dir: filepath.Join(dir, "images")}
	for _, v := range b.Versions {
		if v.Store != records.FolderStore {
			continue
		}
		slabs, err := mapIn(files, v.Name)
		if err != nil {
			return err
		}
		for _, d := range slabs.Distinct() {
			wanted[d] = v.Name
		}
	}
	if b.Slabs {
		if err := bringBack(ctx, from, folder, wanted, out, progress); err != nil {
			return err
		}
	}
	for _, name := range wanted {
		missing[name]++
	}
	for name, n := range missing {
		out.Missing = append(out.Missing, fmt.Sprintf("%s lacks %d slabs", name, n))
	}
	return nil
}

func mapIn(files image.Files, name string) (*image.Map, error) {
	ref, err := roster.ParseRef(name)
	if err != nil {
		return nil, err
	}
	manifest, slabs := files.Paths(ref)
	text, err := os.ReadFile(manifest)
	if err != nil {
		return nil, err
	}
	man, err := image.ParseManifest(text)
	if err != nil {
		return nil, err
	}
	raw, err := os.ReadFile(slabs)
	if err != nil {
		return nil, err
	}
	return image.ParseMap(raw, man)
}

// bringBack fetches slabs into the folder, and takes those that came out of wanted.
func bringBack(ctx context.Context, from objects.Store, folder *slabstore.Store, wanted map[slabstore.Digest]string, out *Restored, progress func(done, total int)) error {
	scratch, err := os.MkdirTemp("", "restore")
	if err != nil {
		return err
	}
	defer os.RemoveAll(scratch)
	p, err := packs.Open(from, scratch)
	if err != nil {
		return err
	}
	defer p.Close()
	if err := p.Refresh(ctx); err != nil {
		return err
	}
	front := slabstore.NewFront(ctx, folder)
	front.SetBehind([]slabstore.Behind{readOnly{p}})
	total := len(wanted)
	for d := range wanted {
		if err := ctx.Err(); err != nil {
			return err
		}
		frame, err := front.Frame(d)
		if err != nil {
			continue // it stays wanted, and is told
		}
		if err := folder.Sync(d); err != nil {
			return err
		}
		if _, err := folder.Put(d, frame); err != nil {
			return err
		}
		delete(wanted, d)
		out.Slabs, out.Bytes = out.Slabs+1, out.Bytes+int64(len(frame))
		progress(out.Slabs, total)
	}
	return folder.Flush()
}

// readOnly is a store of which nothing is marked: it may be a file.
type readOnly struct{ *packs.Packs }

func (readOnly) Damaged(context.Context, slabstore.Digest) error { return nil }
