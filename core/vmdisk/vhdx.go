package vmdisk

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"strings"
	"sync"
	"unicode/utf16"

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

	linked bool      // it is a differencing disk
	data   uuid.UUID // the state of its content, which its children know
	parent Disk
	locate []byte // where the parent is
	mu     sync.Mutex
	bits   []byte // the bitmap of sectors of chunk of
	of     int64
}

const (
	vhdxHeaders  = 64 << 10 // the first; the second is as far behind it
	vhdxRegions  = 192 << 10
	vhdxMaxTable = 512 << 20 // bytes
	vhdxMeta     = 64 << 10  // bytes of the metadata's own table

	vhdxNotPresent       = 0
	vhdxFullyPresent     = 6
	vhdxPartiallyPresent = 7
)

var (
	vhdxTableRegion    = uuid.MustParse("2DC27766-F623-4200-9D64-115E9BFD4A08")
	vhdxMetadataRegion = uuid.MustParse("8B7CA206-4790-4B9A-B8FE-575F050F886E")
	vhdxParameters     = uuid.MustParse("CAA16737-FA36-4D43-B3B6-33F0AA44E76B")
	vhdxDiskSize       = uuid.MustParse("2FA54224-CD1B-4876-B211-5DBED83BF4B8")
	vhdxParentLocator  = uuid.MustParse("A8D35F2D-B30B-454D-ABF7-D3D84834AB0C")
	vhdxLocatorType    = uuid.MustParse("B04AEFB7-D19E-4A81-B789-25B8E9445913")
	vhdxLogicalSector  = uuid.MustParse("8141BF1D-A96F-4709-BA47-F233A8FAAB5F")
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

func openVHDX(f io.ReaderAt, size int64, parents Parents, left int) (Disk, error) {
	if size < 1<<20 {
		return nil, nil
	}
	id := make([]byte, 8)
	if err := readFull(f, id, 0); err != nil || string(id) != "vhdxfile" {
		return nil, err
	}
	d := &vhdx{f: f, of: -1}
	if err := d.open(size); err != nil {
		return nil, fmt.Errorf("VHDX: %w", err)
	}
	if d.linked {
		if err := d.openParent(parents, left); err != nil {
			return nil, fmt.Errorf("VHDX: its parent: %w", err)
		}
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
	if d.linked { // the last chunk has its bitmap, too
		entries = (blocks + d.chunk - 1) / d.chunk * (d.chunk + 1)
	}
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
	d.data = mixed(newest[32:])
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
			d.linked = le.Uint32(value[4:])&2 != 0
		case vhdxParentLocator:
			if n := int64(le.Uint32(e[20:])); n >= 20 && n <= 1<<20 {
				d.locate = make([]byte, n)
				if err := readFull(d.f, d.locate, at+int64(le.Uint32(e[16:]))); err != nil {
					return err
				}
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
		if d.linked {
			return d.readPartial(b, int64(entry>>20)<<20, block, in)
		}
		return fmt.Errorf("VHDX: %w: part of a block is said to be in a parent, and the disk has no parent", ErrDamaged)
	case vhdxNotPresent:
		return readParent(d.parent, b, block*d.block+in)
	}
	clear(b)
	return nil
}

// readPartial reads a part of a block of which some sectors are the parent's: a bitmap
// for each chunk has a bit for every sector that is here.
func (d *vhdx) readPartial(b []byte, at, block, in int64) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if chunk := block / d.chunk; d.of != chunk {
		entry := d.table[chunk*(d.chunk+1)+d.chunk]
		if entry&7 != vhdxFullyPresent {
			return fmt.Errorf("VHDX: %w: the bitmap of chunk %d is missing", ErrDamaged, chunk)
		}
		d.bits = make([]byte, 1<<20)
		if err := readFull(d.f, d.bits, int64(entry>>20)<<20); err != nil {
			return err
		}
		d.of = chunk
	}
	for len(b) > 0 {
		sector := (block%d.chunk*d.block + in) / int64(d.sector)
		n := min(int64(len(b)), int64(d.sector)-in%int64(d.sector))
		var err error
		if d.bits[sector/8]&(1<<(sector%8)) != 0 {
			err = readFull(d.f, b[:n], at+in)
		} else {
			err = readParent(d.parent, b[:n], block*d.block+in)
		}
		if err != nil {
			return err
		}
		b, in = b[n:], in+n
	}
	return nil
}

// openParent finds the parent by its locator: keys and values in UTF-16.
func (d *vhdx) openParent(parents Parents, left int) error {
	le := binary.LittleEndian
	if len(d.locate) < 20 || mixed(d.locate) != vhdxLocatorType {
		return fmt.Errorf("%w: nothing says where it is", ErrDamaged)
	}
	values := map[string]string{}
	text := func(at, n int64) string {
		if at < 0 || n < 0 || n%2 != 0 || at+n > int64(len(d.locate)) {
			return ""
		}
		units := make([]uint16, n/2)
		for i := range units {
			units[i] = le.Uint16(d.locate[at+2*int64(i):])
		}
		return string(utf16.Decode(units))
	}
	for i := range int64(le.Uint16(d.locate[18:])) {
		e := 20 + 12*i
		if e+12 > int64(len(d.locate)) {
			break
		}
		key := text(int64(le.Uint32(d.locate[e:])), int64(le.Uint16(d.locate[e+8:])))
		values[key] = text(int64(le.Uint32(d.locate[e+4:])), int64(le.Uint16(d.locate[e+10:])))
	}
	var failed error
	for _, key := range []string{"relative_path", "absolute_win32_path"} {
		name := strings.ReplaceAll(values[key], "\\", "/")
		if name == "" {
			continue
		}
		f, size, err := parents.open(name)
		if err != nil {
			failed = errors.Join(failed, err)
			continue
		}
		if d.parent, err = open(f, size, parents, left-1); err != nil {
			return err
		}
		p, isVHDX := d.parent.(*vhdx)
		if link := values["parent_linkage"]; isVHDX && !strings.EqualFold(strings.Trim(link, "{}"), p.data.String()) {
			return fmt.Errorf("%w: %s was changed since, and does not belong to it any more", ErrDamaged, name)
		}
		return nil
	}
	if failed == nil {
		failed = fmt.Errorf("%w: nothing says where it is", ErrDamaged)
	}
	return failed
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
