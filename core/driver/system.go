package driver

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"jugate/core/fileview"
	"jugate/core/kmod"
	"jugate/core/windows"
)

// Inside is what a system brings of its own drivers: a boot environment, or what is
// on the volumes of an image.
type Inside struct {
	System System     `json:"system"`
	Name   string     `json:"name"` // as it calls itself
	Arch   string     `json:"arch,omitempty"`
	Kernel string     `json:"kernel,omitempty"`   // the newest, of Linux
	Others []string   `json:"others,omitempty"`   // further kernels
	Volume int        `json:"volume,omitempty"`   // partition that it is on
	Drives []Drives   `json:"drives,omitempty"`   // of the kernel
	Names  []string   `json:"modules,omitempty"`  // of the kernel, those that it has inside too
	Models []*Package `json:"packages,omitempty"` // of Windows: its INF files

	// Starts are when services of Windows are started that drive disk controllers, by their names in
	// small letters; nil if that cannot be told. Closed says why that cannot be changed.
	Starts map[string]uint32 `json:"starts,omitempty"`
	Closed string            `json:"closed,omitempty"`

	patterns *kmod.Patterns[string]
	index    *Index
}

// Drives is a module with the patterns of the devices that it drives.
type Drives struct {
	Module   string   `json:"module"`
	Patterns []string `json:"patterns"`
}

// ErrNoSystem says that a volume holds no system that is known here.
var ErrNoSystem = errors.New("no operating system that is known here")

// InsideOf describes what a kernel has, from its modules and what is built into it.
func InsideOf(name, kernel, arch string, modules []kmod.Info) *Inside {
	in := &Inside{System: Linux, Name: name, Kernel: kernel, Arch: arch}
	for _, m := range modules {
		in.Names = append(in.Names, m.Name)
		if len(m.Aliases) > 0 {
			in.Drives = append(in.Drives, Drives{m.Name, m.Aliases})
		}
	}
	return in
}

// Target is the system as one that wants drivers.
func (in *Inside) Target() Target { return Target{System: in.System, Arch: in.Arch, Kernel: in.Kernel} }

// Prepare makes ready for DrivenBy. Afterwards it may be used from several goroutines.
func (in *Inside) Prepare() {
	in.patterns = &kmod.Patterns[string]{}
	for _, d := range in.Drives {
		for _, p := range d.Patterns {
			in.patterns.Add(p, d.Module)
		}
	}
	in.index = NewIndex(in.Models)
}

// DrivenBy tells what of the system drives a device; empty for nothing.
func (in *Inside) DrivenBy(d Device) string {
	if in.System == Windows {
		by, start := in.started(d)
		if start != windows.BootStart {
			return ""
		}
		return by
	}
	best, rank := "", 0
	in.patterns.Match(d.Modalias, func(pattern, module string) {
		if r := generality(pattern); best == "" || r < rank || r == rank && module < best {
			best, rank = module, r
		}
	})
	return best
}

// started tells what of a Windows drives a device, and when the service of a disk controller is
// started. Where that is not known, it is taken for started in time.
func (in *Inside) started(d Device) (by string, start uint32) {
	all := in.index.Candidates(d, in.Target())
	if len(all) == 0 {
		return "", windows.BootStart
	}
	by = all[0].Package.Name
	if s := all[0].Model.Service; d.Class == Storage && s != nil && in.Starts != nil {
		var there bool
		if start, there = in.Starts[strings.ToLower(s.Name)]; !there {
			return "", windows.BootStart // it has the file, and was never installed
		}
	}
	return by, start
}

// Sleeps tells of a disk controller which service of a Windows would drive it, but is started too
// late for the disk that the system is on; empty if there is none.
func (in *Inside) Sleeps(d Device) (service string) {
	if in.System != Windows {
		return ""
	}
	if by, start := in.started(d); by == "" || start == windows.BootStart {
		return ""
	}
	return in.index.Candidates(d, in.Target())[0].Model.Service.Name
}

// Limits of what is read of a system.
const (
	maxKernels    = 32
	maxSystemINFs = 3000
	maxAliases    = 32 << 20 // bytes of modules.alias
)

// ReadInside looks for a system on a volume. Errors wrap ErrNoSystem where there is
// none.
func ReadInside(volume fs.FS) (*Inside, error) {
	if in, err := readLinux(volume); !errors.Is(err, ErrNoSystem) {
		return in, err
	}
	return readWindows(volume)
}

func readLinux(volume fs.FS) (*Inside, error) {
	for _, folder := range []string{"usr/lib/modules", "lib/modules"} {
		entries, err := fs.ReadDir(volume, folder)
		if err != nil {
			continue
		}
		var kernels []string
		for _, e := range entries {
			if _, err := fs.Stat(volume, path.Join(folder, e.Name(), "modules.dep")); err == nil && len(kernels) < maxKernels {
				kernels = append(kernels, e.Name())
			}
		}
		if len(kernels) == 0 {
			continue
		}
		slices.SortFunc(kernels, CompareVersions)
		newest := kernels[len(kernels)-1]
		in, err := readKernel(volume, path.Join(folder, newest))
		if err != nil {
			return nil, err
		}
		in.Kernel, in.Others = newest, kernels[:len(kernels)-1]
		in.Name, in.Arch = linuxName(volume), linuxArch(volume, newest)
		return in, nil
	}
	return nil, ErrNoSystem
}

// readKernel reads modules.alias and what the kernel has inside.
func readKernel(volume fs.FS, folder string) (*Inside, error) {
	in := &Inside{System: Linux}
	dep, err := readLimited(volume, path.Join(folder, "modules.dep"), maxAliases)
	if err != nil {
		return nil, fmt.Errorf("what its kernel has cannot be told: %w", err)
	}
	for l := range bytes.Lines(dep) {
		if name, _, found := strings.Cut(string(l), ":"); found {
			in.Names = append(in.Names, kmod.Canonical(name))
		}
	}
	text, err := readLimited(volume, path.Join(folder, "modules.alias"), maxAliases)
	if err != nil {
		return nil, fmt.Errorf("what its kernel drives cannot be told: %w", err)
	}
	at := map[string]int{}
	for l := range bytes.Lines(text) {
		f := strings.Fields(string(l))
		if len(f) != 3 || f[0] != "alias" || !strings.Contains(f[1], ":") {
			continue // other aliases are no devices
		}
		i, there := at[f[2]]
		if !there {
			i = len(in.Drives)
			at[f[2]] = i
			in.Drives = append(in.Drives, Drives{Module: f[2]})
		}
		in.Drives[i].Patterns = append(in.Drives[i].Patterns, f[1])
	}
	if b, err := readLimited(volume, path.Join(folder, builtinInfo), maxAliases); err == nil {
		infos, err := kmod.ReadBuiltin(bytes.NewReader(b))
		if err != nil {
			return nil, err
		}
		for _, m := range infos {
			in.Names = append(in.Names, m.Name)
			if len(m.Aliases) > 0 {
				in.Drives = append(in.Drives, Drives{m.Name, m.Aliases})
			}
		}
	}
	return in, nil
}

func readLimited(volume fs.FS, name string, limit int64) ([]byte, error) {
	t := &tree{FS: volume}
	return t.read(name, limit)
}

func linuxName(volume fs.FS) string {
	for _, name := range []string{"etc/os-release", "usr/lib/os-release"} {
		b, err := readLimited(volume, name, 64<<10)
		if err != nil {
			continue
		}
		for l := range strings.Lines(string(b)) {
			if value, is := strings.CutPrefix(strings.TrimSpace(l), "PRETTY_NAME="); is {
				return strings.Trim(value, `"'`)
			}
		}
	}
	return "Linux"
}

// linuxArch is by the name of the kernel, and else by the folders of libraries.
func linuxArch(volume fs.FS, kernel string) string {
	for _, arch := range []string{"amd64", "arm64"} {
		if strings.HasSuffix(kernel, "-"+arch) {
			return arch
		}
	}
	for folder, arch := range map[string]string{"lib/x86_64-linux-gnu": "amd64", "usr/lib/x86_64-linux-gnu": "amd64", "usr/lib64/ld-linux-x86-64.so.2": "amd64", "lib64/ld-linux-x86-64.so.2": "amd64",
		"lib/aarch64-linux-gnu": "arm64", "usr/lib/aarch64-linux-gnu": "arm64"} {
		if _, err := fs.Stat(volume, folder); err == nil {
			return arch
		}
	}
	return ""
}

func readWindows(volume fs.FS) (*Inside, error) {
	folder, there := fileview.FindFold(volume, "Windows/INF")
	if !there {
		return nil, ErrNoSystem
	}
	in := &Inside{System: Windows, Name: windowsName(volume), Arch: "386"}
	for name, arch := range map[string]string{"Windows/SysWOW64": "amd64", "Windows/SysArm32": "arm64"} {
		if _, there := fileview.FindFold(volume, name); there {
			in.Arch = arch
		}
	}
	entries, err := fs.ReadDir(volume, folder)
	if err != nil {
		return nil, fmt.Errorf("what it drives cannot be told: %w", err)
	}
	for _, e := range entries {
		if !strings.EqualFold(path.Ext(e.Name()), ".inf") || len(in.Models) >= maxSystemINFs {
			continue
		}
		b, err := readLimited(volume, path.Join(folder, e.Name()), maxINF)
		if err != nil {
			return nil, fmt.Errorf("what it drives cannot be told: %w", err)
		}
		if p := installedINF(e.Name(), b); p != nil {
			in.Models = append(in.Models, p)
		}
	}
	in.Closed = windows.Closed(volume)
	if in.Starts, err = windows.Starts(volume, in.services()); err != nil || len(in.Starts) == 0 {
		in.Starts = nil
	}
	return in, nil
}

// services are those that drive disk controllers, by the system's INF files.
func (in *Inside) services() (names []string) {
	for _, p := range in.Models {
		for _, m := range p.Models {
			if m.Service != nil {
				names = append(names, m.Service.Name)
			}
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// windowsName is what the system calls itself, as far as that can be read.
func windowsName(volume fs.FS) string {
	s, err := windows.Look(volume)
	if s == nil || err != nil && s.Product == "" {
		return "Windows"
	}
	return s.Name()
}

// installedINF takes the models of an INF file that a system has installed already;
// nil if it names none. Its files lie elsewhere, so they are not looked for.
func installedINF(name string, b []byte) *Package {
	f, err := parseINF(name, b)
	if err != nil {
		return nil
	}
	r := &infReader{inf: f, installed: true}
	r.pack.ClassName = r.value("Version", "Class")
	r.pack.Class = classOf(r.pack.ClassName)
	if r.makers() != nil {
		return nil
	}
	r.pack.Kind, r.pack.Name, r.pack.ID = INF, strings.TrimSuffix(strings.ToLower(name), ".inf"), name
	for i := range r.pack.Models { // what is looked up stays
		m := &r.pack.Models[i]
		r.pack.Models[i] = Model{Name: m.Name, Decoration: m.Decoration, Hardware: m.Hardware, Compatible: m.Compatible, Service: m.Service}
	}
	return &r.pack
}
