package agent

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"unsafe"

	"golang.org/x/sys/unix"

	"jugate/core/restore"
	"jugate/core/volume"
)

// grower is a disk whose file systems can be made to fill their partitions.
type grower interface {
	// Grow makes the volume that begins at start as long as its partition, size
	// bytes, and returns what it was before. A kind that cannot be grown is left as
	// it is, and so is one that fills its partition.
	Grow(start, size int64) (before int64, err error)
}

// ioctl requests of the kernel's file systems, from linux/ext4.h, linux/btrfs.h and
// xfs/xfs_fs.h.
const (
	ext4ResizeFS    = 0x40086610 // takes the number of blocks
	btrfsResize     = 0x50009403 // takes a struct btrfs_ioctl_vol_args
	xfsGeometry     = 0x8070587c // fills a struct xfs_fsop_geom_v4
	xfsGrowData     = 0x4010586e // takes a struct xfs_growfs_data
	btrfsArgsSize   = 4096
	btrfsArgsName   = 8
	xfsGeometrySize = 112
)

// slack is what a volume may be shorter than its partition without counting as too
// short: file systems have units of their own.
const slack = 8 << 20

// Grow has the kernel grow a mounted file system.
func (d hardwareDisk) Grow(start, size int64) (before int64, err error) {
	v, err := volume.Open(io.NewSectionReader(d, start, size), size)
	if err != nil {
		return 0, err
	}
	grow := map[volume.Kind]func(dir *os.File, size int64) error{volume.Ext: growExt, volume.XFS: growXFS, volume.Btrfs: growBtrfs}[v.Kind]
	if grow == nil || v.Needs+slack > size || !v.Clean {
		return 0, nil
	}
	kind := kernelNames[v.Kind].name
	if !kernelKnows(kind) {
		return 0, nil
	}
	m, err := mountAs(d.File, start, size, kind, "", true)
	if err != nil {
		return 0, err
	}
	dir, err := os.Open(m.dir)
	if err == nil {
		err = errors.Join(grow(dir, size), dir.Close())
	}
	if err = errors.Join(err, m.Close(), d.Sync()); err != nil {
		return 0, fmt.Errorf("make the file system fill its partition: %w", err)
	}
	return v.Needs, nil
}

func growExt(dir *os.File, size int64) error {
	var st unix.Statfs_t
	if err := unix.Fstatfs(int(dir.Fd()), &st); err != nil {
		return err
	}
	blocks := uint64(size / st.Bsize)
	return ioctl(dir, ext4ResizeFS, unsafe.Pointer(&blocks))
}

func growBtrfs(dir *os.File, _ int64) error {
	var args [btrfsArgsSize]byte
	copy(args[btrfsArgsName:], "max")
	return ioctl(dir, btrfsResize, unsafe.Pointer(&args))
}

func growXFS(dir *os.File, size int64) error {
	var geometry [xfsGeometrySize]byte
	if err := ioctl(dir, xfsGeometry, unsafe.Pointer(&geometry)); err != nil {
		return err
	}
	block := binary.NativeEndian.Uint32(geometry[0:])
	imaxpct := binary.NativeEndian.Uint32(geometry[28:]) // stays as it was
	var args [16]byte
	binary.NativeEndian.PutUint64(args[0:], uint64(size)/uint64(block))
	binary.NativeEndian.PutUint32(args[8:], imaxpct)
	return ioctl(dir, xfsGrowData, unsafe.Pointer(&args))
}

func ioctl(f *os.File, request uintptr, arg unsafe.Pointer) error {
	if _, _, errno := unix.Syscall(unix.SYS_IOCTL, f.Fd(), request, uintptr(arg)); errno != 0 {
		return errno
	}
	return nil
}

// growVolumes makes file systems fill partitions that became longer. It returns in words
// what it did, by partition of the image; the copy itself is right already.
func growVolumes(d Disk, longer []restore.Longer) (did map[int]string, err error) {
	g, can := d.(grower)
	if !can {
		return nil, nil
	}
	did = map[int]string{}
	var errs []error
	for _, l := range longer {
		before, err := g.Grow(l.Start, l.Size)
		switch {
		case err != nil:
			errs = append(errs, fmt.Errorf("partition %d: %w", l.Partition, err))
		case before > 0:
			did[l.Partition] = fmt.Sprintf("the file system of partition %d has grown from %d to %d bytes", l.Partition, before, l.Size)
		}
	}
	return did, errors.Join(errs...)
}
