package driver

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"
)

// Limits of a package.
const (
	maxModels   = 50_000
	maxIDs      = 200 // of one model
	maxID       = 200 // characters
	maxFiles    = 10_000
	maxIncludes = 16 // how deep sections may ask for others
)

// readINF reads the package that an INF file describes; files are all that lie
// around it, name is the INF's place in there. What makes the package useless is a
// *LineError; what is merely odd is in Remarks.
func readINF(files *tree, name string) (*Package, error) {
	b, err := files.read(name, maxINF)
	if err != nil {
		return nil, &LineError{name, 0, err.Error()}
	}
	f, err := parseINF(name, b)
	if err != nil {
		return nil, err
	}
	r := &infReader{inf: f, files: files, dir: path.Dir(name), wanted: map[string]bool{name: true}}
	if err := r.version(); err != nil {
		return nil, err
	}
	if err := r.makers(); err != nil {
		return nil, err
	}
	r.pack.Kind, r.pack.Name = INF, strings.TrimSuffix(strings.ToLower(path.Base(name)), ".inf")
	for wanted := range r.wanted {
		if r.pack.Files = append(r.pack.Files, File{Path: wanted}); len(r.pack.Files) > maxFiles {
			return nil, &LineError{name, 0, fmt.Sprintf("more than %d files", maxFiles)}
		}
	}
	return &r.pack, nil
}

type infReader struct {
	*inf
	files  *tree
	dir    string
	pack   Package
	wanted map[string]bool // files of the package that are there
	absent []string
	copied map[string]bool // sections whose files were looked for
	// installed says that a system has it already: its files are not here.
	installed bool
}

func (r *infReader) fail(line int, format string, args ...any) error {
	return &LineError{r.name, line, fmt.Sprintf(format, args...)}
}

// version reads [Version].
func (r *infReader) version() error {
	v := r.sections["VERSION"]
	if v == nil {
		return r.fail(0, "it has no section [Version]")
	}
	switch s := strings.ToUpper(r.value("Version", "Signature")); s {
	case "$WINDOWS NT$", "$CHICAGO$", "$WINDOWS 95$":
	default:
		return r.fail(v.line, "its [Version] has no signature of the system")
	}
	r.pack.ClassName = r.value("Version", "Class")
	r.pack.Class = classOf(r.pack.ClassName)
	if r.pack.ClassID = r.value("Version", "ClassGuid"); r.pack.ClassID == "" {
		r.pack.ClassID = classIDs[strings.ToUpper(r.pack.ClassName)]
	}
	if r.pack.Provider = r.value("Version", "Provider"); r.pack.Provider == "" {
		r.pack.Remarks = append(r.pack.Remarks, "it does not say who provides it")
	}
	driverVer, line := r.values("Version", "DriverVer")
	if len(driverVer) == 0 {
		return r.fail(v.line, "its [Version] has no DriverVer, so that nobody can tell which of two is newer")
	}
	var err error
	if r.pack.Date, err = time.Parse("1/2/2006", driverVer[0]); err != nil {
		return r.fail(line, "DriverVer has no date as month/day/year: %q", driverVer[0])
	}
	if len(driverVer) > 1 {
		if r.pack.Version = driverVer[1]; !isVersion(r.pack.Version) {
			return r.fail(line, "DriverVer has no version as 1.2.3.4: %q", r.pack.Version)
		}
	}
	return r.catalogue()
}

func isVersion(s string) bool {
	return s != "" && strings.Trim(s, "0123456789.") == "" && strings.Count(s, ".") <= 3
}

// catalogue finds the catalogue and who signed it.
func (r *infReader) catalogue() error {
	var names []string
	for _, l := range r.sections["VERSION"].lines {
		if strings.HasPrefix(strings.ToUpper(l.key), "CATALOGFILE") {
			names = append(names, r.expand(l.values[0]))
		}
	}
	if len(names) == 0 {
		r.pack.Remarks = append(r.pack.Remarks, "not signed: it names no catalogue; a 64-bit system will refuse it")
		return nil
	}
	for _, name := range names {
		at, there := r.files.find(r.dir, name)
		if !there {
			r.pack.Remarks = append(r.pack.Remarks, fmt.Sprintf("not signed: its catalogue %s is not there; a 64-bit system will refuse it", name))
			continue
		}
		r.wanted[at] = true
		r.pack.Catalogue = at
		b, err := r.files.read(at, maxCatalogue)
		if err == nil {
			r.pack.Signer, err = signerOf(b)
		}
		if err != nil {
			r.pack.Remarks = append(r.pack.Remarks, fmt.Sprintf("not signed: %s: %v; a 64-bit system will refuse it", at, err))
		}
	}
	return nil
}

// makers reads [Manufacturer], and the models of each.
func (r *infReader) makers() error {
	s := r.sections["MANUFACTURER"]
	if s == nil || len(s.lines) == 0 {
		return r.fail(0, "it has no section [Manufacturer]: it drives no device by itself")
	}
	for _, l := range s.lines {
		maker := r.expand(l.key)
		base := r.expand(l.values[0])
		if maker == "" {
			maker = base
		}
		decorations := l.values[1:]
		plain := Decoration{}
		if err := r.models(maker, base, plain, l.number, len(decorations) > 0); err != nil {
			return err
		}
		for _, text := range decorations {
			if text = strings.TrimSpace(r.expand(text)); text == "" {
				continue
			}
			d, err := parseDecoration(text)
			if err != nil {
				return r.fail(l.number, "%v", err)
			}
			if err := r.models(maker, base+"."+text, d, l.number, false); err != nil {
				return err
			}
		}
	}
	if len(r.pack.Models) == 0 {
		return r.fail(s.line, "it names no device")
	}
	for _, m := range r.pack.Models {
		// Undecorated models are of the 32-bit PC, says the reference.
		arch := m.Decoration.Arch
		if arch == "" {
			arch = "386"
		}
		if !slices.Contains(r.pack.Arch, arch) {
			r.pack.Arch = append(r.pack.Arch, arch)
		}
	}
	slices.Sort(r.pack.Arch)
	if len(r.absent) > 0 {
		slices.Sort(r.absent)
		r.absent = slices.Compact(r.absent)
		return r.fail(0, "%s missing of the files that it copies: %s", is(len(r.absent)), some(r.absent))
	}
	return nil
}

func is(n int) string {
	if n == 1 {
		return "one is"
	}
	return fmt.Sprintf("%d are", n)
}

// some names the first few.
func some(names []string) string {
	if len(names) > 4 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:4], ", "), len(names)-4)
	}
	return strings.Join(names, ", ")
}

// models reads one section of models. optional says that it need not be there.
func (r *infReader) models(maker, name string, d Decoration, line int, optional bool) error {
	s := r.sections[strings.ToUpper(name)]
	if s == nil {
		if !optional {
			return r.fail(line, "the section [%s] of models is not there", name)
		}
		return nil
	}
	for _, l := range s.lines {
		if len(l.values) < 2 || l.values[1] == "" {
			continue // no hardware id: not for devices that are found by themselves
		}
		if len(l.values) > maxIDs {
			return r.fail(l.number, "more than %d ids in one line", maxIDs)
		}
		m := Model{Name: r.expand(l.key), Maker: maker, Decoration: d, Section: r.expand(l.values[0]), Line: l.number}
		for i, id := range l.values[1:] {
			if id = strings.ToUpper(r.expand(id)); len(id) > maxID {
				return r.fail(l.number, "an id of %d characters", len(id))
			}
			switch {
			case i == 0:
				m.Hardware = id
			case id != "":
				m.Compatible = append(m.Compatible, id)
			}
		}
		if err := r.install(&m); err != nil {
			return err
		}
		if r.pack.Models = append(r.pack.Models, m); len(r.pack.Models) > maxModels {
			return r.fail(l.number, "more than %d models", maxModels)
		}
	}
	return nil
}

// install looks for the files that a model copies, and how its driver is started: by its
// section with the decoration that the system would choose.
func (r *infReader) install(m *Model) error {
	base := strings.ToUpper(m.Section)
	arch := m.Decoration.Arch
	names := []string{base + ".NT", base}
	for word, known := range architectures {
		if known == arch {
			names = append([]string{base + ".NT" + word}, names...)
		}
	}
	for _, name := range names {
		if r.sections[name] == nil {
			continue
		}
		if r.pack.Class == Storage {
			m.Service = r.service(name, arch)
		}
		if r.installed {
			return nil
		}
		for _, end := range []string{"", ".COINSTALLERS", ".COMPONENTS"} {
			if err := r.copies(name+end, arch, 0); err != nil {
				return err
			}
		}
		return nil
	}
	if r.installed {
		return nil
	}
	return r.fail(m.Line, "the section [%s] that installs %q is not there", m.Section, m.Name)
}

// copies follows CopyFiles of a section, and Needs, which asks for further sections
// of this file or of the system's own.
func (r *infReader) copies(name, arch string, depth int) error {
	key := name + "|" + arch
	s := r.sections[name]
	if r.copied == nil {
		r.copied = map[string]bool{}
	}
	if s == nil || r.copied[key] {
		return nil
	}
	r.copied[key] = true
	for _, l := range s.lines {
		switch strings.ToUpper(r.expand(l.key)) {
		case "COPYFILES":
			for _, v := range l.values {
				v = r.expand(v)
				if file, single := strings.CutPrefix(v, "@"); single {
					if err := r.file(file, arch, l.number); err != nil {
						return err
					}
				} else if err := r.list(v, arch); err != nil {
					return err
				}
			}
		case "NEEDS":
			if depth >= maxIncludes {
				return r.fail(l.number, "sections that need sections, more than %d deep", maxIncludes)
			}
			for _, v := range l.values {
				if err := r.copies(strings.ToUpper(r.expand(v)), arch, depth+1); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// list takes the files of a section that CopyFiles names: NEW-NAME, NAME-AT-SOURCE.
func (r *infReader) list(name, arch string) error {
	s := r.sections[strings.ToUpper(name)]
	if s == nil {
		return nil // of another INF file that Include names
	}
	for _, l := range s.lines {
		if l.key != "" {
			continue // not the name of a file
		}
		file := r.expand(l.values[0])
		if len(l.values) > 1 && l.values[1] != "" {
			file = r.expand(l.values[1])
		}
		if err := r.file(file, arch, l.number); err != nil {
			return err
		}
	}
	return nil
}

// file takes a file into the package. One that [SourceDisksFiles] does not name is the
// system's own.
func (r *infReader) file(name, arch string, line int) error {
	if name == "" {
		return nil
	}
	there, want, at := r.locate(name, arch)
	switch {
	case at > 0 && !fs.ValidPath(strings.TrimPrefix(want, "/")):
		return r.fail(at, "the path %q leads out of the package", want)
	case there != "":
		r.wanted[there] = true
	case at > 0:
		r.absent = append(r.absent, want)
	default:
		if _, rest := r.values("SourceDisksFiles", name); rest == 0 && r.sections["SOURCEDISKSFILES"] == nil {
			r.absent = append(r.absent, name)
		}
	}
	return nil
}

// locate finds a file where [SourceDisksFiles] says that it is, and says which line does; there is empty if
// it is not there.
func (r *infReader) locate(name, arch string) (there, want string, line int) {
	for _, decoration := range append(decorationsOf(arch), "") {
		place, at := r.values("SourceDisksFiles"+decoration, name)
		if place == nil {
			continue
		}
		sub := ""
		if len(place) > 1 {
			sub = place[1]
		}
		for _, d := range append(decorationsOf(arch), "") {
			if disk, _ := r.values("SourceDisksNames"+d, place[0]); len(disk) > 3 {
				sub = path.Join(slash(disk[3]), slash(sub))
				break
			}
		}
		want = path.Join(slash(sub), slash(name))
		there, _ = r.files.find(r.dir, want)
		return there, want, at
	}
	there, _ = r.files.find(r.dir, slash(name))
	return there, slash(name), 0
}

func decorationsOf(arch string) []string {
	for word, known := range architectures {
		if known == arch {
			return []string{"." + word}
		}
	}
	return nil
}

// slash makes a path of an INF file one of here.
func slash(s string) string {
	return strings.TrimPrefix(strings.ReplaceAll(s, `\`, "/"), "/")
}

// errNoSigner says that a catalogue has no signature.
var errNoSigner = errors.New("nobody signed it")
