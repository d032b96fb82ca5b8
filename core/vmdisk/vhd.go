package vmdisk

import (
	"encoding/binary"
	"fmt"
	"io"
	"sync"
)

// VHD, after the public "Virtual Hard Disk Image Format Specification". Numbers
// are big-endian. The last sector of the file is a footer. A fixed disk is all
// that lies before it; a dynamic one has blocks, each behind a bitmap of the
// sectors that were written.
type vhd struct {
	f      io.ReaderAt
	size   int64
	block  int64 // bytes; 0 for a fixed disk
	bitmap int64 // bytes in front of each block
	table  []uint32

	mu   sync.Mutex
	bits []byte // the bitmap of block of
	of   int64
}

const (
	vhdFooter  = 512
	vhdFixed   = 2
	vhdDynamic = 3
	vhdNoBlock = 0xFFFFFFFF

	vhdMaxTable = 64 << 20 // entries; 128 TiB in blocks of 2 MiB
)

func openVHD(f io.ReaderAt, size int64) (Disk, error) {
	if size < vhdFooter {
		return nil, nil
	}
	h := make([]byte, vhdFooter)
	if err := readFull(f, h, size-vhdFooter); err != nil {
		return nil, err
	}
	be := binary.BigEndian
	if string(h[:8]) != "conectix" {
		return nil, nil
	}
	if vhdChecksum(h, 64) != be.Uint32(h[64:]) {
		return nil, fmt.Errorf("VHD: %w: the checksum of its footer is wrong", ErrDamaged)
	}
	d := &vhd{f: f, size: int64(be.Uint64(h[48:])), of: -1}
	switch kind := be.Uint32(h[60:]); {
	case d.size < 0 || d.size > 1<<56:
		return nil, fmt.Errorf("VHD: %w: a disk of %d bytes", ErrDamaged, d.size)
	case kind == vhdFixed && d.size <= size-vhdFooter:
		return d, nil
	case kind == vhdDynamic:
		if err := d.openTable(int64(be.Uint64(h[16:])), size); err != nil {
			return nil, fmt.Errorf("VHD: %w", err)
		}
		return d, nil
	case kind == vhdFixed:
		return nil, fmt.Errorf("VHD: %w: a file of %d bytes for a fixed disk of %d", ErrDamaged, size, d.size)
	default:
		return nil, fmt.Errorf("VHD: %w: it is a differencing disk; merge it with its parent first", ErrUnsupported)
	}
}

// vhdChecksum is the complement of the sum of all bytes but the checksum's own.
func vhdChecksum(b []byte, at int) uint32 {
	var sum uint32
	for i, c := range b {
		if i < at || i >= at+4 {
			sum += uint32(c)
		}
	}
	return ^sum
}

func (d *vhd) openTable(at, size int64) error {
	h := make([]byte, 1024)
	if err := readFull(d.f, h, at); err != nil {
		return err
	}
	be := binary.BigEndian
	if string(h[:8]) != "cxsparse" || vhdChecksum(h, 36) != be.Uint32(h[36:]) {
		return fmt.Errorf("%w: the header of its table is not sound", ErrDamaged)
	}
	entries := int64(be.Uint32(h[28:]))
	d.block = int64(be.Uint32(h[32:]))
	if d.block < 512 || d.block&(d.block-1) != 0 || d.block > 256<<20 || entries > vhdMaxTable || entries*4 > size || (d.size+d.block-1)/d.block > entries {
		return fmt.Errorf("%w: %d blocks of %d bytes for a disk of %d", ErrDamaged, entries, d.block, d.size)
	}
	d.bitmap = (d.block/512/8 + 511) / 512 * 512
	table := make([]byte, entries*4)
	if err := readFull(d.f, table, int64(be.Uint64(h[16:]))); err != nil {
		return err
	}
	d.table = make([]uint32, entries)
	for i := range d.table {
		d.table[i] = be.Uint32(table[4*i:])
	}
	return nil
}

func (d *vhd) Size() int64     { return d.size }
func (d *vhd) SectorSize() int { return 512 }
func (d *vhd) Format() Format  { return VHD }

func (d *vhd) ReadAt(b []byte, off int64) (int, error) {
	if d.block == 0 {
		return io.NewSectionReader(d.f, 0, d.size).ReadAt(b, off)
	}
	return readBlocks(b, off, d.size, d.block, d.read)
}

func (d *vhd) read(b []byte, block, in int64) error {
	entry := d.table[block]
	if entry == vhdNoBlock {
		clear(b)
		return nil
	}
	at := int64(entry) * 512
	if err := readFull(d.f, b, at+d.bitmap+in); err != nil {
		return err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.of != block {
		d.bits, d.of = make([]byte, d.bitmap), block
		if err := readFull(d.f, d.bits, at); err != nil {
			d.of = -1
			return err
		}
	}
	for off := int64(0); off < int64(len(b)); { // sectors that were never written are zeros
		sector := (in + off) / 512
		n := min((sector+1)*512-in-off, int64(len(b))-off)
		if d.bits[sector/8]&(0x80>>(sector%8)) == 0 {
			clear(b[off : off+n])
		}
		off += n
	}
	return nil
}
