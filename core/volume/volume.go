// Package volume tells what a partition holds: which file system, its label and
// identity, whether it was left clean, and which bytes of it are in use.
//
//	v, err := volume.Open(io.NewSectionReader(disk, start, size), size)
//	for extent, err := range v.Used() {
//		… copy extent.Length bytes at extent.Start
//	}
//
// Used goes through the volume once, in order, and reads allocation maps as it
// goes; its memory does not grow with the volume. The package never writes and
// never follows a file or a folder: the allocation maps alone decide.
//
// A volume whose kind nobody here knows is in use as a whole.
package volume

import (
	"errors"
	"fmt"
	"io"
	"iter"
)

// Kind names a file system.
type Kind string

// The kinds that Open tells apart.
const (
	FAT12   Kind = "fat12"
	FAT16   Kind = "fat16"
	FAT32   Kind = "fat32"
	Ext     Kind = "ext4" // ext2 and ext3 are the same format with less in it
	Unknown Kind = "unknown"
)

// ErrDamaged says that a volume's own records contradict each other, so that
// nothing they say of used and unused blocks can be believed.
var ErrDamaged = errors.New("the file system is damaged")

// Extent is a run of bytes, relative to the start of the volume.
type Extent struct {
	Start, Length int64
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
	// Clean is false when the file system was not unmounted properly. What that
	// means for its allocation maps is told by MapsStale.
	Clean bool
	// MapsStale says that the allocation maps may be behind the truth (a journal
	// was not played back, or the file system itself noted errors), so that Used
	// may miss data.
	MapsStale bool

	used iter.Seq2[Extent, error]
}

// Used goes through the extents in use, ascending and apart from each other.
// It stops at the first error, which wraps ErrDamaged or is the reader's.
func (v *Volume) Used() iter.Seq2[Extent, error] { return v.used }

// prober recognises one kind: it returns nil, nil for what is not of its kind.
type prober func(r io.ReaderAt, size int64) (*Volume, error)

var probers = []prober{probeExt, probeFAT}

// Open looks at a volume of size bytes. Errors wrap ErrDamaged, when a file
// system was recognised and its main record makes no sense, or are r's.
func Open(r io.ReaderAt, size int64) (*Volume, error) {
	for _, probe := range probers {
		v, err := probe(r, size)
		if err != nil {
			return nil, err
		}
		if v != nil {
			v.used = joined(v.used)
			return v, nil
		}
	}
	return &Volume{Kind: Unknown, ClusterSize: 1, Size: size, Clean: true, used: whole(size)}, nil
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

func whole(size int64) iter.Seq2[Extent, error] {
	return func(yield func(Extent, error) bool) {
		if size > 0 {
			yield(Extent{0, size}, nil)
		}
	}
}

// joined merges extents that touch.
func joined(extents iter.Seq2[Extent, error]) iter.Seq2[Extent, error] {
	return func(yield func(Extent, error) bool) {
		var open Extent
		for e, err := range extents {
			switch {
			case err != nil:
				yield(Extent{}, err)
				return
			case e.Start == open.End():
				open.Length += e.Length
			default:
				if open.Length > 0 && !yield(open, nil) {
					return
				}
				open = e
			}
		}
		if open.Length > 0 {
			yield(open, nil)
		}
	}
}

// readAt reads n bytes at off; running into the end of the volume is damage.
func readAt(r io.ReaderAt, b []byte, off int64) error {
	n, err := r.ReadAt(b, off)
	if n == len(b) {
		return nil
	}
	if err == nil || errors.Is(err, io.EOF) {
		return fmt.Errorf("%w: it refers to byte %d, behind its end", ErrDamaged, off+int64(len(b)))
	}
	return err
}
