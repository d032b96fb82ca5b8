package stock

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"jugate/api"
	"jugate/core/bootentry"
	"jugate/core/fault"
	"jugate/core/selection"
	"jugate/records"
)

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

// names are what its templates name.
func (e *entry) names() (line, file bootentry.Named) {
	var names []string
	for _, p := range e.parameters() {
		names = append(names, p.Name)
	}
	return bootentry.Line.Named(e.words(), names), bootentry.AnswerFile.Named(e.answerFile(), names)
}

// tells tells whether it says to the service when it is done.
func (e *entry) tells() bool {
	line, file := e.names()
	return slices.Contains(line.Values, bootentry.EndURL) || slices.Contains(file.Values, bootentry.EndURL)
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
	line, file := e.names()
	return slices.ContainsFunc(e.parameters(), func(p bootentry.Parameter) bool {
		return p.Default == "" && (slices.Contains(line.Needed, p.Name) || slices.Contains(file.Needed, p.Name))
	})
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
