package volume

import (
	"encoding/binary"
	"fmt"
	"io"
	"iter"

	"github.com/google/uuid"
)

// The XFS file system, versions 4 and 5, after the kernel's "XFS Algorithms &
// Data Structures". Numbers are big-endian. The volume is cut into allocation
// groups of equal length; each has a header, the AGF, that names the root of a
// B+tree of its free extents by block number. What no tree calls free is in use.
type xfs struct {
	r          io.ReaderAt
	block      int64 // bytes
	blocks     int64
	sector     int64 // bytes
	groups     int64
	perGroup   int64 // blocks; the last group can be shorter
	groupBits  uint  // a block number is the group shifted by these, and the block in it
	log        int64 // block number of the log
	logBlocks  int64
	checksums  bool // version 5
	freeHeader int64
}

const (
	xfsMagic      = "XFSB"
	xfsGroupMagic = "XAGF"
	xfsFreeV4     = "ABTB"
	xfsFreeV5     = "AB3B"

	xfsNeedsRepair = 0x10 // an incompatible feature of version 5
	xfsMaxDepth    = 9
)

func probeXFS(r io.ReaderAt, size int64) (*Volume, error) {
	b, err := head(r, size, 0, 512)
	if b == nil || err != nil || string(b[:4]) != xfsMagic {
		return nil, err
	}
	be := binary.BigEndian
	f := &xfs{
		r:         r,
		block:     int64(be.Uint32(b[4:])),
		blocks:    int64(be.Uint64(b[8:])),
		sector:    int64(be.Uint16(b[102:])),
		groups:    int64(be.Uint32(b[88:])),
		perGroup:  int64(be.Uint32(b[84:])),
		groupBits: uint(b[124]),
		log:       int64(be.Uint64(b[48:])),
		logBlocks: int64(be.Uint32(b[96:])),
		checksums: be.Uint16(b[100:])&0xF == 5,
	}
	if f.freeHeader = 16; f.checksums {
		f.freeHeader = 56
	}
	if !powerOfTwo(f.block) || f.block < 512 || f.block > 64<<10 || !powerOfTwo(f.sector) || f.sector < 512 || f.sector > 32<<10 || f.sector > f.block ||
		f.blocks <= 0 || f.blocks > size/f.block || f.perGroup <= 0 || f.groups <= 0 || f.perGroup > 1<<31 ||
		(f.groups-1)*f.perGroup >= f.blocks || f.groups*f.perGroup < f.blocks || f.groupBits > 32 {
		return nil, fmt.Errorf("XFS: %w: %d blocks of %d bytes in %d groups of %d, in a partition of %d bytes",
			ErrDamaged, f.blocks, f.block, f.groups, f.perGroup, size)
	}
	id, _ := uuid.FromBytes(b[32:48])
	v := &Volume{
		Kind: XFS, Label: untilZero(b[108:120]), UUID: id.String(), ClusterSize: f.block,
		Needs: f.blocks * f.block, Clean: true, used: f.used(),
	}
	if realtime := be.Uint64(b[16:]); realtime > 0 {
		v.Notes = append(v.Notes, "it has a realtime device, which is not part of this partition")
	}
	switch {
	case f.checksums && be.Uint32(b[216:])&xfsNeedsRepair != 0, b[126] != 0: // or a mkfs that was cut off
		v.Clean, v.MapsStale = false, true
	case f.log == 0:
		v.Clean, v.LogElsewhere, v.MapsStale = false, true, true // nobody can tell here whether it was unmounted
	default:
		clean, err := f.logIsClean()
		if err != nil {
			return nil, fmt.Errorf("XFS: the log: %w", err)
		}
		v.Clean, v.MapsStale = clean, !clean
	}
	return v, nil
}

// used yields what lies between free extents, group by group.
func (f *xfs) used() iter.Seq2[Extent, error] {
	return func(yield func(Extent, error) bool) {
		for g := range f.groups {
			start, length := g*f.perGroup, min(f.perGroup, f.blocks-g*f.perGroup)
			at := int64(0) // the first block that is not accounted for
			err := f.free(g, length, func(first, count int64) bool {
				ok := first == at || yield(Extent{(start + at) * f.block, (first - at) * f.block}, nil)
				at = first + count
				return ok
			})
			if err == errUnwanted {
				return
			}
			if err != nil {
				yield(Extent{}, fmt.Errorf("XFS: group %d: %w", g, err))
				return
			}
			if at < length && !yield(Extent{(start + at) * f.block, (length - at) * f.block}, nil) {
				return
			}
		}
	}
}

// free yields the free extents of a group in ascending order, and checks their
// sum against the group's header.
func (f *xfs) free(g, length int64, yield func(first, count int64) bool) error {
	be := binary.BigEndian
	h := make([]byte, f.sector)
	if err := readAt(f.r, h, g*f.perGroup*f.block+f.sector); err != nil {
		return err
	}
	if string(h[:4]) != xfsGroupMagic || int64(be.Uint32(h[8:])) != g || int64(be.Uint32(h[12:])) != length {
		return fmt.Errorf("%w: its header is not its own", ErrDamaged)
	}
	if f.checksums && !xfsChecksumHolds(h, 216) {
		return fmt.Errorf("%w: the checksum of its header is wrong", ErrDamaged)
	}
	at, levels, told := int64(be.Uint32(h[16:])), int64(be.Uint32(h[28:])), int64(be.Uint32(h[52:]))
	if levels < 1 || levels > xfsMaxDepth {
		return fmt.Errorf("%w: a tree of %d levels", ErrDamaged, levels)
	}
	// Down the left edge to the first leaf, then from leaf to leaf.
	b := make([]byte, f.block)
	for level := levels - 1; level > 0; level-- {
		if _, err := f.node(b, g, at, level, length); err != nil {
			return err
		}
		pointers := f.freeHeader + (f.block-f.freeHeader)/12*8
		at = int64(be.Uint32(b[pointers:]))
	}
	end, sum := int64(0), int64(0)
	for leaves := int64(0); ; leaves++ {
		if leaves > length {
			return fmt.Errorf("%w: its leaves go round in a circle", ErrDamaged)
		}
		records, err := f.node(b, g, at, 0, length)
		if err != nil {
			return err
		}
		for i := range records {
			r := b[f.freeHeader+i*8:]
			first, count := int64(be.Uint32(r)), int64(be.Uint32(r[4:]))
			if first < end || count == 0 || first+count > length {
				return fmt.Errorf("%w: blocks %d to %d of %d are said to be free", ErrDamaged, first, first+count, length)
			}
			end, sum = first+count, sum+count
			if !yield(first, count) {
				return errUnwanted
			}
		}
		next := be.Uint32(b[12:])
		if next == 0xFFFFFFFF {
			break
		}
		at = int64(next)
	}
	if sum != told {
		return fmt.Errorf("%w: its tree has %d free blocks, its header says %d", ErrDamaged, sum, told)
	}
	return nil
}

// node reads a block of the tree and tells how many records it has.
func (f *xfs) node(b []byte, g, at, level, length int64) (int64, error) {
	if at <= 0 || at >= length {
		return 0, fmt.Errorf("%w: the tree leads to block %d of %d", ErrDamaged, at, length)
	}
	if err := readAt(f.r, b, (g*f.perGroup+at)*f.block); err != nil {
		return 0, err
	}
	be := binary.BigEndian
	magic, size := xfsFreeV4, int64(8)
	if f.checksums {
		magic = xfsFreeV5
	}
	if level > 0 {
		size = 12
	}
	records := int64(be.Uint16(b[6:]))
	if string(b[:4]) != magic || int64(be.Uint16(b[4:])) != level || records > (f.block-f.freeHeader)/size || level > 0 && records == 0 {
		return 0, fmt.Errorf("%w: block %d is not of its tree", ErrDamaged, at)
	}
	if f.checksums && !xfsChecksumHolds(b, 52) {
		return 0, fmt.Errorf("%w: the checksum of block %d is wrong", ErrDamaged, at)
	}
	return records, nil
}

// xfsChecksumHolds compares the checksum at byte at, the one little-endian
// number, with that of the block without it.
func xfsChecksumHolds(b []byte, at int) bool {
	sum := crc32c(^uint32(0), b[:at])
	sum = crc32c(sum, []byte{0, 0, 0, 0})
	return ^crc32c(sum, b[at+4:]) == binary.LittleEndian.Uint32(b[at:]) || !checksumsMatter
}
