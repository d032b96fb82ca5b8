// Package driver knows drivers: what a package holds and drives, which package is
// the best for a device, and what a workstation would lack.
//
//	found, skipped, err := driver.Find(root)           // the packages in a folder
//	p, err := library.Add(found[0], origin, now)       // one more in the library
//	index := driver.NewIndex(library.Packages())
//	for _, c := range index.Candidates(device, target) // best first, each with its reason
//	report := driver.Cover(devices, environment, delivered, index)
//
// There are two kinds of packages: those described by an INF file, and modules of
// a Linux kernel. Reading is strict and bounded, as packages come from anywhere.
package driver

import (
	"fmt"
	"strings"
	"time"

	"jugate/core/kmod"
	"jugate/core/slabstore"
)

// Kind is what a package consists of.
type Kind string

// The kinds.
const (
	INF     Kind = "inf"
	Modules Kind = "modules"
)

// System is the kind of operating system that packages are for.
type System string

// The systems.
const (
	Windows System = "windows"
	Linux   System = "linux"
)

// For is the system that packages of a kind are for.
func (k Kind) For() System {
	if k == INF {
		return Windows
	}
	return Linux
}

// Class is what a device is for.
type Class string

// The classes. Without a driver of the first two a machine is out of reach.
const (
	Network Class = "network"
	Storage Class = "storage"
	Display Class = "display"
	Sound   Class = "sound"
	Input   Class = "input"
	USB     Class = "usb"
	Board   Class = "board" // bridges and controllers of the mainboard
	Other   Class = "other"
)

// Classes are all, in the order in which they matter.
var Classes = []Class{Network, Storage, Display, Sound, Input, USB, Board, Other}

// Vital tells whether a machine cannot do without.
func (c Class) Vital() bool { return c == Network || c == Storage }

// Package is one driver package.
type Package struct {
	ID       string    `json:"id"` // of its content: the first hex digits of Digest
	Kind     Kind      `json:"kind"`
	Name     string    `json:"name"` // of the INF file, or of the modules
	Class    Class     `json:"class"`
	Provider string    `json:"provider"`
	Version  string    `json:"version"`
	Date     time.Time `json:"date,omitzero"`
	Arch     []string  `json:"arch"` // as Go calls architectures
	Origin   string    `json:"origin"`
	Added    time.Time `json:"added,omitzero"`

	Digest  slabstore.Digest `json:"digest"`
	Files   []File           `json:"files"`
	Bytes   int64            `json:"bytes"`
	Remarks []string         `json:"remarks,omitempty"` // what is odd about it, in words

	// Of INF packages.
	ClassName string  `json:"class_name,omitempty"` // as the INF says
	ClassID   string  `json:"class_id,omitempty"`   // GUID, with braces
	Catalogue string  `json:"catalogue,omitempty"`  // file with the digests and the signature
	Signer    string  `json:"signer,omitempty"`     // who signed that; empty if nobody did
	Models    []Model `json:"models,omitempty"`

	// Of kernel modules.
	Kernel  string   `json:"kernel,omitempty"` // release
	InTree  bool     `json:"in_tree,omitempty"`
	Modules []Module `json:"modules,omitempty"`
	Builtin []string `json:"builtin,omitempty"` // modules that this kernel has inside
}

// File is one file of a package.
type File struct {
	Path   string           `json:"path"` // below the package
	Size   int64            `json:"size"` // bytes
	Digest slabstore.Digest `json:"digest"`
}

// Model is a device that an INF package names.
type Model struct {
	Name       string     `json:"name"`
	Maker      string     `json:"maker"`
	Decoration Decoration `json:"decoration"`
	Hardware   string     `json:"hardware"` // id, in capitals
	Compatible []string   `json:"compatible,omitempty"`
	Section    string     `json:"section"`
	Line       int        `json:"line"`
	Service    *Service   `json:"service,omitempty"` // of disk controllers
}

// Module is a kernel module with the file that it is in.
type Module struct {
	kmod.Info
	Class Class  `json:"class"`
	Arch  string `json:"arch"`
	File  string `json:"file"` // of Package.Files
	// Blobs are the firmware files that it may ask for, by the name that it asks by, to
	// files of the package; Lacks are those that are not in it.
	Blobs map[string]string `json:"blobs,omitempty"`
	Lacks []string          `json:"lacks,omitempty"`
}

// Label names a package to people.
func (p *Package) Label() string {
	if p.Version == "" {
		return p.Name
	}
	return p.Name + " " + p.Version
}

// Has tells whether the package is for an architecture; "" asks for none.
func (p *Package) Has(arch string) bool {
	if arch == "" || len(p.Arch) == 0 {
		return true
	}
	for _, a := range p.Arch {
		if a == arch {
			return true
		}
	}
	return false
}

// module finds one by name.
func (p *Package) module(name string) (Module, bool) {
	for _, m := range p.Modules {
		if m.Name == name {
			return m, true
		}
	}
	return Module{}, false
}

// LineError says which line of which file makes no sense, and why.
type LineError struct {
	File   string
	Line   int // 0 if the file as a whole is meant
	Reason string
}

func (e *LineError) Error() string {
	if e.Line == 0 {
		return fmt.Sprintf("%s: %s", e.File, e.Reason)
	}
	return fmt.Sprintf("%s:%d: %s", e.File, e.Line, e.Reason)
}

// architectures are the names of architectures in INF decorations.
var architectures = map[string]string{"AMD64": "amd64", "X86": "386", "ARM64": "arm64", "ARM": "arm", "IA64": "ia64"}

// classNames are what INF files call classes.
var classNames = map[string]Class{
	"NET": Network, "SCSIADAPTER": Storage, "HDC": Storage, "DISPLAY": Display, "MEDIA": Sound, "AUDIOENDPOINT": Sound,
	"HIDCLASS": Input, "MOUSE": Input, "KEYBOARD": Input, "USB": USB, "SYSTEM": Board,
}

// classOf is the class that an INF file's own word means.
func classOf(name string) Class {
	if c, known := classNames[strings.ToUpper(name)]; known {
		return c
	}
	return Other
}
