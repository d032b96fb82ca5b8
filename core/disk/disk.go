// Package disk opens block devices, and files that stand in for them.
//
//	d, err := disk.Open(path, disk.Options{Write: true})
//	d.Size(), d.SectorSize() // bytes
//
// A Disk refuses to write behind its end, and can make stretches zero or forget
// them without writing them, where the medium can do that. Large pieces in a Buffer go to
// and from the medium past the page cache.
package disk

import (
	"errors"
	"fmt"
	"io"
	"os"
	"sync/atomic"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Options of Open. The zero value reads.
type Options struct {
	Write bool
	// SectorSize of a file that stands in for a disk, 512 by default. A block
	// device knows its own.
	SectorSize int
}

// Disk is an open disk.
type Disk struct {
	*os.File
	direct     *os.File // the same, past the page cache; nil where that is not possible
	size       int64
	sectorSize int
	device     bool
	written    atomic.Int64
}

// writeBehind is after how many bytes written through the cache the system is asked to begin bringing
// them onto the medium, so that Sync at the end does not wait for all of them.
const writeBehind = 64 << 20

// Open opens a disk. A block device that is in use, by a mount for example, is
// not opened for writing.
func Open(path string, o Options) (*Disk, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, fmt.Errorf("open the disk: %w", err)
	}
	d := &Disk{sectorSize: o.SectorSize, device: info.Mode()&os.ModeDevice != 0}
	flags := os.O_RDONLY
	if o.Write {
		flags = os.O_RDWR
		if d.device {
			flags |= unix.O_EXCL
		}
	}
	if d.File, err = os.OpenFile(path, flags, 0); err != nil {
		if errors.Is(err, unix.EBUSY) {
			return nil, fmt.Errorf("open the disk: %w: it is in use; unmount what is on it", err)
		}
		return nil, fmt.Errorf("open the disk: %w", err)
	}
	if d.size, err = d.Seek(0, io.SeekEnd); err != nil {
		return nil, errors.Join(fmt.Errorf("measure the disk: %w", err), d.Close())
	}
	if d.device {
		if d.sectorSize, err = unix.IoctlGetInt(int(d.Fd()), unix.BLKSSZGET); err != nil {
			return nil, errors.Join(fmt.Errorf("ask the disk for its sector size: %w", err), d.Close())
		}
	}
	if d.sectorSize == 0 {
		d.sectorSize = 512
	}
	d.direct = openDirect(path, o.Write)
	return d, nil
}

// Size is the disk's length in bytes.
func (d *Disk) Size() int64 { return d.size }

// SectorSize is the length of a logical sector in bytes.
func (d *Disk) SectorSize() int { return d.sectorSize }

// Sync writes everything to the medium and drops it from memory, so that what
// is read afterwards comes from there.
func (d *Disk) Sync() error {
	if err := d.File.Sync(); err != nil {
		return err
	}
	return unix.Fadvise(int(d.Fd()), 0, 0, unix.FADV_DONTNEED)
}

// WriteAt refuses to write behind the end: a file would grow where a disk cannot.
func (d *Disk) WriteAt(b []byte, off int64) (int, error) {
	if err := d.within(off, int64(len(b))); err != nil {
		return 0, err
	}
	return d.put(b, off)
}

func (d *Disk) within(off, n int64) error {
	if off < 0 || n < 0 || off > d.size-n {
		return fmt.Errorf("write %d bytes at byte %d of a disk of %d", n, off, d.size)
	}
	return nil
}

// Zero makes n bytes from off read as zeros. Where the medium can, nothing is
// written for that.
func (d *Disk) Zero(off, n int64) error {
	if err := d.within(off, n); err != nil {
		return err
	}
	var err error
	if d.device {
		err = d.rangeIoctl(unix.BLKZEROOUT, off, n)
	} else {
		err = unix.Fallocate(int(d.Fd()), unix.FALLOC_FL_PUNCH_HOLE|unix.FALLOC_FL_KEEP_SIZE, off, n)
	}
	if err == nil {
		return nil
	}
	zero := make([]byte, min(n, 1<<20))
	for n > 0 {
		part := zero[:min(n, int64(len(zero)))]
		if _, err := d.File.WriteAt(part, off); err != nil {
			return err
		}
		off, n = off+int64(len(part)), n-int64(len(part))
	}
	return nil
}

// Trim tells the medium that nobody needs n bytes from off any more. What they
// read as afterwards is not known. Errors wrap errors.ErrUnsupported where the
// medium does not know the command.
func (d *Disk) Trim(off, n int64) error {
	if err := d.within(off, n); err != nil {
		return err
	}
	var err error
	if d.device {
		err = d.rangeIoctl(unix.BLKDISCARD, off, n)
	} else {
		err = unix.Fallocate(int(d.Fd()), unix.FALLOC_FL_PUNCH_HOLE|unix.FALLOC_FL_KEEP_SIZE, off, n)
	}
	if errors.Is(err, unix.EOPNOTSUPP) || errors.Is(err, unix.ENOTTY) {
		return fmt.Errorf("trim: %w", errors.ErrUnsupported)
	}
	return err
}

// rangeIoctl calls one of the block layer's commands that take a start and a length.
func (d *Disk) rangeIoctl(command uint, off, n int64) error {
	stretch := [2]uint64{uint64(off), uint64(n)}
	_, _, errno := unix.Syscall(unix.SYS_IOCTL, d.Fd(), uintptr(command), uintptr(unsafe.Pointer(&stretch)))
	if errno != 0 {
		return errno
	}
	return nil
}
