package vmdisk

import (
	"encoding/binary"
	"fmt"
	"io"
)

// VDI. Numbers are little-endian. A header of 512 bytes, of which the first 64 are a
// text; a table of one number a block; the blocks, in the order in which they were
// first written.
type vdi struct {
	f     io.ReaderAt
	size  int64
	block int64
	extra int64 // bytes in front of each block
	data  int64 // where the blocks begin
	table []uint32
}

const (
	vdiSignature = 0xBEDA107F
	vdiHeader    = 512
	vdiDynamic   = 1
	vdiFixed     = 2
	vdiNoBlock   = 0xFFFFFFFF // never written
	vdiZeroBlock = 0xFFFFFFFE
	vdiMaxTable  = 16 << 20 // entries; 16 TiB in blocks of 1 MiB
)

func openVDI(f io.ReaderAt, size int64) (Disk, error) {
	if size < vdiHeader {
		return nil, nil
	}
	h := make([]byte, vdiHeader)
	if err := readFull(f, h, 0); err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	if le.Uint32(h[0x40:]) != vdiSignature {
		return nil, nil
	}
	if version := le.Uint32(h[0x44:]); version>>16 != 1 {
		return nil, fmt.Errorf("VDI: %w: version %d.%d", ErrUnsupported, version>>16, version&0xffff)
	}
	switch kind := le.Uint32(h[0x4C:]); kind {
	case vdiDynamic, vdiFixed:
	default:
		return nil, fmt.Errorf("VDI: %w: it holds what differs from another one; make one file of both first", ErrUnsupported)
	}
	d := &vdi{f: f, size: int64(le.Uint64(h[0x170:])), block: int64(le.Uint32(h[0x178:])), extra: int64(le.Uint32(h[0x17C:])), data: int64(le.Uint32(h[0x158:]))}
	blocks := int64(le.Uint32(h[0x180:]))
	if d.size < 0 || d.size > 1<<56 || d.block < 512 || d.block > 256<<20 || d.block&(d.block-1) != 0 || d.extra > 1<<20 ||
		blocks > vdiMaxTable || blocks*4 > size || (d.size+d.block-1)/d.block > blocks {
		return nil, fmt.Errorf("VDI: %w: a disk of %d bytes in %d blocks of %d", ErrDamaged, d.size, blocks, d.block)
	}
	table := make([]byte, blocks*4)
	if err := readFull(f, table, int64(le.Uint32(h[0x154:]))); err != nil {
		return nil, fmt.Errorf("VDI: %w", err)
	}
	d.table = make([]uint32, blocks)
	for i := range d.table {
		d.table[i] = le.Uint32(table[4*i:])
	}
	return d, nil
}

func (d *vdi) Size() int64     { return d.size }
func (d *vdi) SectorSize() int { return 512 }
func (d *vdi) Format() Format  { return VDI }

func (d *vdi) ReadAt(b []byte, off int64) (int, error) {
	return readBlocks(b, off, d.size, d.block, d.read)
}

func (d *vdi) read(b []byte, block, in int64) error {
	switch n := d.table[block]; n {
	case vdiNoBlock, vdiZeroBlock:
		clear(b)
		return nil
	default:
		return readFull(d.f, b, d.data+int64(n)*(d.block+d.extra)+d.extra+in)
	}
}
