// Package partition reads, checks, moves and writes the partition table of a
// disk: the GUID Partition Table of the UEFI specification, chapter 5.
//
// The way through it, from the golden disk to a blank one of another size:
//
//	table, err := partition.Read(golden, size, 512)
//	moved, err := table.Onto(otherSize, 512) // nothing is written yet
//	err = partition.Wipe(target, otherSize, 512)
//	… write what the partitions hold …
//	err = moved.Write(target)
//
// It never looks inside a partition; that is package volume.
package partition

import (
	"errors"
	"fmt"
	"math"

	"github.com/google/uuid"
)

// Scheme names the kind of table.
type Scheme string

// GPT is the only scheme so far.
const GPT Scheme = "gpt"

var (
	// ErrNoTable says that the disk begins with no partition table.
	ErrNoTable = errors.New("the disk has no partition table")
	// ErrDamaged says that there is a table, but neither copy of it can be trusted.
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
	DiskID     uuid.UUID `json:"disk_id"`
	// FirstUsable and LastUsable bound what partitions may occupy, both inclusive.
	FirstUsable uint64 `json:"first_usable"`
	LastUsable  uint64 `json:"last_usable"`
	// Slots is how many entries the table has room for, usually 128.
	Slots int `json:"slots"`
	// BootCode is the first 440 bytes of sector 0, empty when they are all zero.
	BootCode   []byte      `json:"boot_code,omitempty"`
	Partitions []Partition `json:"partitions"`
	// Findings are faults that Read could work around, in words.
	Findings []string `json:"-"`
}

// Partition is one entry in use.
type Partition struct {
	Number     int       `json:"number"` // its slot, counted from 1
	Type       uuid.UUID `json:"type"`
	ID         uuid.UUID `json:"id"`
	First      uint64    `json:"first"` // first sector
	Last       uint64    `json:"last"`  // last sector, inclusive
	Attributes uint64    `json:"attributes,omitempty"`
	Name       string    `json:"name,omitempty"`
}

// EFISystem is the type of the partition that firmware loads from.
var EFISystem = uuid.MustParse("c12a7328-f81f-11d2-ba4b-00a0c93ec93b")

// Start is the partition's first byte on a disk of this table.
func (t *Table) Start(p Partition) int64 { return int64(p.First) * int64(t.SectorSize) }

// Size is the partition's length in bytes.
func (t *Table) Size(p Partition) int64 {
	return int64(p.Last-p.First+1) * int64(t.SectorSize)
}

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
// sector that partitions may begin at or do begin at; boot code can lie there.
// They are equal when there is no gap.
func (t *Table) GapStart() int64 {
	return (2 + int64(t.entrySectors())) * int64(t.SectorSize)
}

// GapEnd is the byte behind that gap.
func (t *Table) GapEnd() int64 {
	end := t.FirstUsable
	for i, p := range t.Partitions {
		if i == 0 || p.First < end {
			end = p.First
		}
	}
	return max(int64(end)*int64(t.SectorSize), t.GapStart())
}

// entrySectors is how many sectors the array of entries takes.
func (t *Table) entrySectors() uint64 {
	return (uint64(t.Slots)*entrySize + uint64(t.SectorSize) - 1) / uint64(t.SectorSize)
}

// Check refuses tables whose parts contradict each other; what passes can be
// computed with and written without overflow. Errors wrap ErrDamaged.
func (t *Table) Check() error {
	if t.Scheme != GPT || (t.SectorSize != 512 && t.SectorSize != 4096) || t.Slots < 1 || t.Slots > maxSlots {
		return fmt.Errorf("%w: scheme %q with sectors of %d bytes and %d slots", ErrDamaged, t.Scheme, t.SectorSize, t.Slots)
	}
	if t.Sectors > math.MaxInt64/uint64(t.SectorSize) || t.LastUsable >= t.Sectors || t.FirstUsable > t.LastUsable ||
		t.FirstUsable < 2+t.entrySectors() || len(t.BootCode) > bootCodeLen {
		return fmt.Errorf("%w: sectors %d to %d cannot be the usable ones of a disk of %d", ErrDamaged, t.FirstUsable, t.LastUsable, t.Sectors)
	}
	if len(t.Partitions) > t.Slots {
		return fmt.Errorf("%w: %d partitions in %d slots", ErrDamaged, len(t.Partitions), t.Slots)
	}
	for i, p := range t.Partitions {
		if p.Number < 1 || p.Number > t.Slots {
			return fmt.Errorf("%w: there is no slot %d for a partition", ErrDamaged, p.Number)
		}
		if p.First > p.Last || p.First < t.FirstUsable || p.Last > t.LastUsable {
			return fmt.Errorf("%w: partition %d (sectors %d to %d) lies outside the usable sectors %d to %d",
				ErrDamaged, p.Number, p.First, p.Last, t.FirstUsable, t.LastUsable)
		}
		for _, q := range t.Partitions[:i] {
			if p.Number == q.Number || p.First <= q.Last && q.First <= p.Last {
				return fmt.Errorf("%w: partitions %d and %d overlap", ErrDamaged, q.Number, p.Number)
			}
		}
	}
	return nil
}
