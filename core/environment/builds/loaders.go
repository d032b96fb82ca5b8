package builds

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
)

// copied are the loaders that are taken from the source as they are: signed, so that
// Secure Boot accepts them.
var copied = []struct {
	part   string
	files  []string
	lacks  string
	needed bool
}{
	{ShimPart, []string{"usr/lib/shim/shimx64.efi.signed"}, "no UEFI workstation can boot it over the network (Debian's package shim-signed)", true},
	{LoaderPart, []string{"usr/lib/grub/x86_64-efi-signed/grubnetx64.efi.signed"}, "no UEFI workstation can boot it over the network (Debian's package grub-efi-amd64-signed)", true},
	{MediaPart, []string{"usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed"}, "no media can be made of it (Debian's package grub-efi-amd64-signed)", true},
	{MediaFirstPart, []string{biosModules + "/boot.img"}, "", false},
	{KeysPart, []string{"usr/lib/shim/mmx64.efi.signed", "usr/lib/shim/mmx64.efi"}, "", false},
}

// loadable are modules of the loader that may be fetched where Secure Boot does not
// forbid it, and are built into the loaders that Jugate has made.
var loadable = []string{"http", "smbios", "chain", "sleep", "search_fs_file", "regexp", "test", "echo", "reboot", "halt"}

// onMedia are the modules of loaders that a BIOS starts from media.
var onMedia = []string{"biosdisk", "part_gpt", "part_msdos", "fat", "iso9660", "normal", "linux", "configfile", "search", "search_fs_file", "echo", "test", "sleep", "reboot", "halt", "serial", "terminal", "chain", "cpuid"}

// Folders of a loader's modules.
const (
	efiModules  = "usr/lib/grub/x86_64-efi"
	biosModules = "usr/lib/grub/i386-pc"
)

// PlainServer stands in the unsigned loader where HOST:PORT of the service belongs;
// whoever serves the file puts that there, with spaces after it to the same length.
const PlainServer = "@@@ address of the service @@@"

// plainScript is inside the unsigned loader: it drops the spaces and asks the service.
const plainScript = "set jugate_server=\"" + PlainServer + "\"\n" + `regexp --set 1:jugate_server "^([^ ]*)" "$jugate_server"
source (http,$jugate_server)/boot/files/grub/grub.cfg
`

// loaders puts the loaders into the store. problems say in words what lacks.
func (s *Store) loaders(ctx context.Context, from *Source, b *Build) (problems []string, err error) {
	for _, l := range copied {
		f, err := from.find(l.files...)
		if errors.Is(err, ErrNotFound) {
			if l.needed {
				problems = append(problems, fmt.Sprintf("%s is not there: %s", l.files[0], l.lacks))
			}
			continue
		}
		if err != nil {
			return nil, err
		}
		if err := s.take(b, l.part, f); err != nil {
			return nil, err
		}
	}
	if err := s.loaderModules(from, b); errors.Is(err, ErrNotFound) {
		problems = append(problems, "the loader's own modules are not there: UEFI workstations load by TFTP alone, which is slow (Debian's package grub-efi-amd64-bin)")
	} else if err != nil {
		return nil, err
	}
	for _, made := range []struct {
		part, format, modules, prefix, script, lacks string
		inside                                       []string
	}{
		{BIOSPart, "i386-pc-pxe", biosModules, "(tftp)/grub", "", "no BIOS workstation can boot it (Debian's packages grub-pc-bin and grub-common)",
			append([]string{"pxe", "tftp", "net", "normal", "linux", "configfile", "serial", "terminal", "biosdisk", "part_gpt", "part_msdos", "cpuid", "minicmd"}, loadable...)},
		{PlainPart, "x86_64-efi", efiModules, "(http)/boot/files/grub", plainScript, "UEFI HTTP boot cannot be served, nor UEFI beside another DHCP server (Debian's packages grub-efi-amd64-bin and grub-common)",
			append([]string{"efi_gop", "efi_uga", "efinet", "tftp", "net", "normal", "linux", "configfile", "serial", "terminal", "part_gpt", "part_msdos", "fat", "search", "minicmd"}, loadable...)},
		{MediaRestPart, "i386-pc", biosModules, "/jugate", mediaFirst, "media start by UEFI alone (Debian's packages grub-pc-bin and grub-common)", onMedia},
		{MediaDiscPart, "i386-pc-eltorito", biosModules, "/jugate", mediaFirst, "media start by UEFI alone (Debian's packages grub-pc-bin and grub-common)", onMedia},
	} {
		err := s.makeLoader(ctx, from, b, made.part, made.format, made.modules, made.prefix, made.script, made.inside)
		if errors.Is(err, ErrNotFound) {
			problems = append(problems, fmt.Sprintf("%v: %s", err, made.lacks))
		} else if err != nil {
			return nil, fmt.Errorf("%s: %w", made.part, err)
		}
	}
	return problems, nil
}

// take puts a file of the source into the build as a part.
func (s *Store) take(b *Build, name string, f found) error {
	in, err := f.open()
	if err != nil {
		return err
	}
	defer in.Close()
	part, err := s.Parts.Put(func(w io.Writer) error { _, err := io.Copy(w, in); return err })
	if err != nil {
		return err
	}
	b.Parts[name], b.Origins[name] = part, f.origin
	b.from(f.pack())
	return nil
}

// loaderModules takes the modules that the signed loader may load, with what they
// need by moddep.lst.
func (s *Store) loaderModules(from *Source, b *Build) error {
	list, err := from.find(path.Join(efiModules, "moddep.lst"))
	if err != nil {
		return err
	}
	f, err := list.open()
	if err != nil {
		return err
	}
	defer f.Close()
	needs := map[string][]string{}
	lines := bufio.NewScanner(f)
	for lines.Scan() {
		name, rest, _ := strings.Cut(lines.Text(), ":")
		needs[name] = strings.Fields(rest)
	}
	if err := lines.Err(); err != nil {
		return err
	}
	var all []string
	var add func(name string)
	add = func(name string) {
		if !slices.Contains(all, name) {
			all = append(all, name)
			for _, need := range needs[name] {
				add(need)
			}
		}
	}
	for _, name := range loadable {
		add(name)
	}
	// Not fs.lst: with it the loader would fetch a module for every file system there
	// is, whenever it looks for a file on a disk.
	files := []string{"moddep.lst", "command.lst"}
	for _, name := range all {
		files = append(files, name+".mod")
	}
	for _, file := range files {
		f, err := from.find(path.Join(efiModules, file))
		if err != nil {
			return err
		}
		if err := s.take(b, ModulesParts+file, f); err != nil {
			return err
		}
	}
	return nil
}

// makeLoader has the loader's own tool put an image together from its modules.
func (s *Store) makeLoader(ctx context.Context, from *Source, b *Build, name, format, modules, prefix, script string, inside []string) error {
	list, err := from.find(path.Join(modules, "moddep.lst"))
	if err != nil {
		return err
	}
	tool, err := exec.LookPath("grub-mkimage")
	if err != nil {
		f, err := from.find("usr/bin/grub-mkimage")
		if err != nil {
			return err
		}
		tool = filepath.Join(f.place.root.Name(), f.name)
	}
	dir, err := os.MkdirTemp("", "loader")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	out := filepath.Join(dir, "image")
	args := append([]string{"-O", format, "-d", filepath.Join(list.place.root.Name(), modules), "-p", prefix, "-o", out}, inside...)
	if script != "" {
		file := filepath.Join(dir, "script")
		if err := os.WriteFile(file, []byte(script), 0o644); err != nil {
			return err
		}
		args = append([]string{"-c", file}, args...)
	}
	if text, err := exec.CommandContext(ctx, tool, args...).CombinedOutput(); err != nil {
		return fmt.Errorf("%s: %w: %s", filepath.Base(tool), err, strings.TrimSpace(string(text)))
	}
	in, err := os.Open(out)
	if err != nil {
		return err
	}
	defer in.Close()
	part, err := s.Parts.Put(func(w io.Writer) error { _, err := io.Copy(w, in); return err })
	if err != nil {
		return err
	}
	b.Parts[name], b.Origins[name] = part, "made of "+list.origin
	b.from(list.pack())
	return nil
}
