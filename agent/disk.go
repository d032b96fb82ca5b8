package agent

import (
	"errors"
	"fmt"
	"io"
	"os"

	"golang.org/x/sys/unix"
)

// FileDisk is a block device, or a file that stands in for one.
type FileDisk struct {
	*os.File
	size       int64
	sectorSize int
}

// OpenFileDisk opens a disk by its path.
func OpenFileDisk(path string, sectorSize int) (*FileDisk, error) {
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return nil, fmt.Errorf("open the disk: %w", err)
	}
	size, err := f.Seek(0, io.SeekEnd)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("measure the disk: %w", err), f.Close())
	}
	return &FileDisk{f, size, sectorSize}, nil
}

// Size is the disk's length in bytes.
func (d *FileDisk) Size() int64 { return d.size }

// SectorSize is the length of a logical sector in bytes.
func (d *FileDisk) SectorSize() int { return d.sectorSize }

// Sync writes everything to the medium and drops it from memory, so that what
// is read afterwards comes from there.
func (d *FileDisk) Sync() error {
	if err := d.File.Sync(); err != nil {
		return err
	}
	return unix.Fadvise(int(d.Fd()), 0, 0, unix.FADV_DONTNEED)
}

// WriteAt refuses to write behind the end: a file would grow where a disk cannot.
func (d *FileDisk) WriteAt(b []byte, off int64) (int, error) {
	if off < 0 || off+int64(len(b)) > d.size {
		return 0, fmt.Errorf("write %d bytes at byte %d of a disk of %d", len(b), off, d.size)
	}
	return d.File.WriteAt(b, off)
}
