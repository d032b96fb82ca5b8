// Package image describes a version of an image: the manifest (Manifest: the partition
// table, what each partition holds, totals) and the slab map (Map: which bytes of which
// area each slab carries). Neither names a device or a machine it must go back to. The
// bytes themselves are slabs, kept by package slabstore.
//
// It makes no version and writes none to a disk: packages capture and restore do, and
// package bundle puts one into a single file. docs/image-format.md has the formats byte
// by byte.
//
//	manifest, err := image.ParseManifest(text)
//	slabs, err := image.ParseMap(raw, manifest)
//	view, err := image.NewView(manifest, slabs, 2, store) // partition 2, as an io.ReaderAt
//
// In manifest.go and slabmap.go are the two formats; diff.go compares two versions,
// grow.go says which partition may grow, view.go reads one out of a store, and files.go
// keeps them in a folder.
package image

import (
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"jugate/core/fault"
	"jugate/core/hwaddr"
	"jugate/core/partition"
	"jugate/core/readiness"
	"jugate/core/slabstore"
	"jugate/core/volume"
)

// Format is the value of Manifest.Format that this package writes and reads.
const Format = "jugate-manifest-1"

// SlabSize is the length in bytes of the aligned stretches that Capture cuts.
const SlabSize = 1 << 20

// Limits on what a manifest may claim, checked before anything is allocated.
const (
	MaxManifest = 4 << 20   // bytes of JSON
	MaxMap      = 256 << 20 // bytes of slab map, enough for 5 million slabs
)

// ErrManifest says that a manifest or slab map makes no sense.
var ErrManifest = fault.Invalid.Errorf("the manifest is damaged")

// Manifest describes one version of an image.
type Manifest struct {
	Format   string           `json:"format"`
	Captured time.Time        `json:"captured"`
	Source   Source           `json:"source"`
	Table    *partition.Table `json:"table"`
	Areas    []Area           `json:"areas"`
	SlabSize int64            `json:"slab_size"` // bytes
	// Slabs is how many records the map has; ZeroSlabs of them are all zero and
	// are stored nowhere.
	Slabs     int `json:"slabs"`
	ZeroSlabs int `json:"zero_slabs"`
	// UsedBytes is what all slabs hold together.
	UsedBytes int64            `json:"used_bytes"`
	MapSize   int64            `json:"map_size"` // bytes
	MapDigest slabstore.Digest `json:"map_digest"`
	// Findings are what the survey reported, and Despite the reason to capture all
	// the same if one of them was blocking.
	Findings []readiness.Finding `json:"findings,omitempty"`
	Despite  *Override           `json:"despite,omitempty"`
	// Unreadable are the stretches that the golden disk could not read; copies
	// have zeros there.
	Unreadable []Unreadable `json:"unreadable,omitempty"`
}

// Override is why an image was captured although something spoke against it.
type Override struct {
	Reason string `json:"reason"`
	By     string `json:"by,omitempty"`
}

// Unreadable is a stretch of the golden disk that could not be read.
type Unreadable struct {
	Partition int   `json:"partition"` // slot in the table; 0 is the gap
	Start     int64 `json:"start"`     // bytes from the start of the area
	Length    int64 `json:"length"`    // bytes
}

// Source is the workstation that a version was captured from.
type Source struct {
	Workstation string         `json:"workstation"`
	Address     hwaddr.Address `json:"hardware_address"`
	Model       string         `json:"model,omitempty"`
}

// UnreadableBytes is how much of the golden disk could not be read.
func (m *Manifest) UnreadableBytes() int64 {
	var n int64
	for _, u := range m.Unreadable {
		n += u.Length
	}
	return n
}

// Area is a stretch of the disk that the image keeps: a partition, or the gap
// between the table and the first partition; on a disk without a table all of it.
type Area struct {
	Partition   int         `json:"partition"` // slot in the table; 0 is the gap
	Size        int64       `json:"size"`      // bytes
	Kind        volume.Kind `json:"kind"`
	Label       string      `json:"label,omitempty"`
	UUID        string      `json:"uuid,omitempty"`
	ClusterSize int64       `json:"cluster_size"` // bytes
	UsedBytes   int64       `json:"used_bytes"`
	// LeftOut is how much of that are page and hibernation files, which copies get
	// as zeros.
	LeftOut int64 `json:"left_out,omitempty"`
	// Needs is how many bytes from its start the partition must keep on another disk.
	Needs int64 `json:"needs"`
	// Dirty says that the file system was not shut down cleanly.
	Dirty bool `json:"dirty,omitempty"`
	// System says that files of an operating system were seen in it.
	System bool `json:"system,omitempty"`
	// Whole says that every byte was taken, as nobody could tell what is in use.
	Whole bool `json:"whole,omitempty"`
}

// Encode gives the bytes that are stored and whose digest names the version.
func (m *Manifest) Encode() ([]byte, error) { return json.MarshalIndent(m, "", "  ") }

// ParseManifest reads a manifest and checks that its parts agree. Errors wrap
// ErrManifest.
func ParseManifest(b []byte) (*Manifest, error) {
	if len(b) > MaxManifest {
		return nil, fmt.Errorf("%w: %d bytes are more than %d", ErrManifest, len(b), MaxManifest)
	}
	var m Manifest
	if err := json.Unmarshal(b, &m); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrManifest, err)
	}
	if err := m.check(); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrManifest, err)
	}
	return &m, nil
}

func (m *Manifest) check() error {
	if m.Format != Format {
		return fmt.Errorf("format %q is not %q", m.Format, Format)
	}
	if m.Table == nil {
		return errors.New("it has no partition table")
	}
	if err := m.Table.Check(); err != nil {
		return err
	}
	if m.SlabSize < 4096 || m.SlabSize > slabstore.MaxSlab {
		return fmt.Errorf("slabs of %d bytes", m.SlabSize)
	}
	if m.Slabs < 0 || m.MapSize < 0 || m.MapSize > MaxMap || m.ZeroSlabs < 0 || m.ZeroSlabs > m.Slabs {
		return fmt.Errorf("%d slabs, %d of them zero, in a map of %d bytes", m.Slabs, m.ZeroSlabs, m.MapSize)
	}
	seen := map[int]bool{}
	for _, a := range m.Areas {
		start, size, ok := Placed(m.Table, a.Partition)
		if !ok || seen[a.Partition] || a.Size != size || start < 0 || a.Needs < 0 || a.Needs > size {
			return fmt.Errorf("an area of %d bytes for partition %d, which the table does not have so", a.Size, a.Partition)
		}
		seen[a.Partition] = true
	}
	for _, u := range m.Unreadable {
		if !seen[u.Partition] || u.Start < 0 || u.Length <= 0 {
			return fmt.Errorf("an unreadable stretch of %d bytes in partition %d", u.Length, u.Partition)
		}
	}
	if m.Despite != nil && m.Despite.Reason == "" {
		return errors.New("it was captured despite findings, and gives no reason")
	}
	return nil
}

// LeastDisk is the size of the smallest disk, in bytes, that the image fits onto.
func (m *Manifest) LeastDisk() int64 {
	return m.Table.Least(partition.Fit{Needs: m.Needs})
}

// Needs is partition.Fit.Needs for this image.
func (m *Manifest) Needs(number int) int64 {
	for _, a := range m.Areas {
		if a.Partition == number {
			return a.Needs
		}
	}
	return 0
}

// Placed tells where the area of a partition (0: the gap) lies on a disk with
// this table, in bytes; nowhere if the disk keeps its own instead.
func Placed(t *partition.Table, number int) (start, size int64, ok bool) {
	if number == 0 {
		return t.GapStart(), t.GapEnd() - t.GapStart(), true
	}
	p, ok := t.Partition(number)
	return t.Start(p), t.Size(p), ok && !p.Kept
}
