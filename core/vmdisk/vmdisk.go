// Package vmdisk reads the disk files of virtual machines, in which golden disks
// are often prepared: qcow2, VHD, VHDX, VMDK and VDI, and raw files. It only reads.
//
//	d, err := vmdisk.Open(file, size, parents) // tells the formats apart by what they begin with
//	table, err := partition.Read(d, d.Size(), d.SectorSize())
//
// Files that refer to others (backing files, differencing disks, parts) are read with
// them, as far as parents opens those. Files that were not closed are refused: what they
// hold is not all in them. So are archives, compressed files and images of optical discs,
// each by its name.
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
	VMDK  Format = "vmdk"
	VDI   Format = "vdi"
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

// Parents opens a file that another one refers to by name, and tells its size. A disk
// file may come from anywhere: which names are followed is for the caller to decide.
// Nil follows none.
type Parents func(name string) (f io.ReaderAt, size int64, err error)

func (p Parents) open(name string) (io.ReaderAt, int64, error) {
	if p == nil {
		return nil, 0, fmt.Errorf("%w: part of its content is in another file, %q", ErrUnsupported, name)
	}
	return p(name)
}

// generations is how long a chain of files may be.
const generations = 32

// Open finds out the format of a file of size bytes. A file of no other format
// that is not a container of something else either is raw. Errors wrap ErrDamaged or ErrUnsupported, or
// are the file's.
func Open(f io.ReaderAt, size int64, parents Parents) (Disk, error) {
	return open(f, size, parents, generations)
}

func open(f io.ReaderAt, size int64, parents Parents, left int) (Disk, error) {
	if left == 0 {
		return nil, fmt.Errorf("%w: each of more than %d files refers to the next", ErrUnsupported, generations)
	}
	for _, open := range []func() (Disk, error){
		func() (Disk, error) { return openQCOW2(f, size, parents, left) },
		func() (Disk, error) { return openVHDX(f, size, parents, left) },
		func() (Disk, error) { return openVMDK(f, size, parents) },
		func() (Disk, error) { return openVDI(f, size) },
		func() (Disk, error) { return openVHD(f, size) },
	} {
		if d, err := open(); d != nil || err != nil {
			return d, err
		}
	}
	if err := contained(f, size); err != nil {
		return nil, err
	}
	return openRaw(f, size), nil
}

func openRaw(f io.ReaderAt, size int64) Disk { return &raw{io.NewSectionReader(f, 0, size)} }

// readParent fills b from the parent of a disk; behind its end there are zeros.
func readParent(parent Disk, b []byte, off int64) error {
	if parent == nil || off >= parent.Size() {
		clear(b)
		return nil
	}
	n := min(int64(len(b)), parent.Size()-off)
	clear(b[n:])
	got, err := parent.ReadAt(b[:n], off)
	if int64(got) == n {
		return nil
	}
	return err
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
