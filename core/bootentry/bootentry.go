// Package bootentry has what workstations can boot beside builds of the boot environment: installers, memory tests, programs of
// the firmware, discs.
//
//	found, err := bootentry.Recognise(folder, "memtest86+.deb")      // what it is, and how it is started
//	start, err := found.For(bootentry.Machine{Firmware: bootentry.BIOS}) // or why it cannot be
//	text, err := bootentry.AnswerFile.Render(template, values)       // for one machine
//
// look.go tells what single files are and recognise.go what they are together, machine.go says who can start it, template.go makes the words of a kernel and the answer
// file of an installer, and formats.go has the answer files that are ready made.
package bootentry

import (
	"slices"
	"strings"

	"jugate/core/parts"
)

// Way is how something is started.
type Way string

// The ways.
const (
	Kernel  Way = "kernel"       // a Linux kernel with its initial root file systems, by UEFI and BIOS
	Program Way = "UEFI program" // PE, subsystem "EFI application" (UEFI 2.10, 2.1.1)
	Old     Way = "BIOS program" // what starts by the boot protocol of Linux, and is no Linux
	Disc    Way = "disc"         // firmware that loads by HTTP takes it into its memory (UEFI 2.10, 13.12 and 24.7)
)

// Arch is the architecture of a program.
type Arch string

// The architectures that are told apart.
const (
	X64   Arch = "x64"
	IA32  Arch = "ia32"
	ARM64 Arch = "arm64"
)

// Start is one way to start what was given.
type Start struct {
	Way  Way  `json:"way"`
	Arch Arch `json:"arch"`
	// Files are the program, or the kernel and its initial root file systems in their order.
	Files  []File `json:"files"`
	Signer string `json:"signer,omitempty"` // as the program's certificate says; empty if it is not signed
	Memory int64  `json:"memory"`           // bytes that it takes at least
}

// File is a file of what was given.
type File struct {
	Path string     `json:"path"`
	Part parts.Part `json:"part"` // once it is kept
}

// Format is the form of the answer file that an installer reads.
type Format string

// The formats. Text is any other, by a template of the engineer's own.
const (
	NoFormat  Format = ""
	Preseed   Format = "preseed"
	Kickstart Format = "kickstart"
	Text      Format = "text"
)

// Found is what was recognised.
type Found struct {
	What    string   `json:"what"` // in words
	Reads   Format   `json:"reads,omitempty"`
	Words   string   `json:"words,omitempty"` // for the kernel: a template, if nothing else is said
	Starts  []Start  `json:"starts"`
	Remarks []string `json:"remarks,omitempty"`
}

// Parts are the digests of all files, each once.
func (f *Found) Parts() (all []parts.Part) {
	for _, s := range f.Starts {
		for _, file := range s.Files {
			if !slices.Contains(all, file.Part) {
				all = append(all, file.Part)
			}
		}
	}
	return all
}

// Ways says in a line how it is started, such as "kernel x64, not signed; BIOS program ia32".
func (f *Found) Ways() string {
	var all []string
	for _, s := range f.Starts {
		text := string(s.Way) + " " + string(s.Arch)
		switch {
		case s.Way == Old || s.Way == Disc:
		case s.Signer != "":
			text += ", signed by " + s.Signer
		default:
			text += ", not signed"
		}
		all = append(all, text)
	}
	return strings.Join(all, "; ")
}
