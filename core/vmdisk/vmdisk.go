// Package vmdisk reads the disk files of virtual machines, in which golden disks
// are often prepared: qcow2, VHD and VHDX, and raw files. It only reads.
//
//	d, err := vmdisk.Open(file, size) // tells the formats apart by what they begin with
//	table, err := partition.Read(d, d.Size(), d.SectorSize())
//
// Files that refer to another one (backing files, differencing disks) and files
// that were not closed are refused: what they hold is not all in them.
package vmdisk

import (
	"errors"
	"fmt"
	"io"
)

// Format names a file format.
type Format string

// The formats.
const (
	Raw   Format = "raw"
	QCOW2 Format = "qcow2"
	VHD   Format = "vhd"
	VHDX  Format = "vhdx"
)

var (
	// ErrDamaged says that a file's own records contradict each other.
	ErrDamaged = errors.New("the disk file is damaged")
	// ErrUnsupported says that a sound file is of a kind that is not read here.
	ErrUnsupported = errors.New("the disk file cannot be read here")
)

// Disk is the disk inside a file.
type Disk interface {
	io.ReaderAt
	Size() int64 // bytes
	SectorSize() int
	Format() Format
}

// Open finds out the format of a file of size bytes. What is none of the others
// is raw. Errors wrap ErrDamaged or ErrUnsupported, or are the file's.
func Open(f io.ReaderAt, size int64) (Disk, error) {
	for _, open := range []func(io.ReaderAt, int64) (Disk, error){openQCOW2, openVHDX, openVHD} {
		if d, err := open(f, size); d != nil || err != nil {
			return d, err
		}
	}
	return &raw{io.NewSectionReader(f, 0, size)}, nil
}

type raw struct{ *io.SectionReader }

func (r *raw) SectorSize() int { return 512 }
func (r *raw) Format() Format  { return Raw }

// readBlocks fills b from byte off of a disk of size bytes that consists of
// blocks: read gets a part of one block.
func readBlocks(b []byte, off, size, block int64, read func(b []byte, number, in int64) error) (n int, err error) {
	if off < 0 {
		return 0, fmt.Errorf("read at byte %d", off)
	}
	short := off+int64(len(b)) > size
	if short {
		b = b[:max(size-off, 0)]
	}
	for len(b) > 0 {
		in := off % block
		part := b[:min(int64(len(b)), block-in)]
		if err := read(part, off/block, in); err != nil {
			return n, err
		}
		n += len(part)
		b, off = b[len(part):], off+int64(len(part))
	}
	if short {
		return n, io.EOF
	}
	return n, nil
}

// readFull fills b; an early end is damage.
func readFull(f io.ReaderAt, b []byte, off int64) error {
	if off < 0 {
		return fmt.Errorf("%w: it refers to byte %d", ErrDamaged, off)
	}
	n, err := f.ReadAt(b, off)
	if n == len(b) {
		return nil
	}
	if err == nil || errors.Is(err, io.EOF) {
		return fmt.Errorf("%w: it ends before byte %d", ErrDamaged, off+int64(len(b)))
	}
	return err
}
