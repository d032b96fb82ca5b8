package restore

import (
	"fmt"
	"io"
)

// section is a partition of a disk as a disk of its own.
type section struct {
	Target
	start, size int64
}

// zeroingSection is a section of a disk that makes bytes zero without writing them all.
type zeroingSection struct {
	section
	zeroer Zeroer
}

// Section is size bytes from start of a disk, as a Target of its own; nothing beyond is
// written or read.
func Section(disk Target, start, size int64) Target {
	s := section{disk, start, size}
	if z, can := disk.(Zeroer); can {
		return zeroingSection{s, z}
	}
	return s
}

func (s section) within(off, n int64) error {
	if off < 0 || n > s.size || off > s.size-n {
		return fmt.Errorf("%d bytes at byte %d are beyond a partition of %d", n, off, s.size)
	}
	return nil
}

func (s section) ReadAt(b []byte, off int64) (int, error) {
	return io.NewSectionReader(s.Target, s.start, s.size).ReadAt(b, off)
}

func (s section) WriteAt(b []byte, off int64) (int, error) {
	if err := s.within(off, int64(len(b))); err != nil {
		return 0, err
	}
	return s.Target.WriteAt(b, s.start+off)
}

func (s zeroingSection) Zero(off, n int64) error {
	if err := s.within(off, n); err != nil {
		return err
	}
	return s.zeroer.Zero(s.start+off, n)
}
