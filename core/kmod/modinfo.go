// Package kmod knows the modules of a Linux kernel: what each one drives, needs
// and asks for, in which order they are loaded, and which of them a device wants.
//
//	info, err := kmod.ReadInfo(file)           // the .modinfo section of one module
//	index := kmod.NewIndex(infos)              // of many
//	order, err := index.Order("e1000e")        // with what it needs, needs first
//	names := index.Match("pci:v00008086d…")    // for a device's modalias
//
// It loads nothing itself.
package kmod

import (
	"bytes"
	"debug/elf"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
)

// ErrModule says that a file is not a kernel module.
var ErrModule = errors.New("not a kernel module")

// Limits on what a module may say of itself.
const (
	maxSections = 4096
	maxModinfo  = 1 << 20
)

// Info is what a module says of itself, in the section .modinfo.
type Info struct {
	Name     string // as the kernel calls it: underscores, no suffix
	Path     string // where it lies; the reader sets it
	Kernel   string // release that it was built for
	Needs    []string
	Before   []string // soft: loaded before it, if they are there
	Aliases  []string // patterns of the devices that it drives
	Firmware []string // files that it may ask for, below lib/firmware
	Version  string   // of its own; modules of the kernel's tree have none
	About    string   // what it is, in its maker's words
}

// ReadInfo reads a module's section .modinfo: strings of KEY=VALUE, each ended by
// a zero byte. Errors wrap ErrModule.
func ReadInfo(r io.ReaderAt) (Info, error) {
	text, err := modinfo(r)
	if err != nil {
		return Info{}, err
	}
	var m Info
	for entry := range bytes.SplitSeq(text, []byte{0}) {
		key, value, found := strings.Cut(string(entry), "=")
		if !found {
			continue
		}
		switch key {
		case "name":
			m.Name = Canonical(value)
		case "vermagic":
			m.Kernel, _, _ = strings.Cut(value, " ")
		case "depends":
			for name := range strings.SplitSeq(value, ",") {
				if name != "" {
					m.Needs = append(m.Needs, Canonical(name))
				}
			}
		case "softdep":
			m.Before = append(m.Before, pre(value)...)
		case "alias":
			m.Aliases = append(m.Aliases, value)
		case "firmware":
			m.Firmware = append(m.Firmware, value)
		case "version":
			m.Version = value
		case "description":
			m.About = value
		}
	}
	if m.Name == "" {
		return m, fmt.Errorf("%w: it does not say its name", ErrModule)
	}
	return m, nil
}

// modinfo is the section itself. Reading damaged files, debug/elf may panic.
func modinfo(r io.ReaderAt) (text []byte, err error) {
	defer func() {
		if p := recover(); p != nil {
			text, err = nil, fmt.Errorf("%w: %v", ErrModule, p)
		}
	}()
	f, err := elf.NewFile(r)
	if err != nil {
		return nil, fmt.Errorf("%w: %v", ErrModule, err)
	}
	if len(f.Sections) > maxSections {
		return nil, fmt.Errorf("%w: it has %d sections", ErrModule, len(f.Sections))
	}
	s := f.Section(".modinfo")
	if s == nil || s.Size > maxModinfo {
		return nil, fmt.Errorf("%w: no section .modinfo of sensible size", ErrModule)
	}
	if text, err = s.Data(); err != nil {
		return nil, fmt.Errorf("%w: %v", ErrModule, err)
	}
	return text, nil
}

// pre are the modules that a softdep wants before: "pre: a b post: c".
func pre(softdep string) (names []string) {
	before := false
	for _, word := range strings.Fields(softdep) {
		switch word {
		case "pre:":
			before = true
		case "post:":
			before = false
		default:
			if before {
				names = append(names, Canonical(word))
			}
		}
	}
	return names
}

// Canonical is a module's name as the kernel writes it, from a name or a file's
// name.
func Canonical(name string) string {
	name = name[strings.LastIndexByte(name, '/')+1:]
	if i := strings.Index(name, ".ko"); i >= 0 {
		name = name[:i]
	}
	return strings.ReplaceAll(name, "-", "_")
}

// sorted returns names in order, each once.
func sorted(names []string) []string {
	slices.Sort(names)
	return slices.Compact(names)
}
