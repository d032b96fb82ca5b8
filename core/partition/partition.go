// Package partition reads, checks, plans and writes the partition table of a
// disk: the GUID Partition Table of the UEFI specification, chapter 5, the master
// boot record with extended and logical partitions, or none at all.
//
// The way through it, from the golden disk to a blank one of another size:
//
//	table, err := partition.Read(golden, size, 512)
//	fitted, err := table.Onto(otherSize, 512, partition.Fit{Grow: partition.GrowLast})
//	for _, m := range partition.Changes(table, fitted) { … show them; nothing is written yet … }
//	err = partition.Wipe(target, otherSize, 512)
//	… write what the partitions hold …
//	err = fitted.Write(target)
//
// It never looks inside a partition; that is package volume.
package partition

import (
	"errors"
	"fmt"
	"math"
	"reflect"
	"slices"

	"github.com/google/uuid"
)

// Scheme names the kind of table.
type Scheme string

// The schemes. None is a disk that is one volume from its first byte on.
const (
	GPT  Scheme = "gpt"
	MBR  Scheme = "mbr"
	None Scheme = "none"
)

var (
	// ErrDamaged says that there is a table, but no copy of it can be trusted.
	ErrDamaged = errors.New("the partition table is damaged")
	// ErrSectorSize says that a table made for one sector size was to go onto another.
	ErrSectorSize = errors.New("the sector sizes differ")
)

// Table is a partition table in terms of its disk. Sector numbers are logical
// block addresses of SectorSize bytes.
type Table struct {
	Scheme     Scheme    `json:"scheme"`
	SectorSize int       `json:"sector_size"`
	Sectors    uint64    `json:"sectors"` // the whole disk
	DiskID     uuid.UUID `json:"disk_id,omitzero"`
	// Signature is the MBR's disk signature; a GPT disk has it too, mostly zero.
	Signature uint32 `json:"signature,omitempty"`
	// Protection are the two bytes of an MBR behind the signature.
	Protection uint16 `json:"protection,omitempty"`
	// FromBackup says that sector 0 says nothing of a GPT, and just its backup was found.
	FromBackup bool `json:"-"`
	// Unsound says that the first copy of a GPT cannot be used, and its backup was.
	Unsound bool `json:"-"`
	// FirstUsable and LastUsable bound what partitions may occupy, both inclusive.
	FirstUsable uint64 `json:"first_usable"`
	LastUsable  uint64 `json:"last_usable"`
	// Slots is how many entries the table has room for: usually 128, in an MBR 4.
	Slots int `json:"slots"`
	// BootCode is the first 440 bytes of sector 0, empty when they are all zero.
	BootCode []byte `json:"boot_code,omitempty"`
	// Partitions are in the order of their numbers. An extended partition is one
	// of them; the logical ones inside follow with numbers from 5.
	Partitions []Partition `json:"partitions"`
	// Findings are faults that Read could work around, in words.
	Findings []string `json:"-"`
}

// Partition is one entry in use.
type Partition struct {
	Number     int       `json:"number"` // its slot, counted from 1
	Type       uuid.UUID `json:"type,omitzero"`
	ID         uuid.UUID `json:"id,omitzero"`
	First      uint64    `json:"first"` // first sector
	Last       uint64    `json:"last"`  // last sector, inclusive
	Attributes uint64    `json:"attributes,omitempty"`
	Name       string    `json:"name,omitempty"`

	// Code and Active are an MBR's: the type, and whether it is the one to start.
	Code   byte `json:"code,omitempty"`
	Active bool `json:"active,omitempty"`
	// Record is the sector of a logical partition's extended boot record, and
	// BootCode what that holds in front of its table.
	Record   uint64 `json:"record,omitempty"`
	BootCode []byte `json:"boot_code,omitempty"`

	// Kept says, in a plan, that this is the disk's own partition, which stays.
	Kept bool `json:"-"`
	// pinned says of a kept one that it was named by its number.
	pinned bool
	// added says that a layout has it beside those of the image.
	added bool
}

// Types of partitions that matter to whoever starts or mends a workstation.
var (
	// BasicData is the type of a volume with files, on disks that several systems use.
	BasicData = uuid.MustParse("ebd0a0a2-b9e5-4433-87c0-68b6b72699c7")
	// EFISystem is the type of the partition that firmware loads from.
	EFISystem = uuid.MustParse("c12a7328-f81f-11d2-ba4b-00a0c93ec93b")
	// WindowsRecovery is the type of Windows' recovery environment.
	WindowsRecovery = uuid.MustParse("de94bba4-06d1-4d40-a16a-bfd50179d6ac")
	// MicrosoftReserved is the type of the partition that Windows keeps for itself.
	MicrosoftReserved = uuid.MustParse("e3c9e316-0b5c-4db8-817d-f92df00215ae")
	// BIOSBoot is the type of the partition that a boot loader for BIOS lies in.
	BIOSBoot = uuid.MustParse("21686148-6449-6e6f-744e-656564454649")
)

// Extended tells whether this is the partition of an MBR that only holds others.
func (p Partition) Extended() bool { return p.Number <= 4 && extended(p.Code) }

// Logical tells whether the partition lies in an extended one.
func (p Partition) Logical() bool { return p.Record != 0 }

// begin is the first sector that belongs to a partition, its record included.
func (p Partition) begin() uint64 {
	if p.Logical() {
		return p.Record
	}
	return p.First
}

// Start is the partition's first byte on a disk of this table.
func (t *Table) Start(p Partition) int64 { return int64(p.First) * int64(t.SectorSize) }

// Size is the partition's length in bytes.
func (t *Table) Size(p Partition) int64 {
	return int64(p.Last-p.First+1) * int64(t.SectorSize)
}

// DiskSize is the whole disk's length in bytes.
func (t *Table) DiskSize() int64 { return int64(t.Sectors) * int64(t.SectorSize) }

// Partition returns the partition in slot number.
func (t *Table) Partition(number int) (Partition, bool) {
	for _, p := range t.Partitions {
		if p.Number == number {
			return p, true
		}
	}
	return Partition{}, false
}

// GapStart and GapEnd bound the bytes between the primary table and the first
// partition; boot code can lie there. They are equal when there is no gap. On a
// disk without a table the gap is the whole disk.
func (t *Table) GapStart() int64 {
	switch t.Scheme {
	case None:
		return 0
	case MBR:
		return int64(t.SectorSize)
	}
	return (2 + int64(t.entrySectors())) * int64(t.SectorSize)
}

// GapEnd is the byte behind that gap.
func (t *Table) GapEnd() int64 {
	if t.Scheme == None {
		return t.DiskSize()
	}
	end := t.FirstUsable
	for i, p := range t.Partitions {
		if i == 0 || p.First < end {
			end = p.First
		}
	}
	return max(int64(end)*int64(t.SectorSize), t.GapStart())
}

// Places are where the table itself lies: its copy at the beginning of the disk, and that at
// the end, if it has one; from the first byte of each to the one behind it.
func (t *Table) Places() [][2]int64 {
	places := [][2]int64{{0, t.GapStart()}}
	if t.Scheme == GPT {
		places = append(places, [2]int64{t.DiskSize() - int64(t.tail())*int64(t.SectorSize), t.DiskSize()})
	}
	return places
}

// Gaps are the stretches of bytes behind the first partition that lie in none, from the
// first byte of each to the one behind it.
func (t *Table) Gaps() (gaps [][2]int64) {
	at := int64(-1)
	for _, p := range t.inOrder() {
		if begin := int64(p.begin()) * int64(t.SectorSize); at >= 0 && begin > at {
			gaps = append(gaps, [2]int64{at, begin})
		}
		if p.Logical() && p.First > p.Record+1 { // behind its record
			gaps = append(gaps, [2]int64{int64(p.Record+1) * int64(t.SectorSize), int64(p.First) * int64(t.SectorSize)})
		}
		at = int64(p.Last+1) * int64(t.SectorSize)
	}
	if end := int64(t.LastUsable+1) * int64(t.SectorSize); at >= 0 && end > at {
		gaps = append(gaps, [2]int64{at, end})
	}
	return gaps
}

// entrySectors is how many sectors a GPT's array of entries takes.
func (t *Table) entrySectors() uint64 {
	return (uint64(t.Slots)*entrySize + uint64(t.SectorSize) - 1) / uint64(t.SectorSize)
}

// inOrder lists what holds bytes, in the order of the disk: every partition but
// an extended one that has logical ones.
func (t *Table) inOrder() []Partition {
	var items []Partition
	for _, p := range t.Partitions {
		if p.Extended() && len(t.logical()) > 0 {
			continue
		}
		items = append(items, p)
	}
	slices.SortFunc(items, func(a, b Partition) int {
		if a.begin() < b.begin() {
			return -1
		}
		return 1
	})
	return items
}

func (t *Table) logical() []Partition {
	var in []Partition
	for _, p := range t.Partitions {
		if p.Logical() {
			in = append(in, p)
		}
	}
	return in
}

// Equal tells whether two tables say the same, findings aside.
func (t *Table) Equal(o *Table) bool {
	a, b := *t, *o
	a.Findings, b.Findings = nil, nil
	a.FromBackup, b.FromBackup = false, false
	a.Unsound, b.Unsound = false, false
	a.Partitions, b.Partitions = stored(a.Partitions), stored(b.Partitions)
	if len(a.Partitions)+len(b.Partitions) == 0 {
		a.Partitions, b.Partitions = nil, nil
	}
	return reflect.DeepEqual(a, b)
}

// stored is what a disk says of partitions.
func stored(all []Partition) []Partition {
	all = slices.Clone(all)
	for i := range all {
		all[i].Kept, all[i].pinned, all[i].added = false, false, false
	}
	return all
}

// Check refuses tables whose parts contradict each other; what passes can be
// computed with and written without overflow. Errors wrap ErrDamaged.
func (t *Table) Check() error {
	if (t.SectorSize != 512 && t.SectorSize != 4096) || t.Slots < 0 || t.Slots > maxSlots {
		return fmt.Errorf("%w: sectors of %d bytes and %d slots", ErrDamaged, t.SectorSize, t.Slots)
	}
	if t.Sectors < 8 || t.Sectors > math.MaxInt64/uint64(t.SectorSize) || t.LastUsable >= t.Sectors || t.FirstUsable > t.LastUsable ||
		len(t.BootCode) > bootCodeLen {
		return fmt.Errorf("%w: sectors %d to %d cannot be the usable ones of a disk of %d", ErrDamaged, t.FirstUsable, t.LastUsable, t.Sectors)
	}
	if err := t.checkPlaces(); err != nil {
		return err
	}
	switch t.Scheme {
	case GPT:
		if t.Slots < 1 || t.FirstUsable < 2+t.entrySectors() {
			return fmt.Errorf("%w: %d slots do not fit before sector %d", ErrDamaged, t.Slots, t.FirstUsable)
		}
		for _, p := range t.Partitions {
			if p.Number > t.Slots || p.Record != 0 || p.Code != 0 {
				return fmt.Errorf("%w: there is no slot for partition %d", ErrDamaged, p.Number)
			}
		}
		return nil
	case MBR:
		return t.checkMBR()
	case None:
		if len(t.Partitions) > 0 || t.FirstUsable != 0 {
			return fmt.Errorf("%w: %d partitions on a disk without a table", ErrDamaged, len(t.Partitions))
		}
		return nil
	}
	return fmt.Errorf("%w: scheme %q", ErrDamaged, t.Scheme)
}

// checkPlaces checks that partitions have numbers of their own, lie on the disk
// and overlap with none; an extended one may, with what lies in it.
func (t *Table) checkPlaces() error {
	if len(t.Partitions) > max(t.Slots, 4+maxLogical) {
		return fmt.Errorf("%w: %d partitions in %d slots", ErrDamaged, len(t.Partitions), t.Slots)
	}
	for i, p := range t.Partitions {
		if p.Number < 1 || p.Number > t.Slots && !p.Logical() || p.Number <= 4 && p.Logical() || p.Number > max(t.Slots, 4+maxLogical) {
			return fmt.Errorf("%w: there is no slot %d for a partition", ErrDamaged, p.Number)
		}
		if p.First > p.Last || p.begin() > p.First || p.begin() < t.FirstUsable || p.Last > t.LastUsable {
			return fmt.Errorf("%w: partition %d (sectors %d to %d) lies outside the usable sectors %d to %d",
				ErrDamaged, p.Number, p.First, p.Last, t.FirstUsable, t.LastUsable)
		}
		for _, q := range t.Partitions[:i] {
			inside := q.Extended() && p.Logical() || p.Extended() && q.Logical()
			if p.Number == q.Number || !inside && p.begin() <= q.Last && q.begin() <= p.Last {
				return fmt.Errorf("%w: partitions %d and %d overlap", ErrDamaged, q.Number, p.Number)
			}
		}
	}
	return nil
}
