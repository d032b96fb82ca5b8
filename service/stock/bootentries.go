package stock

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
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
	"jugate/core/selection"
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
func (k *Stock) keepFiles(found *bootentry.Found, root *os.Root, disc *os.File) error {
	kept := map[string]parts.Part{}
	for i := range found.Starts {
		for j := range found.Starts[i].Files {
			file := &found.Starts[i].Files[j]
			part, is := kept[file.Path]
			if !is {
				var err error
				if part, err = k.Entries.Put(func(w io.Writer) error {
					if file.Path == bootentry.DiscPath {
						_, err := disc.Seek(0, io.SeekStart)
						if err == nil {
							_, err = io.Copy(w, disc)
						}
						return err
					}
					f, err := root.Open(file.Path)
					if err != nil {
						return err
					}
					defer f.Close()
					_, err = io.Copy(w, f)
					return err
				}); err != nil {
					return err
				}
				kept[file.Path] = part
			}
			file.Part = part
		}
	}
	return nil
}

// entry is a boot entry with the version that is shown.
type entry struct {
	records.BootEntry
	set   api.BootEntrySettings
	shown *records.BootEntryVersion // nil if there is none
	found bootentry.Found
}

// entryOf reads a boot entry of these versions, the newest first. The version that is pinned is shown; if it is gone, the newest.
func entryOf(row records.BootEntry, versions []records.BootEntryVersion) (e entry, err error) {
	e.BootEntry = row
	if e.set, err = row.Set(); err != nil {
		return e, err
	}
	for i := range versions {
		if v := &versions[i]; v.EntryID == row.ID && (e.shown == nil || v.Number == e.set.Pinned) {
			e.shown = v
		}
	}
	if e.shown != nil {
		e.found, err = e.shown.Found()
	}
	return e, err
}

func (e *entry) title() string {
	title := cmp.Or(e.set.Title, e.Name)
	if e.destroys() {
		title += " (all data on this disk is lost)"
	}
	return title
}

// ref names the version that is shown.
func (e *entry) ref() string {
	if e.shown == nil {
		return e.Name
	}
	return fmt.Sprintf("%s@%d", e.Name, e.shown.Number)
}

// reads is the form of its answer file.
func (e *entry) reads() bootentry.Format {
	switch e.set.Reads {
	case "":
		return e.found.Reads
	case "none":
		return bootentry.NoFormat
	default:
		return bootentry.Format(e.set.Reads)
	}
}

// words is the template of its kernel's command line.
func (e *entry) words() string {
	if e.set.Words != "" || e.set.Reads != "" && e.set.Reads != string(e.found.Reads) {
		return e.set.Words
	}
	return e.found.Words
}

// answerFile is the template of its answer file; empty if it reads none.
func (e *entry) answerFile() string {
	if e.reads() == bootentry.NoFormat {
		return ""
	}
	return cmp.Or(e.set.AnswerFile, e.reads().Template())
}

// destroys tells whether it destroys what is on the disk without asking.
func (e *entry) destroys() bool {
	return e.set.Erases || e.set.AnswerFile == "" && e.reads().Template() != ""
}

// tells tells whether it says to the service when it is done.
func (e *entry) tells() bool {
	return strings.Contains(e.answerFile()+e.words(), "."+bootentry.EndURL)
}

func (e *entry) parameters() (all []bootentry.Parameter) {
	if len(e.set.Parameters) == 0 && e.set.AnswerFile == "" {
		return e.reads().Parameters()
	}
	for _, p := range e.set.Parameters {
		all = append(all, bootentry.Parameter(p))
	}
	return all
}

// values are what its parameters are, given those that were said. Errors say which one cannot be.
func (e *entry) values(said map[string]string) (map[string]any, error) {
	all := map[string]any{}
	for _, p := range e.parameters() {
		value, is := said[p.Name]
		if !is {
			value = p.Default
		}
		if len(p.Choices) > 0 && value != "" && !slices.Contains(p.Choices, value) {
			return nil, fault.Invalid.Errorf("%s of the boot entry %s can be %s, and not %q", p.Name, e.Name, strings.Join(p.Choices, ", "), value)
		}
		if all[p.Name] = value; value == "" {
			all[p.Name] = nil
		}
	}
	for name := range said {
		if _, is := all[name]; !is {
			return nil, fault.Invalid.Errorf("the boot entry %s has no parameter %q", e.Name, name)
		}
	}
	return all, nil
}

// asks tells whether something has to be said when it is started.
func (e *entry) asks() bool {
	return slices.ContainsFunc(e.parameters(), func(p bootentry.Parameter) bool {
		return p.Default == "" && strings.Contains(e.words()+e.answerFile(), "{{."+bootentry.Parameters+"."+p.Name)
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

func versionOf(v records.BootEntryVersion) (api.BootEntryVersion, error) {
	found, err := v.Found()
	out := api.BootEntryVersion{Version: v.Number, What: found.What, Reads: string(found.Reads), Starts: []api.BootEntryStart{}, Remarks: append([]string{}, found.Remarks...), Origin: v.Origin, Added: v.Added, AddedBy: v.AddedBy}
	for _, p := range found.Parts() {
		out.Bytes += p.Size
	}
	for _, s := range found.Starts {
		one := api.BootEntryStart{Way: string(s.Way), Arch: string(s.Arch), Signer: s.Signer, Memory: s.Memory, Files: []api.BootFile{}}
		for _, f := range s.Files {
			one.Files = append(one.Files, api.BootFile{Path: f.Path, Bytes: f.Part.Size, Digest: f.Part.Digest.String()})
		}
		out.Starts = append(out.Starts, one)
	}
	return out, err
}

func (e *entry) shape(versions []records.BootEntryVersion) (api.BootEntry, error) {
	out := api.BootEntry{Name: e.Name, BootEntrySettings: e.set, Destroys: e.destroys(), Versions: []api.BootEntryVersion{}, Saved: e.Saved, SavedBy: e.SavedBy}
	if e.shown != nil {
		out.Shown = e.shown.Number
	}
	for _, v := range versions {
		if v.EntryID != e.ID {
			continue
		}
		one, err := versionOf(v)
		if err != nil {
			return out, err
		}
		out.Versions = append(out.Versions, one)
	}
	return out, nil
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
	all := make([]api.BootEntry, len(rows))
	for i, row := range rows {
		versions, err := k.Records.BootVersions(ctx, row.ID)
		if err != nil {
			return nil, 0, err
		}
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

// check refuses settings that make no sense.
func (e *entry) check() error {
	if e.set.Where != "" {
		if _, err := selection.Parse(e.set.Where); err != nil {
			return err
		}
	}
	var names []string
	for _, p := range e.parameters() {
		if slices.Contains(names, p.Name) {
			return fault.Invalid.Errorf("the parameter %s is there twice", p.Name)
		}
		names = append(names, p.Name)
		if len(p.Choices) > 0 && p.Default != "" && !slices.Contains(p.Choices, p.Default) {
			return fault.Invalid.Errorf("the default of the parameter %s is none of its choices", p.Name)
		}
	}
	if err := bootentry.Line.Check(e.words(), names); err != nil {
		return fmt.Errorf("the kernel's words: %w", err)
	}
	if err := bootentry.AnswerFile.Check(e.answerFile(), names); err != nil {
		return fmt.Errorf("the answer file: %w", err)
	}
	if e.reads() == bootentry.Text && e.set.AnswerFile == "" {
		return fault.Invalid.Errorf("a text of your own needs its template")
	}
	return nil
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
