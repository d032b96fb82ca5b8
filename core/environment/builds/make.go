package builds

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"jugate/core/environment"
)

// Options of a build.
type Options struct {
	Program     string // version of the program, whose agent it gets
	Number      int    // one that no build has
	Created     time.Time
	Note        string
	Kernel      string // release; the newest of the source by default
	Words       string // for the kernel's command line, instead of DefaultWords
	Agent       string // file of the agent
	Certificate []byte // of the service, PEM
	Settings    environment.Settings
	Leave       []string // modules that the base layer is not to have
}

// DefaultWords are for people: letters that can be read from two metres, and no
// messages of the kernel in between.
const DefaultWords = "quiet fbcon=font:TER16x32"

// shells are programs that can be a shell by themselves, without libraries.
var shells = []string{"bin/busybox", "usr/bin/busybox"}

// Make makes a build. Where something lacks without which nothing works, the error
// is an *Incomplete; what merely does not work then is in the build's Problems.
func (s *Store) Make(ctx context.Context, from *Source, o Options) (*Build, error) {
	b := &Build{Program: o.Program, Number: o.Number, Created: o.Created.UTC(), Note: o.Note, Words: cmp.Or(o.Words, DefaultWords), Shell: o.Settings.Shell,
		Parts: map[string]Part{}, Origins: map[string]string{}, Problems: []string{}}
	kernel, missing := pick(from.kernels(), o.Kernel)
	if missing != "" {
		return nil, &Incomplete{[]string{missing}}
	}
	b.Kernel = kernel.release
	if err := s.take(b, KernelPart, kernel.image); err != nil {
		return nil, err
	}
	if err := s.base(from, kernel, b, o); err != nil {
		return nil, err
	}
	if err := s.settings(b, o.Settings); err != nil {
		return nil, err
	}
	problems, err := s.loaders(ctx, from, b)
	if err != nil {
		return nil, err
	}
	b.Problems = append(b.Problems, problems...)
	return b, s.save(b)
}

// pick chooses a kernel, or says what is missing.
func pick(kernels []kernel, release string) (*kernel, string) {
	var names []string
	for _, k := range kernels {
		names = append(names, k.release)
	}
	switch i := slices.Index(names, release); {
	case len(kernels) == 0:
		return nil, "no kernel with its modules is there (boot/vmlinuz-RELEASE and lib/modules/RELEASE, of Debian's package linux-image-amd64)"
	case release == "":
		return &kernels[len(kernels)-1], ""
	case i < 0:
		return nil, fmt.Sprintf("kernel %s is not there; there are: %s", release, strings.Join(names, ", "))
	default:
		return &kernels[i], ""
	}
}

// base makes the layer that every workstation needs, and the one that few do.
func (s *Store) base(from *Source, k *kernel, b *Build, o Options) error {
	modules, err := from.modules(k, o.Leave)
	if err != nil {
		return err
	}
	b.Modules = len(modules.have.Modules)
	if err := s.putKnown(b, modules.have); err != nil {
		return err
	}
	b.Problems = append(b.Problems, modules.problems...)
	writer, problem, err := from.ntfsWriter(modules.have)
	if err != nil {
		return err
	}
	files, missing := append(modules.base, writer...), modules.missing
	if problem != "" {
		b.Problems = append(b.Problems, problem)
	}
	agent, err := os.Stat(o.Agent)
	if err != nil {
		missing = append(missing, fmt.Sprintf("the agent: %v", err))
	} else {
		files = append(files, content{File: File{Path: "init", Mode: 0o755, Size: agent.Size(), Origin: "jugate-agent"},
			open: func() (io.ReadCloser, error) { return os.Open(o.Agent) }})
	}
	if o.Settings.Shell {
		f, err := from.find(shells...)
		if errors.Is(err, ErrNotFound) {
			missing = append(missing, "a shell: "+shells[0]+" (Debian's package busybox-static)")
		} else if err != nil {
			return err
		} else {
			shell, err := f.content("bin/busybox", 0o755)
			if err != nil {
				return err
			}
			files = append(files, shell, link("bin/sh", "busybox"))
		}
	}
	if missing != nil {
		return &Incomplete{missing}
	}
	files = append(files,
		link("sbin/modprobe", "../init"), // the kernel asks for modules by this name
		device("dev/console", 5, 1), device("dev/null", 1, 3),
		text(environment.CertificateFile, 0o644, o.Certificate))
	for _, name := range []string{"proc", "sys", "run", "tmp", "etc"} {
		files = append(files, content{File: File{Path: name, Mode: fs.ModeDir | 0o755, Origin: "jugate"}})
	}
	if err := s.layer(b, BaseLayer, files); err != nil || modules.rare == nil {
		return err
	}
	return s.layer(b, RareLayer, modules.rare)
}

func device(name string, major, minor uint32) content {
	return content{File: File{Path: name, Mode: fs.ModeDevice | fs.ModeCharDevice | 0o600, Origin: "jugate"}, device: true, major: major, minor: minor}
}

// settings makes the layer that tells the agent where it belongs.
func (s *Store) settings(b *Build, set environment.Settings) error {
	told, err := json.MarshalIndent(set, "", "\t")
	if err != nil {
		return err
	}
	return s.layer(b, SettingsLayer, []content{text(path.Clean(environment.SettingsFile), 0o600, told)})
}

// layer writes a layer and adds it to the build.
func (s *Store) layer(b *Build, name string, files []content) error {
	layer := Layer{Name: name}
	if err := s.write(&layer, files); err != nil {
		return err
	}
	for _, f := range layer.Files {
		b.from(f.Package)
	}
	b.Layers = append(b.Layers, layer)
	return nil
}

// from notes that something of the build is from a package; empty if nobody knows.
func (b *Build) from(pack string) {
	if i, is := slices.BinarySearch(b.Packages, pack); pack != "" && !is {
		b.Packages = slices.Insert(b.Packages, i, pack)
	}
}

// write writes the files of a layer.
func (s *Store) write(l *Layer, files []content) (err error) {
	l.Part, err = s.Parts.Put(func(w io.Writer) (err error) { l.Files, err = writeLayer(w, files); return err })
	if err != nil {
		return fmt.Errorf("layer %s: %w", l.Name, err)
	}
	return nil
}

// ErrIncomplete says that a build cannot be made of what was given, and what lacks.
var ErrIncomplete = errors.New("the build cannot be made")

// Incomplete lists what a build needs and the source does not have.
type Incomplete struct{ Missing []string }

func (e *Incomplete) Error() string {
	return ErrIncomplete.Error() + ": " + strings.Join(e.Missing, "; ")
}

func (e *Incomplete) Unwrap() error { return ErrIncomplete }
