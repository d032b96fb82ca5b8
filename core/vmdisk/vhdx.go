package vmdisk

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"io"

	"github.com/google/uuid"
)

// VHDX, after Microsoft's open specification [MS-VHDX]. Numbers are
// little-endian. Two headers, of which the newer counts, and two copies of a
// table of regions lead to the metadata and to the table of blocks.
type vhdx struct {
	f      io.ReaderAt
	size   int64
	sector int
	block  int64
	chunk  int64 // blocks between two entries for bitmaps in the table
	table  []uint64
}

const (
	vhdxHeaders  = 64 << 10 // the first; the second is as far behind it
	vhdxRegions  = 192 << 10
	vhdxMaxTable = 512 << 20 // bytes
	vhdxMeta     = 64 << 10  // bytes of the metadata's own table

	vhdxFullyPresent     = 6
	vhdxPartiallyPresent = 7
)

var (
	vhdxTableRegion    = uuid.MustParse("2DC27766-F623-4200-9D64-115E9BFD4A08")
	vhdxMetadataRegion = uuid.MustParse("8B7CA206-4790-4B9A-B8FE-575F050F886E")
	vhdxParameters     = uuid.MustParse("CAA16737-FA36-4D43-B3B6-33F0AA44E76B")
	vhdxDiskSize       = uuid.MustParse("2FA54224-CD1B-4876-B211-5DBED83BF4B8")
	vhdxLogicalSector  = uuid.MustParse("8141BF1D-A96F-4709-BA47-F233A8FAAB5F")
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

func openVHDX(f io.ReaderAt, size int64) (Disk, error) {
	if size < 1<<20 {
		return nil, nil
	}
	id := make([]byte, 8)
	if err := readFull(f, id, 0); err != nil || string(id) != "vhdxfile" {
		return nil, err
	}
	d := &vhdx{f: f}
	if err := d.open(size); err != nil {
		return nil, fmt.Errorf("VHDX: %w", err)
	}
	return d, nil
}

func (d *vhdx) open(size int64) error {
	le := binary.LittleEndian
	if err := d.checkHeader(); err != nil {
		return err
	}
	regions, err := d.soundCopy("regi", vhdxRegions, 64<<10)
	if err != nil {
		return err
	}
	count := int(le.Uint32(regions[8:]))
	if count > 2047 {
		return fmt.Errorf("%w: %d regions", ErrDamaged, count)
	}
	var tableAt, tableLen, metaAt int64
	for i := range count {
		e := regions[16+32*i:]
		at, length := int64(le.Uint64(e[16:])), int64(le.Uint32(e[24:]))
		switch mixed(e) {
		case vhdxTableRegion:
			tableAt, tableLen = at, length
		case vhdxMetadataRegion:
			metaAt = at
		}
	}
	if err := d.openMetadata(metaAt); err != nil {
		return err
	}
	d.chunk = (1 << 23) * int64(d.sector) / d.block
	blocks := (d.size + d.block - 1) / d.block
	entries := blocks + max(blocks-1, 0)/d.chunk
	if entries*8 > tableLen || entries*8 > vhdxMaxTable || entries*8 > size {
		return fmt.Errorf("%w: a table of %d bytes for %d blocks", ErrDamaged, tableLen, blocks)
	}
	table := make([]byte, entries*8)
	if err := readFull(d.f, table, tableAt); err != nil {
		return err
	}
	d.table = make([]uint64, entries)
	for i := range d.table {
		d.table[i] = le.Uint64(table[8*i:])
	}
	return nil
}

// checkHeader looks whether the file was closed: a log that is named has writes
// that are not in their places yet.
func (d *vhdx) checkHeader() error {
	le := binary.LittleEndian
	var newest []byte
	for i := range int64(2) {
		h := make([]byte, 4096)
		if err := readFull(d.f, h, vhdxHeaders*(1+i)); err != nil {
			return err
		}
		if string(h[:4]) == "head" && checksumHolds(h) && (newest == nil || le.Uint64(h[8:]) > le.Uint64(newest[8:])) {
			newest = h
		}
	}
	if newest == nil {
		return fmt.Errorf("%w: neither header is sound", ErrDamaged)
	}
	if mixed(newest[48:]) != uuid.Nil {
		return fmt.Errorf("%w: it was not closed properly; start and shut down the machine it belongs to", ErrUnsupported)
	}
	return nil
}

// soundCopy reads one of two copies, one behind the other.
func (d *vhdx) soundCopy(signature string, at, length int64) ([]byte, error) {
	b := make([]byte, length)
	for i := range int64(2) {
		if err := readFull(d.f, b, at+i*length); err != nil {
			return nil, err
		}
		if string(b[:len(signature)]) == signature && checksumHolds(b) {
			return b, nil
		}
	}
	return nil, fmt.Errorf("%w: neither copy of its regions is sound", ErrDamaged)
}

func (d *vhdx) openMetadata(at int64) error {
	le := binary.LittleEndian
	b := make([]byte, vhdxMeta)
	if err := readFull(d.f, b, at); err != nil {
		return err
	}
	count := int(le.Uint16(b[10:]))
	if string(b[:8]) != "metadata" || count > 2047 {
		return fmt.Errorf("%w: its metadata is not sound", ErrDamaged)
	}
	for i := range count {
		e := b[32+32*i:]
		value := make([]byte, 8)
		if n := int(le.Uint32(e[20:])); n < len(value) {
			value = value[:n]
		}
		if err := readFull(d.f, value, at+int64(le.Uint32(e[16:]))); err != nil {
			return err
		}
		value = append(value, make([]byte, 8)...)
		switch mixed(e) {
		case vhdxParameters:
			d.block = int64(le.Uint32(value))
			if le.Uint32(value[4:])&2 != 0 {
				return fmt.Errorf("%w: it is a differencing disk; merge it with its parent first", ErrUnsupported)
			}
		case vhdxDiskSize:
			d.size = int64(le.Uint64(value))
		case vhdxLogicalSector:
			d.sector = int(le.Uint32(value))
		}
	}
	if d.block < 1<<20 || d.block > 256<<20 || d.block&(d.block-1) != 0 || d.size <= 0 || d.size > 64<<40 || (d.sector != 512 && d.sector != 4096) {
		return fmt.Errorf("%w: a disk of %d bytes in blocks of %d, sectors of %d", ErrDamaged, d.size, d.block, d.sector)
	}
	return nil
}

func (d *vhdx) Size() int64     { return d.size }
func (d *vhdx) SectorSize() int { return d.sector }
func (d *vhdx) Format() Format  { return VHDX }

func (d *vhdx) ReadAt(b []byte, off int64) (int, error) {
	return readBlocks(b, off, d.size, d.block, d.read)
}

func (d *vhdx) read(b []byte, block, in int64) error {
	entry := d.table[block+block/d.chunk]
	switch entry & 7 {
	case vhdxFullyPresent:
		return readFull(d.f, b, int64(entry>>20)<<20+in)
	case vhdxPartiallyPresent:
		return fmt.Errorf("VHDX: %w: part of a block is in a parent", ErrUnsupported)
	}
	clear(b)
	return nil
}

// checksumHolds checks the CRC-32C at byte 4.
func checksumHolds(b []byte) bool {
	sum := crc32.Update(0, castagnoli, b[:4])
	sum = crc32.Update(sum, castagnoli, []byte{0, 0, 0, 0})
	return crc32.Update(sum, castagnoli, b[8:]) == binary.LittleEndian.Uint32(b[4:])
}

// mixed reads an identity whose first three fields are little-endian.
func mixed(b []byte) uuid.UUID {
	return uuid.UUID{b[3], b[2], b[1], b[0], b[5], b[4], b[7], b[6], b[8], b[9], b[10], b[11], b[12], b[13], b[14], b[15]}
}
