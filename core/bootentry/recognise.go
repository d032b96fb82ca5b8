package bootentry

import (
	"bufio"
	"debug/elf"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"

	"jugate/core/fault"
)

// Limits on what is looked at.
const (
	maxCandidates = 2000     // files that might be started
	maxUnpacked   = 4 << 30  // bytes of an initial root file system, unpacked
	maxSignature  = 64 << 10 // bytes
	headLength    = 4 << 10

	// systemMemory is what a small system needs beside its files.
	systemMemory = 64 << 20
	// firmwareMemory is what firmware needs beside a disc that it has taken into its memory.
	firmwareMemory = 256 << 20
)

// ErrNothing says that there is nothing to start.
var ErrNothing = fault.Invalid.Errorf("nothing here can be started: no kernel with an initrd, no program of UEFI or a BIOS, and no disc that UEFI starts")

// Given is what is looked at.
type Given struct {
	Files fs.FS  // of a package, a medium or a network boot tree, or a single one
	Disc  int64  // bytes of the image of optical media that they are on; 0 if they are on none
	Only  string // a folder that it is narrowed to
}

// DiscPath stands for the image of optical media itself.
const DiscPath = "."

// OnDisc tells which files of a disc have to be there for Recognise.
func OnDisc(name string) bool {
	base := strings.ToLower(path.Base(name))
	for _, start := range []string{"vmlinuz", "linux", "kernel", "bzimage", "initrd", "initramfs"} {
		if strings.HasPrefix(base, start) {
			return true
		}
	}
	return strings.HasSuffix(base, ".efi") || slices.Contains([]string{"info", ".treeinfo", "version.info"}, base)
}

// Recognise looks at what was given. Errors wrap ErrNothing, or say which file is wrong.
func Recognise(given Given) (*Found, error) {
	all, err := candidates(given.Files, given.Only)
	if err != nil {
		return nil, err
	}
	f := &Found{}
	pairs, err := f.kernels(given.Files, all)
	if err != nil {
		return nil, err
	}
	if !pairs {
		f.programs(all)
		if given.Disc > 0 {
			if err := f.disc(all, given.Disc); err != nil {
				return nil, err
			}
		}
	}
	if len(f.Starts) == 0 {
		return nil, ErrNothing
	}
	f.describe(given.Files)
	return f, nil
}

// candidates are the files that might be started, in the order of their paths.
func candidates(given fs.FS, only string) (all []candidate, err error) {
	seen := 0
	err = fs.WalkDir(given, ".", func(name string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() || only != "" && !strings.HasPrefix(name, strings.Trim(only, "/")+"/") {
			return err
		}
		if seen++; seen > maxCandidates*100 {
			return fault.Invalid.Errorf("it has too many files")
		}
		c, err := look(given, name)
		if err != nil || c == nil {
			return err
		}
		if all = append(all, *c); len(all) > maxCandidates {
			return fault.Invalid.Errorf("it has more than %d files that could be started; say in which folder to look", maxCandidates)
		}
		return nil
	})
	return all, err
}

// kernels finds kernels with initial root file systems in one folder, for each architecture the pair that is smallest.
func (f *Found) kernels(given fs.FS, all []candidate) (some bool, err error) {
	best := map[Arch]*Start{}
	others := map[Arch][]string{}
	for _, k := range all {
		if !k.linux || k.start == nil {
			continue
		}
		for _, i := range all {
			if !i.initrd || path.Dir(i.path) != path.Dir(k.path) && !nextTo(i.path, k.path) {
				continue
			}
			s := *k.start
			s.Files = append(slices.Clone(s.Files), File{Path: i.path})
			s.Memory = k.size + i.size
			if b := best[s.Arch]; b != nil && b.Memory <= s.Memory {
				others[s.Arch] = append(others[s.Arch], path.Dir(k.path))
				continue
			} else if b != nil {
				others[s.Arch] = append(others[s.Arch], path.Dir(b.Files[0].Path))
			}
			best[s.Arch] = &s
		}
	}
	for _, arch := range []Arch{X64, ARM64, IA32} {
		s := best[arch]
		if s == nil {
			continue
		}
		if err := checkInitrd(given, s); err != nil {
			return false, err
		}
		f.Starts = append(f.Starts, *s)
		for _, o := range slices.Compact(others[arch]) {
			f.Remarks = append(f.Remarks, fmt.Sprintf("the smaller of several was taken; another is in %s (--only)", o))
		}
	}
	return len(best) > 0, nil
}

// nextTo tells of an initrd in the folder of its kernel's folder, as some media have it.
func nextTo(initrd, kernel string) bool {
	return path.Dir(path.Dir(initrd)) == path.Dir(kernel) && path.Dir(kernel) != "."
}

// checkInitrd refuses an initial root file system of another architecture, or one that is cut off, and adds what it takes in memory.
func checkInitrd(given fs.FS, s *Start) error {
	for _, file := range s.Files[1:] {
		f, err := given.Open(file.Path)
		if err != nil {
			return err
		}
		size, machine, err := insideInitrd(f)
		f.Close()
		if err != nil {
			return fault.Invalid.Errorf("%s is damaged or cut off: %v", file.Path, err)
		}
		want := map[Arch]elf.Machine{X64: elf.EM_X86_64, IA32: elf.EM_386, ARM64: elf.EM_AARCH64}[s.Arch]
		if machine != elf.EM_NONE && machine != want && !(s.Arch == X64 && machine == elf.EM_386) {
			return fault.Invalid.Errorf("%s has programs of %s, and the kernel %s is one of %s", file.Path, strings.TrimPrefix(machine.String(), "EM_"), s.Files[0].Path, s.Arch)
		}
		s.Memory += size
	}
	s.Memory += systemMemory
	return nil
}

// programs takes the programs of UEFI and of a BIOS, one for each architecture. What is both a program and a kernel without an
// initial root file system is a program: memory tests are made like that.
func (f *Found) programs(all []candidate) {
	taken := map[string]bool{}
	for _, c := range all {
		if c.start == nil {
			continue
		}
		ways := []Way{Program}
		switch {
		case c.linux && c.pe:
			ways = append(ways, Old)
		case c.linux:
			ways = []Way{Old}
		}
		for _, way := range ways {
			s := *c.start
			s.Way = way
			if s.Arch != ARM64 || way == Program {
				f.take(taken, s, len(ways) > 1)
			}
		}
	}
}

// take takes a way to start; a file that is for one firmware alone goes before one that is for both.
func (f *Found) take(taken map[string]bool, s Start, both bool) {
	key := string(s.Way) + string(s.Arch)
	i := slices.IndexFunc(f.Starts, func(t Start) bool { return t.Way == s.Way && t.Arch == s.Arch })
	switch {
	case i < 0:
		f.Starts, taken[key] = append(f.Starts, s), both
	case taken[key] && !both:
		f.Starts[i], taken[key] = s, false
	case !both:
		f.Remarks = append(f.Remarks, fmt.Sprintf("%s was left out, as %s is a %s of %s, too (--only)", s.Files[0].Path, f.Starts[i].Files[0].Path, s.Way, s.Arch))
	}
}

// onDisc is where UEFI looks for a program on a medium (UEFI 2.10, 3.5.1.1), by architecture.
var onDisc = map[Arch]string{X64: "efi/boot/bootx64.efi", IA32: "efi/boot/bootia32.efi", ARM64: "efi/boot/bootaa64.efi"}

// disc takes a disc that UEFI firmware can start out of its memory.
func (f *Found) disc(all []candidate, size int64) error {
	f.Starts = nil // what is on it needs the rest of it
	for _, arch := range []Arch{X64, ARM64, IA32} {
		i := slices.IndexFunc(all, func(c candidate) bool { return c.pe && strings.ToLower(c.path) == onDisc[arch] })
		if i < 0 {
			continue
		}
		f.Starts = append(f.Starts, Start{Way: Disc, Arch: arch, Files: []File{{Path: DiscPath}}, Signer: all[i].start.Signer, Memory: size + firmwareMemory})
	}
	if len(f.Starts) == 0 {
		return fault.Invalid.Errorf("the disc has no program where UEFI looks for one (EFI/BOOT/BOOTX64.EFI), and no kernel with an initrd; a BIOS cannot start a disc over the network")
	}
	return nil
}

// describe says what it is, by the layout that installer media have.
func (f *Found) describe(given fs.FS) {
	first := f.Starts[0].Files[0].Path
	lower := strings.ToLower(first)
	is := func(file string) bool { _, err := fs.Stat(given, file); return err == nil }
	switch {
	case f.Starts[0].Way == Kernel && (strings.Contains(lower, "debian-installer/") || strings.HasPrefix(lower, "install.") || strings.Contains(lower, "/install.")):
		f.What, f.Reads, f.Words = "installer of Debian", Preseed, preseedWords
	case f.Starts[0].Way == Kernel && (is(".treeinfo") || is("images/pxeboot") || strings.Contains(lower, "images/pxeboot/")):
		f.What, f.Reads, f.Words = "installer that reads kickstart files", Kickstart, kickstartWords
	case f.Starts[0].Way == Kernel:
		f.What = "Linux system"
	case f.Starts[0].Way == Disc:
		f.What = "disc"
	default:
		f.What = "program"
	}
	if line := firstLine(given, ".disk/info"); line != "" {
		f.What += ": " + line
		if f.Reads == Preseed {
			f.Remarks = append(f.Remarks, "the installer of a disc may look for the disc; what is made for network boot (netboot) does not")
		}
	} else {
		for dir := path.Dir(first); ; dir = path.Dir(dir) {
			if line := firstLine(given, path.Join(dir, "version.info")); line != "" {
				_, version, labelled := strings.Cut(line, ":")
				if f.What += ": " + line; labelled {
					f.What = strings.TrimSuffix(f.What, line) + strings.TrimSpace(version)
				}
				break
			}
			if dir == "." {
				break
			}
		}
	}
	f.Remarks = append(f.Remarks, f.Lacks()...)
}

// firstLine is the first line of a small file; empty if it is not there.
func firstLine(given fs.FS, name string) string {
	f, err := given.Open(name)
	if err != nil {
		return ""
	}
	defer f.Close()
	line, _, err := bufio.NewReader(io.LimitReader(f, 200)).ReadLine()
	if err != nil {
		return ""
	}
	return strings.ToValidUTF8(strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return -1
		}
		return r
	}, string(line)), "")
}
