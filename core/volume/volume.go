// Package volume tells what a partition holds: which file system, its label and
// identity, whether it was left clean, and which bytes of it are in use.
//
//	v, err := volume.Open(io.NewSectionReader(disk, start, size), size)
//	for extent, err := range v.Used() {
//		… copy extent.Length bytes at extent.Start
//	}
//
// Used goes through the volume once, in order, and reads allocation maps as it
// goes; its memory does not grow with the volume. The allocation maps alone decide
// what is in use; of files only NTFS's page and hibernation files are looked for.
// Reading never writes; Resize and Relocate change a copy to fit its new place.
//
// A volume whose kind nobody here knows is in use as a whole.
package volume

import (
	"errors"
	"io"
	"iter"
)

// Kind names what a volume is.
type Kind string

// The kinds that Open tells apart.
const (
	FAT12     Kind = "fat12"
	FAT16     Kind = "fat16"
	FAT32     Kind = "fat32"
	ExFAT     Kind = "exfat"
	NTFS      Kind = "ntfs"
	Ext       Kind = "ext4" // ext2 and ext3 are the same format with less in it
	XFS       Kind = "xfs"
	Btrfs     Kind = "btrfs"
	HFSPlus   Kind = "hfsplus"
	Swap      Kind = "swap"
	LVM       Kind = "lvm2"
	BitLocker Kind = "bitlocker"
	LUKS      Kind = "luks"
	Unknown   Kind = "unknown"
)

// ErrDamaged says that a volume's own records contradict each other, so that
// nothing they say of used and unused blocks can be believed.
var ErrDamaged = errors.New("the file system is damaged")

// Extent is a run of bytes, relative to the start of the volume.
type Extent struct {
	Start  int64 `json:"start"`
	Length int64 `json:"length"`
}

// End is the first byte behind the extent.
func (e Extent) End() int64 { return e.Start + e.Length }

// Volume is what Open found.
type Volume struct {
	Kind        Kind
	Label       string
	UUID        string // as the file system's own tools print it
	ClusterSize int64  // bytes; the unit of allocation
	Size        int64  // bytes of the partition
	// Needs is how many bytes from its start the volume must keep: for NTFS, which
	// Resize can cut, up to the last cluster in use, for others all that the file
	// system says is its own.
	Needs int64
	// Clean is false when the file system was not unmounted properly. What that
	// means for its allocation maps is told by MapsStale.
	Clean bool
	// MapsStale says that the allocation maps may be behind the truth (a journal
	// was not played back, or the file system itself noted errors), so that Used
	// may miss data.
	MapsStale bool
	// Encrypted volumes are in use as a whole: nobody can tell what is free.
	Encrypted bool
	// Hibernated says that the volume holds the memory of a sleeping system, which
	// will go on where it was and know nothing of what was done to the disk since.
	Hibernated bool
	// Fleeting are the extents of page and hibernation files, ascending: in use,
	// but their content is worthless on any other machine.
	Fleeting []Extent
	// LogElsewhere says that its journal or log is on another device.
	LogElsewhere bool
	// RAID says in words of what RAID it is a member; empty if it is of none.
	RAID string
	// Notes are further facts for people, such as why a volume is taken whole.
	Notes []string

	used iter.Seq2[Extent, error]
}

// Used goes through the extents in use, ascending and apart from each other.
// It stops at the first error, which wraps ErrDamaged or is the reader's.
func (v *Volume) Used() iter.Seq2[Extent, error] { return v.used }

// Whole makes every byte of the volume count as used, for when its maps are not
// to be believed.
func (v *Volume) Whole() { v.used, v.Fleeting, v.Needs = whole(v.Size), nil, v.Size }

// prober recognises one kind: it returns nil, nil for what is not of its kind.
type prober func(r io.ReaderAt, size int64) (*Volume, error)

// probers in the order in which they are asked. FAT comes last: it has no
// signature of its own, and leftovers of it survive in other boot sectors.
var probers = []prober{
	probeEncrypted, probeBtrfs, probeXFS, probeNTFS, probeExFAT, probeHFSPlus,
	probeSwap, probeLVM, probeExt, probeFAT,
}

// Open looks at a volume of size bytes. Errors wrap ErrDamaged, when a file
// system was recognised and its main record makes no sense, or are r's.
func Open(r io.ReaderAt, size int64) (*Volume, error) {
	for _, probe := range probers {
		v, err := probe(r, size)
		if err != nil {
			return nil, err
		}
		if v == nil {
			continue
		}
		v.Size = size
		if v.Needs == 0 || v.Needs > size {
			v.Needs = size
		}
		if v.used == nil {
			v.used = whole(size)
		}
		v.used = joined(v.used, size)
		v.RAID, err = RAIDMember(r, size)
		return v, err
	}
	v := Opaque(size)
	var err error
	v.RAID, err = RAIDMember(r, size)
	return v, err
}

// Opaque is a volume of size bytes of which nothing is known.
func Opaque(size int64) *Volume {
	return &Volume{Kind: Unknown, ClusterSize: 1, Size: size, Needs: size, Clean: true, used: whole(size)}
}

// UsedBytes goes through the extents in use and adds up their lengths.
func (v *Volume) UsedBytes() (int64, error) {
	var sum int64
	for e, err := range v.Used() {
		if err != nil {
			return 0, err
		}
		sum += e.Length
	}
	return sum, nil
}
