package stock

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/archive"
	"jugate/core/bootentry"
	"jugate/core/fault"
	"jugate/core/order"
	"jugate/core/parts"
	"jugate/core/roster"
	"jugate/core/slabstore"
	"jugate/records"
)

// maxBootEntry bounds what is sent for a boot entry at once, in bytes.
const maxBootEntry = 16 << 30

// AddBootEntry takes what workstations can boot, as the next version of a boot entry, which is made if there is none of that name.
// file is what it is called, and only a folder in it that it is narrowed to.
func (k *Stock) AddBootEntry(ctx context.Context, name, file, only string, body io.Reader) (api.BootEntry, error) {
	if err := roster.CheckName("a boot entry", name); err != nil {
		return api.BootEntry{}, err
	}
	dir, err := os.MkdirTemp(k.Scratch, "bootentry")
	if err != nil {
		return api.BootEntry{}, err
	}
	defer os.RemoveAll(dir)
	given, err := os.Create(filepath.Join(dir, "given"))
	if err != nil {
		return api.BootEntry{}, err
	}
	defer given.Close()
	n, err := io.Copy(given, io.LimitReader(body, maxBootEntry+1))
	switch {
	case err != nil:
		return api.BootEntry{}, err
	case n > maxBootEntry:
		return api.BootEntry{}, fault.TooLarge.Errorf("%s has more than %d bytes", file, int64(maxBootEntry))
	}
	if err := os.Mkdir(filepath.Join(dir, "files"), 0o700); err != nil {
		return api.BootEntry{}, err
	}
	root, err := os.OpenRoot(filepath.Join(dir, "files"))
	if err != nil {
		return api.BootEntry{}, err
	}
	defer root.Close()
	look := bootentry.Given{Files: root.FS(), Only: only}
	limits := archive.Limits{Bytes: maxBootEntry}
	if archive.IsDisc(given) {
		look.Disc, limits.Only = n, bootentry.OnDisc
	}
	if _, err = archive.Unpack(given, n, root, limits); errors.Is(err, archive.ErrUnknown) {
		err = single(root, cmp.Or(filepath.Base(file), "program"), io.NewSectionReader(given, 0, n))
	}
	if err != nil {
		return api.BootEntry{}, fmt.Errorf("%s: %w", file, err)
	}
	found, err := bootentry.Recognise(look)
	if err != nil {
		return api.BootEntry{}, fmt.Errorf("%s: %w", file, err)
	}
	k.entering.Lock()
	defer k.entering.Unlock()
	if err := k.keepFiles(found, root, given); err != nil {
		return api.BootEntry{}, err
	}
	number, err := k.Records.AddBootVersion(ctx, name, records.BootEntryVersion{Origin: file, Added: k.Now(), AddedBy: actor.From(ctx).String()}, *found)
	if err != nil {
		return api.BootEntry{}, err
	}
	k.Log.Info("boot entry added", "entry", name, "version", number, "what", found.What, "from", file, "by", actor.From(ctx))
	k.Publish(api.BootEntriesChanged{})
	return k.BootEntry(ctx, name)
}

// single puts a file that is no archive into the folder.
func single(root *os.Root, name string, from io.Reader) error {
	f, err := root.Create(name)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, from)
	return errors.Join(err, f.Close())
}

// keepFiles keeps the files of what was recognised; disc is the image of the medium that they were on.
func (k *Stock) keepFiles(found *bootentry.Found, root *os.Root, disc *os.File) (err error) {
	kept := map[string]parts.Part{}
	for _, s := range found.Starts {
		for i := range s.Files {
			file := &s.Files[i]
			if _, is := kept[file.Path]; !is {
				if kept[file.Path], err = k.keepFile(file.Path, root, disc); err != nil {
					return err
				}
			}
			file.Part = kept[file.Path]
		}
	}
	return nil
}

func (k *Stock) keepFile(path string, root *os.Root, disc *os.File) (parts.Part, error) {
	from := disc
	if path != bootentry.DiscPath {
		f, err := root.Open(path)
		if err != nil {
			return parts.Part{}, err
		}
		defer f.Close()
		from = f
	}
	return k.Entries.Put(func(w io.Writer) error {
		_, err := io.Copy(w, io.NewSectionReader(from, 0, math.MaxInt64))
		return err
	})
}

// named is the boot entry of a name.
func (k *Stock) named(ctx context.Context, name string) (e entry, versions []records.BootEntryVersion, err error) {
	row, err := k.Records.BootEntry(ctx, name)
	if err != nil {
		return e, nil, err
	}
	if versions, err = k.Records.BootVersions(ctx, row.ID); err == nil {
		e, err = entryOf(*row, versions)
	}
	return e, versions, err
}

// allEntries are all boot entries, in the order of menus.
func (k *Stock) allEntries(ctx context.Context) (all []entry, err error) {
	rows, _, err := k.Records.BootEntries(ctx, records.Page{})
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	versions, err := k.Records.BootVersions(ctx, 0)
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		e, err := entryOf(row, versions)
		if err != nil {
			return nil, err
		}
		all = append(all, e)
	}
	slices.SortStableFunc(all, func(a, b entry) int { return cmp.Compare(a.set.Position, b.set.Position) })
	return all, nil
}

// BootEntry shows one.
func (k *Stock) BootEntry(ctx context.Context, name string) (api.BootEntry, error) {
	e, versions, err := k.named(ctx, name)
	if err != nil {
		return api.BootEntry{}, err
	}
	return e.shape(versions)
}

// BootEntryList lists them.
func (k *Stock) BootEntryList(ctx context.Context, p records.Page) ([]api.BootEntry, int, error) {
	rows, total, err := k.Records.BootEntries(ctx, p)
	if err != nil {
		return nil, 0, err
	}
	versions, err := k.Records.BootVersions(ctx, 0)
	if err != nil {
		return nil, 0, err
	}
	all := make([]api.BootEntry, len(rows))
	for i, row := range rows {
		e, err := entryOf(row, versions)
		if err == nil {
			all[i], err = e.shape(versions)
		}
		if err != nil {
			return nil, 0, err
		}
	}
	return all, total, nil
}

// SetBootEntry keeps what an engineer says of a boot entry.
func (k *Stock) SetBootEntry(ctx context.Context, name string, set api.BootEntrySettings) (api.BootEntry, error) {
	e, versions, err := k.named(ctx, name)
	if err != nil {
		return api.BootEntry{}, err
	}
	if set.Pinned != 0 && !slices.ContainsFunc(versions, func(v records.BootEntryVersion) bool { return v.Number == set.Pinned }) {
		return api.BootEntry{}, fault.NotFound.Errorf("the boot entry %s has no version %d", e.Name, set.Pinned)
	}
	e.set = set
	if err := e.check(); err != nil {
		return api.BootEntry{}, err
	}
	roles, err := k.Records.Roles(ctx)
	if err != nil {
		return api.BootEntry{}, err
	}
	for _, r := range set.Released {
		if r != order.Everybody && !slices.ContainsFunc(roles, func(is records.Role) bool { return strings.EqualFold(is.Name, r) }) {
			return api.BootEntry{}, fault.NotFound.Errorf("there is no role %s", r)
		}
	}
	if len(set.To) > 0 {
		if _, err := k.Records.Targets(ctx, set.To); err != nil && fault.KindOf(err) != fault.Conflict {
			return api.BootEntry{}, err
		}
	}
	if err := k.Records.SaveBootEntry(ctx, e.ID, set, k.Now(), actor.From(ctx).String()); err != nil {
		return api.BootEntry{}, err
	}
	k.Publish(api.BootEntriesChanged{})
	return k.BootEntry(ctx, name)
}

// RemoveBootEntry forgets a version of a boot entry, or with number 0 all of it, and removes files that nothing else has.
func (k *Stock) RemoveBootEntry(ctx context.Context, name string, number int) error {
	k.entering.Lock()
	defer k.entering.Unlock()
	e, versions, err := k.named(ctx, name)
	if err != nil {
		return err
	}
	if number != 0 && len(versions) == 1 && versions[0].Number == number {
		return fault.Conflict.Errorf("version %d is the only one of the boot entry %s; remove the boot entry", number, e.Name)
	}
	if err := k.Records.RemoveBootVersion(ctx, e.ID, number); err != nil {
		return err
	}
	k.Log.Info("boot entry removed", "entry", e.Name, "version", number, "by", actor.From(ctx))
	k.Publish(api.BootEntriesChanged{})
	return k.sweepEntries(ctx, versions)
}

// sweepEntries removes files of versions that no version has any more.
func (k *Stock) sweepEntries(ctx context.Context, were []records.BootEntryVersion) error {
	left, err := k.Records.BootVersions(ctx, 0)
	if err != nil {
		return err
	}
	needed := map[slabstore.Digest]bool{}
	for _, v := range left {
		found, err := v.Found()
		if err != nil {
			return err // what it needs cannot be told
		}
		for _, p := range found.Parts() {
			needed[p.Digest] = true
		}
	}
	for _, v := range were {
		found, err := v.Found()
		if err != nil {
			return err
		}
		for _, p := range found.Parts() {
			if !needed[p.Digest] {
				if err := k.Entries.Remove(p); err != nil {
					return err
				}
			}
		}
	}
	return nil
}
