// Package builds makes boot environments: the small system that a workstation
// boots over the network, or from a stick, to become somebody whom the service can
// ask for an errand.
//
//	store, err := builds.Open(dir)
//	build, err := store.Make(ctx, source, builds.Options{Number: 7, Agent: "jugate-agent"})
//	build.Problems                     // what it lacks, in words
//	f, err := store.Open(build, "grubx64.efi")
//
// A build is immutable. It consists of a kernel, of loaders and of layers; each
// layer is a cpio archive of the kernel's initramfs buffer format, compressed by
// itself, and the kernel is handed the layers one after the other. So a new layer
// never rebuilds the others. Parts are files named by their digest, and builds that
// have parts in common share them.
package builds

import (
	"io/fs"
	"time"

	"jugate/core/parts"
	"jugate/core/slabstore"
)

// Build is the description of one build, kept as JSON.
type Build struct {
	Number   int               `json:"number"`
	Created  time.Time         `json:"created"`
	Note     string            `json:"note,omitempty"`
	Kernel   string            `json:"kernel"`         // release
	Words    string            `json:"words"`          // the kernel's command line, before what each workstation adds
	Shell    bool              `json:"shell"`          // whether a shell can be had at the workstation
	Parts    map[string]Part   `json:"parts"`          // by the name that loaders ask for
	Layers   []Layer           `json:"layers"`         // in the order of the archive
	Problems []string          `json:"problems"`       // what it lacks, and what follows
	Modules  int               `json:"kernel_modules"` // how many it has
	Origins  map[string]string `json:"origins"`        // of the parts
	// Packages are the Debian packages, as NAME VERSION, that kernel, modules, firmware and loaders are from, as far as that is known.
	Packages []string `json:"packages,omitempty"`
	// Program is the version of the program that made it, and whose agent it has.
	Program string `json:"program,omitempty"`
}

// Part is a stored file.
type Part = parts.Part

// Layer is one segment of the initial root file system.
type Layer struct {
	Name  string `json:"name"`
	Part  Part   `json:"part"`
	Files []File `json:"files"`
	// Packages are those that it is made of: of drivers, or of Debian.
	Packages []string `json:"packages,omitempty"`
}

// File is one file of a layer.
type File struct {
	Path   string           `json:"path"`
	Mode   fs.FileMode      `json:"mode"`
	Size   int64            `json:"size"`
	Digest slabstore.Digest `json:"digest"`
	Link   string           `json:"link,omitempty"` // a symbolic link's target
	Origin string           `json:"origin"`
	// Package is the Debian package that it is from, as NAME VERSION.
	Package string `json:"package,omitempty"`
}

// The names of layers.
const (
	BaseLayer     = "base"
	RareLayer     = "rare" // modules that few workstations need; see Inside.Spared
	SettingsLayer = "settings"
)

// The names of parts that every build has. Loaders ask for them by these.
const (
	KernelPart = "vmlinuz"
	InitrdPart = "initrd" // all layers, one after the other; no part of its own
)

// The loaders, as far as the source had them.
const (
	ShimPart   = "shimx64.efi"  // signed; loads grubx64.efi from beside it
	LoaderPart = "grubx64.efi"  // signed, over the network
	KeysPart   = "mmx64.efi"    // of shim, to enrol keys
	PlainPart  = "plainx64.efi" // for UEFI HTTP boot and beside another server, unsigned; see PlainServer
	BIOSPart   = "bios.0"
	MediaPart  = "media/grubx64.efi" // signed, from a FAT volume
	// For media that a BIOS starts: the first sector of a disk, what it loads, and what a BIOS loads of a disc.
	MediaFirstPart = "media/boot.img"
	MediaRestPart  = "media/core.img"
	MediaDiscPart  = "media/disc.img"
	ModulesParts   = "grub/x86_64-efi/" // modules that the signed loader may load, if it may
)

// Size is what a workstation loads: the kernel and all layers, in bytes.
func (b *Build) Size() int64 {
	var initrd int64
	for _, l := range b.Layers {
		initrd = parts.Align(initrd) + l.Part.Size
	}
	return b.Parts[KernelPart].Size + initrd
}

// Tag names the content of a part, or of all layers for InitrdPart; empty if the build
// has no such part.
func (b *Build) Tag(part string) string {
	if part != InitrdPart {
		if p, there := b.Parts[part]; there {
			return p.Digest.String()
		}
		return ""
	}
	var all []byte
	for _, l := range b.Layers {
		all = append(all, l.Part.Digest[:]...)
	}
	return slabstore.Sum(all).String()
}
