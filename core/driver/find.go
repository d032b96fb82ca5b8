package driver

import (
	"bytes"
	"debug/elf"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"
	"github.com/zeebo/blake3"

	"jugate/core/kmod"
	"jugate/core/slabstore"
)

// tree is a folder with its files by name, in any case.
type tree struct {
	fs.FS
	byName map[string]string // in small letters, to the name as it is
	names  []string
}

func newTree(root fs.FS) (*tree, error) {
	t := &tree{FS: root, byName: map[string]string{}}
	err := fs.WalkDir(root, ".", func(name string, e fs.DirEntry, err error) error {
		if err == nil && e.Type().IsRegular() {
			t.byName[strings.ToLower(name)] = name
			t.names = append(t.names, name)
		}
		return err
	})
	slices.Sort(t.names)
	return t, err
}

// find looks for a file by name, from a folder on, in any case.
func (t *tree) find(dir, name string) (string, bool) {
	at, ok := t.byName[strings.ToLower(path.Join(dir, name))]
	return at, ok
}

func (t *tree) read(name string, limit int64) ([]byte, error) {
	f, err := t.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, limit+1))
	if int64(len(b)) > limit {
		err = fmt.Errorf("larger than %d bytes", limit)
	}
	return b, err
}

// Skip is something that looked like a package and is not one, and why.
type Skip struct {
	Path   string
	Reason string
}

// Find looks through a folder for packages of both kinds. What it returns has digests
// but is in no library yet.
func Find(root fs.FS) (found []*Package, skipped []Skip, err error) {
	t, err := newTree(root)
	if err != nil {
		return nil, nil, err
	}
	for _, name := range t.names {
		if !strings.EqualFold(path.Ext(name), ".inf") || strings.EqualFold(path.Base(name), "autorun.inf") {
			continue
		}
		p, err := readINF(t, name)
		if err == nil {
			err = t.seal(p)
		}
		if err != nil {
			skipped = append(skipped, Skip{name, reason(err)})
			continue
		}
		found = append(found, p)
	}
	modules, more := t.modules()
	for _, p := range modules {
		if err := t.seal(p); err != nil {
			return nil, nil, err
		}
		found = append(found, p)
	}
	return found, append(skipped, more...), nil
}

// reason is what to say of an error beside the file's own name.
func reason(err error) string {
	var at *LineError
	if errors.As(err, &at) {
		if at.Line > 0 {
			return fmt.Sprintf("line %d: %s", at.Line, at.Reason)
		}
		return at.Reason
	}
	return err.Error()
}

// seal computes the digests of a package's files, and of all together.
func (t *tree) seal(p *Package) error {
	slices.SortFunc(p.Files, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
	whole := blake3.New()
	for i := range p.Files {
		f := &p.Files[i]
		in, err := t.Open(f.Path)
		if err != nil {
			return err
		}
		h := blake3.New()
		f.Size, err = io.Copy(h, in)
		if err = errors.Join(err, in.Close()); err != nil {
			return err
		}
		copy(f.Digest[:], h.Sum(nil))
		p.Bytes += f.Size
		fmt.Fprintf(whole, "%s %s\n", f.Digest, path.Base(f.Path))
	}
	p.Digest = slabstore.Digest(whole.Sum(nil))
	p.ID = p.Digest.String()[:12]
	return nil
}

const (
	maxModule   = 64 << 20 // bytes of one, expanded
	maxModules  = 20_000
	builtinInfo = "modules.builtin.modinfo"
	builtinList = "modules.builtin"
)

// IsModule tells by its name whether a file is a kernel module.
func IsModule(name string) bool {
	return strings.HasSuffix(name, ".ko") || strings.HasSuffix(name, ".ko.xz") || strings.HasSuffix(name, ".ko.zst")
}

// Expand reads a file that may be compressed, as its name says.
func Expand(in io.Reader, name string) ([]byte, error) {
	var err error
	switch path.Ext(name) {
	case ".xz":
		in, err = xz.NewReader(in)
	case ".zst":
		var z *zstd.Decoder
		if z, err = zstd.NewReader(in, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(maxModule)); err == nil {
			defer z.Close()
			in = z
		}
	}
	if err != nil {
		return nil, err
	}
	b, err := io.ReadAll(io.LimitReader(in, maxModule+1))
	if len(b) > maxModule {
		return nil, fmt.Errorf("larger than %d bytes", maxModule)
	}
	return b, err
}

// ReadModule reads a module's own words, and its architecture.
func ReadModule(b []byte) (info kmod.Info, arch string, err error) {
	defer func() { // debug/elf trusts what it reads
		if p := recover(); p != nil {
			err = fmt.Errorf("%w: %v", kmod.ErrModule, p)
		}
	}()
	if info, err = kmod.ReadInfo(bytes.NewReader(b)); err != nil {
		return info, "", err
	}
	f, err := elf.NewFile(bytes.NewReader(b))
	if err != nil {
		return info, "", err
	}
	arch = map[elf.Machine]string{elf.EM_X86_64: "amd64", elf.EM_386: "386", elf.EM_AARCH64: "arm64", elf.EM_ARM: "arm"}[f.Machine]
	if arch == "" {
		return info, "", fmt.Errorf("%w: it is for %s, which is not known here", kmod.ErrModule, f.Machine)
	}
	return info, arch, nil
}

// modules makes packages of the kernel modules that there are, one for each release
// of a kernel and each architecture.
func (t *tree) modules() (packages []*Package, skipped []Skip) {
	all := map[string]*Package{}
	for _, name := range t.names {
		if !IsModule(name) {
			continue
		}
		m, err := t.module(name)
		if err != nil {
			skipped = append(skipped, Skip{name, err.Error()})
			continue
		}
		p := all[m.Kernel+" "+m.Arch]
		if p == nil {
			p = &Package{Kind: Modules, Kernel: m.Kernel, Arch: []string{m.Arch}, Provider: "", Name: "modules for " + m.Kernel}
			all[m.Kernel+" "+m.Arch] = p
		}
		if len(p.Modules) >= maxModules {
			skipped = append(skipped, Skip{name, fmt.Sprintf("more than %d modules", maxModules)})
			continue
		}
		p.Modules = append(p.Modules, m)
		p.Files = append(p.Files, File{Path: name})
	}
	for _, key := range slices.Sorted(maps.Keys(all)) {
		p := all[key]
		t.kernelTree(p)
		t.firmware(p)
		p.name()
		packages = append(packages, p)
	}
	return packages, skipped
}

func (t *tree) module(name string) (m Module, err error) {
	f, err := t.Open(name)
	if err != nil {
		return m, err
	}
	defer f.Close()
	b, err := Expand(f, name)
	if err != nil {
		return m, err
	}
	m.Info, m.Arch, err = ReadModule(b)
	m.File = name
	if i := strings.Index(name, "/kernel/"); i >= 0 {
		m.Path = name[i+1:]
	} else {
		m.Path = "updates/" + path.Base(name)
	}
	m.Path = strings.TrimSuffix(strings.TrimSuffix(m.Path, ".xz"), ".zst")
	m.Class = moduleClass(m)
	return m, err
}

// moduleFolders tell what the modules in a folder of the kernel's tree are for.
var moduleFolders = []struct {
	folder string
	class  Class
}{
	{"kernel/drivers/net/", Network}, {"kernel/drivers/ata/", Storage}, {"kernel/drivers/scsi/", Storage}, {"kernel/drivers/nvme/", Storage},
	{"kernel/drivers/block/", Storage}, {"kernel/drivers/mmc/", Storage}, {"kernel/drivers/message/", Storage}, {"kernel/drivers/usb/storage/", Storage},
	{"kernel/drivers/gpu/", Display}, {"kernel/drivers/video/", Display}, {"kernel/sound/", Sound}, {"kernel/drivers/hid/", Input}, {"kernel/drivers/input/", Input},
	{"kernel/drivers/usb/", USB}, {"kernel/drivers/pci/", Board}, {"kernel/drivers/acpi/", Board}, {"kernel/drivers/i2c/", Board},
}

// moduleClass is by the folder, or for modules from elsewhere by the devices that
// they name.
func moduleClass(m Module) Class {
	for _, f := range moduleFolders {
		if strings.HasPrefix(m.Path, f.folder) {
			return f.class
		}
	}
	for _, a := range m.Aliases {
		// pci:v…d…sv…sd…bc02sc…i…
		if i := strings.LastIndex(a, "bc"); i >= 0 && strings.HasPrefix(a, "pci:") && len(a) >= i+4 {
			if c := pciClass(strings.ToUpper(a[i+2:i+4]), ""); c != Other {
				return c
			}
		}
	}
	return Other
}

// kernelTree looks for what belongs to a whole kernel: then its own modules are a
// library of their own.
func (t *tree) kernelTree(p *Package) {
	for _, m := range p.Modules {
		root, _, in := strings.Cut(m.File, "/kernel/")
		if !in {
			continue
		}
		list, there := t.find(root, builtinList)
		if !there {
			continue
		}
		p.InTree = true
		p.Files = append(p.Files, File{Path: list})
		if b, err := t.read(list, 16<<20); err == nil {
			for name := range strings.FieldsSeq(string(b)) {
				p.Builtin = append(p.Builtin, kmod.Canonical(name))
			}
		}
		if info, there := t.find(root, builtinInfo); there {
			p.Files = append(p.Files, File{Path: info})
		}
		return
	}
}

// firmware finds the blobs that the modules may ask for, below a folder "firmware" or
// beside them.
func (t *tree) firmware(p *Package) {
	blobs := map[string]string{} // by the name that modules ask for
	for _, name := range t.names {
		if _, below, in := strings.Cut("/"+name, "/firmware/"); in {
			for _, end := range []string{".xz", ".zst", ""} {
				blobs[strings.TrimSuffix(below, end)] = name
			}
		}
	}
	taken := map[string]bool{}
	for i := range p.Modules {
		m := &p.Modules[i]
		for _, want := range m.Firmware {
			at, there := blobs[want]
			if !there {
				at, there = t.find(path.Dir(m.File), want)
			}
			if !there {
				m.Lacks = append(m.Lacks, want)
				continue
			}
			if m.Blobs == nil {
				m.Blobs = map[string]string{}
			}
			m.Blobs[want] = at
			if !taken[at] {
				taken[at] = true
				p.Files = append(p.Files, File{Path: at})
			}
		}
	}
}

// name names a package of modules: a whole kernel by its release, few modules by
// themselves.
func (p *Package) name() {
	classes := map[Class]int{}
	for _, m := range p.Modules {
		classes[m.Class]++
	}
	p.Class = Other
	for _, c := range Classes {
		if classes[c] > classes[p.Class] {
			p.Class = c
		}
	}
	p.Version = p.Kernel
	if p.InTree {
		p.Name, p.Class = "kernel", Other
		return
	}
	// By what drives something; the others are what that needs.
	main := slices.DeleteFunc(slices.Clone(p.Modules), func(m Module) bool { return len(m.Aliases) == 0 })
	if len(main) == 0 {
		main = p.Modules
	}
	p.Name = main[0].Name
	if v := main[0].Info.Version; v != "" {
		p.Version = v
	}
	if len(main) > 1 {
		p.Name = fmt.Sprintf("%s and %d more", p.Name, len(main)-1)
	}
	lacks := map[string]bool{}
	for _, m := range p.Modules {
		for _, l := range m.Lacks {
			lacks[l] = true
		}
	}
	if len(lacks) > 0 {
		p.Remarks = append(p.Remarks, "it may ask for firmware that is not in it: "+some(slices.Sorted(maps.Keys(lacks))))
	}
}
