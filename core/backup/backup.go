// Package backup keeps copies of a data folder among objects: each file once, by its digest, and for
// each backup a list of what was there.
//
//	b, err := backup.Save(ctx, store, backup.Backup{Taken: now, Service: fingerprint}, files)
//	all, err := backup.List(ctx, store)
//	faults, err := backup.Check(ctx, store, all[0])
//	err = backup.Restore(ctx, store, all[0], "/var/lib/jugate")
//
//	backups/lists/TIME.json   a Backup
//	backups/files/DIGEST      a file, as one Zstandard frame; the digest is BLAKE3-256 of its content
//
// A backup counts when its list is there, which is written last: whatever is cut off leaves files that
// the next one uses, or that Remove takes away.
package backup

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/zeebo/blake3"

	"jugate/core/durable"
	"jugate/core/fault"
	"jugate/core/objects"
	"jugate/core/slabstore"
)

const (
	listFolder = "backups/lists/"
	fileFolder = "backups/files/"
	// maxList is the most bytes that a list may have.
	maxList = 256 << 20
	format  = "jugate backup 1"
)

// Backup says what was there at a time.
type Backup struct {
	Format  string    `json:"format"`
	Taken   time.Time `json:"taken"`
	Service string    `json:"service"` // the fingerprint of its authority
	Version string    `json:"version"` // of Jugate
	Slabs   bool      `json:"slabs"`   // they are in the store, too; otherwise Versions only tells which there were
	// Head is the head of the log that was signed last, as a signed note.
	Head     string    `json:"head"`
	Versions []Version `json:"versions"`
	// Earlier are the IDs of those that were in the store before: a list that lacks one does not make it
	// be forgotten.
	Earlier []string `json:"earlier"`
	Files   []File   `json:"files"`

	// Sent is how many bytes of files were new; of no meaning in a list that is read.
	Sent int64 `json:"-"`
}

// Version is a version of an image, and how many slabs it needs.
type Version struct {
	Name  string `json:"name"`
	Slabs int    `json:"slabs"`
	Store string `json:"store"`
}

// File is one file of the data folder.
type File struct {
	Path   string           `json:"path"` // with slashes, below the data folder
	Size   int64            `json:"size"`
	Mode   fs.FileMode      `json:"mode"`
	Digest slabstore.Digest `json:"digest"`
}

// Source is a file that is to be kept: Path is what it is called in the backup, At where it is now.
type Source struct{ Path, At string }

// ID names a backup among those of a store.
func (b *Backup) ID() string { return b.Taken.UTC().Format("2006-01-02T15-04-05.000Z") }

// Size is how many bytes its files have.
func (b *Backup) Size() (bytes int64) {
	for _, f := range b.Files {
		bytes += f.Size
	}
	return bytes
}

// Save makes a backup of files. One that goes away meanwhile is left out; one that cannot be read as it
// was when its digest was taken is an error.
func Save(ctx context.Context, store objects.Store, b Backup, from []Source) (Backup, error) {
	before, err := ids(ctx, store)
	if err != nil {
		return b, err
	}
	b.Earlier = before
	if err := send(ctx, store, &b, from, Seen{}); err != nil {
		return b, err
	}
	text, err := json.Marshal(b)
	if err != nil {
		return b, err
	}
	_, err = store.Put(ctx, listFolder+b.ID()+".json", text, objects.Absent)
	return b, err
}

// Seen are files whose digests are known for as long as they look as they did.
type Seen map[string]look

type look struct {
	size    int64
	changed time.Time
	file    File
}

// SaveLive is Save for a list that is replaced again and again, under a name of its own. Nothing is
// written if nothing has changed since the last one, whose digest is handed in and back.
func SaveLive(ctx context.Context, store objects.Store, name string, b Backup, from []Source, seen Seen, last slabstore.Digest) (slabstore.Digest, error) {
	taken := b.Taken
	b.Taken = time.Time{}
	if err := send(ctx, store, &b, from, seen); err != nil {
		return last, err
	}
	same, err := json.Marshal(b)
	if err != nil {
		return last, err
	}
	now := slabstore.Sum(same)
	if now == last {
		return last, nil
	}
	b.Taken = taken
	text, err := json.Marshal(b)
	if err != nil {
		return last, err
	}
	if _, err = store.Put(ctx, name, text, objects.Always); err != nil {
		return last, err
	}
	return now, nil
}

// Live is the list of that name.
func Live(ctx context.Context, store objects.Store, name string) (Backup, error) {
	return load(ctx, store, name)
}

// LiveFolder is what the names of such lists begin with, and LiveName how they end: Remove looks for them.
const (
	LiveFolder = "live/"
	LiveName   = "files.json"
)

// send writes the files that a store lacks, and lists all.
func send(ctx context.Context, store objects.Store, b *Backup, from []Source, seen Seen) error {
	b.Format, b.Files, b.Sent = format, nil, 0
	for _, s := range from {
		f, err := seen.describe(s)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		if k, known := seen[s.Path]; !known || k.file.Digest != f.Digest {
			sent, err := sendFile(ctx, store, s.At, f)
			if err != nil {
				return fmt.Errorf("%s: %w", s.Path, err)
			}
			b.Sent += sent
		}
		seen.note(s, f)
		b.Files = append(b.Files, f)
	}
	return nil
}

func (seen Seen) describe(s Source) (File, error) {
	if info, err := os.Stat(s.At); err == nil {
		if k, known := seen[s.Path]; known && k.size == info.Size() && k.changed.Equal(info.ModTime()) {
			return k.file, nil
		}
	}
	return describe(s)
}

// note remembers a file that is in the store.
func (seen Seen) note(s Source, f File) {
	if info, err := os.Stat(s.At); err == nil && info.Size() == f.Size {
		seen[s.Path] = look{info.Size(), info.ModTime(), f}
	}
}

func describe(s Source) (File, error) {
	in, err := os.Open(s.At)
	if err != nil {
		return File{}, err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return File{}, err
	}
	h := blake3.New()
	n, err := io.Copy(h, in)
	return File{Path: s.Path, Size: n, Mode: info.Mode().Perm(), Digest: slabstore.Digest(h.Sum(nil))}, err
}

// sendFile writes the content of a file, unless it is there.
func sendFile(ctx context.Context, store objects.Store, at string, f File) (int64, error) {
	name := fileFolder + f.Digest.String()
	if _, err := store.Stat(ctx, name); !errors.Is(err, objects.ErrNotFound) {
		return 0, err
	}
	in, err := os.Open(at)
	if err != nil {
		return 0, err
	}
	defer in.Close()
	r, w := io.Pipe()
	go func() {
		h := blake3.New()
		z, err := zstd.NewWriter(w, zstd.WithEncoderConcurrency(1))
		if err == nil {
			_, err = io.Copy(io.MultiWriter(z, h), in)
			err = errors.Join(err, z.Close())
		}
		if err == nil && slabstore.Digest(h.Sum(nil)) != f.Digest {
			err = fault.Conflict.Errorf("it was changed while it was read")
		}
		w.CloseWithError(err) // a write that has read all of it fails, too
	}()
	err = store.Write(ctx, name, r)
	r.Close()
	return f.Size, err
}

// ids are those of the backups of a store, in the order of time.
func ids(ctx context.Context, store objects.Store) (all []string, err error) {
	for o, err := range store.List(ctx, listFolder) {
		if err != nil {
			return nil, err
		}
		all = append(all, strings.TrimSuffix(strings.TrimPrefix(o.Name, listFolder), ".json"))
	}
	return all, nil
}

// List lists the backups of a store, the newest first.
func List(ctx context.Context, store objects.Store) (all []Backup, err error) {
	names, err := ids(ctx, store)
	for _, id := range slices.Backward(names) {
		b, err := load(ctx, store, listFolder+id+".json")
		if err != nil {
			return nil, err
		}
		all = append(all, b)
	}
	return all, err
}

// Find is the backup of a name, or the newest if that is empty. A fault.NotFound says that there is none.
func Find(ctx context.Context, store objects.Store, id string) (b Backup, err error) {
	if id == "" {
		all, err := ids(ctx, store)
		if err != nil {
			return b, err
		}
		if len(all) == 0 {
			return b, fault.NotFound.Errorf("there is no backup there")
		}
		id = all[len(all)-1]
	}
	b, err = load(ctx, store, listFolder+id+".json")
	if errors.Is(err, objects.ErrNotFound) || errors.Is(err, objects.ErrName) {
		err = fault.NotFound.Errorf("there is no backup %s there", id)
	}
	return b, err
}

// load reads a list, and sees that nothing in it reaches beyond a data folder.
func load(ctx context.Context, store objects.Store, name string) (b Backup, err error) {
	raw, err := objects.Read(ctx, store, name, maxList)
	if err != nil {
		return b, err
	}
	if err := json.Unmarshal(raw, &b); err != nil || b.Format != format {
		return b, fault.Invalid.Errorf("%s is not the list of a backup that this version knows", name)
	}
	for _, f := range b.Files {
		if !filepath.IsLocal(filepath.FromSlash(f.Path)) || f.Size < 0 || f.Mode&^0o777 != 0 {
			return b, fault.Invalid.Errorf("%s lists a file that cannot be: %q", name, f.Path)
		}
	}
	return b, nil
}

// Check reads every file of a backup and compares its digest. What is wrong is told in words.
func Check(ctx context.Context, store objects.Store, b Backup) (faults []string, err error) {
	for _, f := range b.Files {
		if err := ctx.Err(); err != nil {
			return faults, err
		}
		if err := fetch(ctx, store, f, io.Discard); err != nil {
			faults = append(faults, fmt.Sprintf("%s: %v", f.Path, err))
		}
	}
	return faults, nil
}

// fetch reads a file of a backup, checked when it is through.
func fetch(ctx context.Context, store objects.Store, f File, into io.Writer) error {
	in, err := store.Open(ctx, fileFolder+f.Digest.String(), 0, -1)
	if err != nil {
		return err
	}
	defer in.Close()
	z, err := zstd.NewReader(in, zstd.WithDecoderConcurrency(1))
	if err != nil {
		return err
	}
	defer z.Close()
	h := blake3.New()
	n, err := io.Copy(io.MultiWriter(into, h), io.LimitReader(z, f.Size+1))
	if err != nil {
		return err
	}
	if n != f.Size || slabstore.Digest(h.Sum(nil)) != f.Digest {
		return fault.Invalid.Errorf("it is damaged: %d bytes, or others, where %d were kept", n, f.Size)
	}
	return nil
}

// Restore puts the files of a backup into a folder, which must be empty or not be there. It is there
// whole or not at all.
func Restore(ctx context.Context, store objects.Store, b Backup, dir string) error {
	return RestoreWith(ctx, store, b, dir, func(string) error { return nil })
}

// RestoreWith is Restore with more that goes into the folder before it is there: more is told where it
// lies until then.
func RestoreWith(ctx context.Context, store objects.Store, b Backup, dir string, more func(dir string) error) error {
	left, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if len(left) > 0 {
		return fault.Conflict.Errorf("%s is not empty: a backup goes into a folder of its own", dir)
	}
	if err := os.MkdirAll(filepath.Dir(dir), 0o755); err != nil {
		return err
	}
	into, err := durable.CreateFolder(filepath.Dir(dir))
	if err != nil {
		return err
	}
	defer into.Drop()
	for _, f := range b.Files {
		if err := restoreFile(ctx, store, f, into.Path); err != nil {
			return fmt.Errorf("%s: %w", f.Path, err)
		}
	}
	if err := more(into.Path); err != nil {
		return err
	}
	if err := os.Chmod(into.Path, 0o750); err != nil {
		return err
	}
	if err := os.Remove(dir); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return into.Keep(dir)
}

func restoreFile(ctx context.Context, store objects.Store, f File, dir string) error {
	path := filepath.Join(dir, filepath.FromSlash(f.Path))
	if err := os.MkdirAll(filepath.Dir(path), 0o750); err != nil {
		return err
	}
	out, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	err = fetch(ctx, store, f, out)
	return errors.Join(err, out.Chmod(f.Mode), out.Sync(), out.Close())
}

// ReadFile reads one small file of a backup.
func ReadFile(ctx context.Context, store objects.Store, f File) ([]byte, error) {
	var b strings.Builder
	if f.Size > maxList {
		return nil, fault.TooLarge.Errorf("%s has %d bytes", f.Path, f.Size)
	}
	err := fetch(ctx, store, f, &b)
	return []byte(b.String()), err
}

// orphanAge is how old a file must be that no backup has, to be what a cut has left.
const orphanAge = 24 * time.Hour

// Remove takes backups away, and then the files that no other one has. Those that a list lacks, and
// that another backup knows of, are asked for by their names.
func Remove(ctx context.Context, store objects.Store, gone []Backup, now time.Time) error {
	listed, err := List(ctx, store)
	if err != nil {
		return err
	}
	stay, may := map[string]bool{}, map[string]bool{}
	for _, b := range append(slices.Clone(listed), gone...) {
		stay[b.ID()] = true
		for _, id := range b.Earlier {
			stay[id] = true
		}
	}
	for _, b := range gone {
		delete(stay, b.ID())
		for _, f := range b.Files {
			may[fileFolder+f.Digest.String()] = true
		}
		if err := store.Remove(ctx, listFolder+b.ID()+".json"); err != nil {
			return err
		}
	}
	needed := map[string]bool{}
	for id := range stay {
		b, err := load(ctx, store, listFolder+id+".json")
		if errors.Is(err, objects.ErrNotFound) {
			continue // it was taken away long ago
		}
		if err != nil {
			return err
		}
		for _, f := range b.Files {
			needed[fileFolder+f.Digest.String()] = true
		}
	}
	for o, err := range store.List(ctx, LiveFolder) {
		if err != nil {
			return err
		}
		if !strings.HasSuffix(o.Name, "/"+LiveName) {
			continue
		}
		b, err := load(ctx, store, o.Name)
		if err != nil {
			return err
		}
		for _, f := range b.Files {
			needed[fileFolder+f.Digest.String()] = true
		}
	}
	for o, err := range store.List(ctx, fileFolder) {
		if err != nil {
			return err
		}
		if !needed[o.Name] && (may[o.Name] || now.Sub(o.Changed) > orphanAge) {
			if err := store.Remove(ctx, o.Name); err != nil {
				return err
			}
		}
	}
	return nil
}
