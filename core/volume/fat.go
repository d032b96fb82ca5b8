package volume

import (
	"encoding/binary"
	"fmt"
	"io"
	"strings"
)

// The FAT file systems of the Microsoft FAT specification. Everything before
// the first cluster is always in use; behind it the table says, one entry a
// cluster, 12, 16 or 32 bits wide.
type fat struct {
	kind     Kind
	cluster  int64 // bytes
	clusters int64 // how many; the first has number 2
	data     int64 // byte at which cluster 2 begins
	table    int64 // byte at which the table in force begins
}

// Values of a table entry, masked to the width of the kind.
var fatBad = map[Kind]uint32{FAT12: 0xFF7, FAT16: 0xFFF7, FAT32: 0x0FFFFFF7}

func probeFAT(r io.ReaderAt, size int64) (*Volume, error) {
	if size < 4096 {
		return nil, nil
	}
	b := make([]byte, 512)
	if err := readAt(r, b, 0); err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	sector := int64(le.Uint16(b[11:]))
	perCluster := int64(b[13])
	reserved := int64(le.Uint16(b[14:]))
	tables := int64(b[16])
	rootEntries := int64(le.Uint16(b[17:]))
	total := int64(le.Uint16(b[19:]))
	if total == 0 {
		total = int64(le.Uint32(b[32:]))
	}
	perTable := int64(le.Uint16(b[22:]))
	is32 := perTable == 0
	if is32 {
		perTable = int64(le.Uint32(b[36:]))
	}
	// Boot sectors of other file systems end in 55 AA too; a BPB that fails the
	// specification's own limits is not FAT.
	if le.Uint16(b[510:]) != 0xAA55 || (b[0] != 0xEB && b[0] != 0xE9) ||
		!powerOfTwo(sector) || sector < 512 || sector > 4096 || !powerOfTwo(perCluster) ||
		reserved == 0 || tables == 0 || tables > 4 || perTable == 0 || total == 0 || (is32 && rootEntries != 0) ||
		(b[21] != 0xF0 && b[21] < 0xF8) {
		return nil, nil
	}
	rootSectors := (rootEntries*32 + sector - 1) / sector
	dataSector := reserved + tables*perTable + rootSectors
	if total*sector > size || dataSector > total {
		return nil, fmt.Errorf("FAT: %w: it claims %d bytes, with its data at %d, in a partition of %d",
			ErrDamaged, total*sector, dataSector*sector, size)
	}
	f := fat{
		cluster:  sector * perCluster,
		clusters: (total - dataSector) / perCluster,
		data:     dataSector * sector,
		table:    reserved * sector,
	}
	// The count of clusters alone decides the kind; volumes that were forced to
	// FAT32 below its limit are told by their missing 16-bit table size.
	var cleanBit uint32
	dirtyByte, labelAt, idAt := 37, 43, 39
	switch {
	case is32:
		f.kind, cleanBit = FAT32, 0x08000000
		dirtyByte, labelAt, idAt = 65, 71, 67
		if flags := le.Uint16(b[40:]); flags&0x80 != 0 { // only one table is kept up to date
			active := int64(flags & 0xF)
			if active >= tables {
				return nil, fmt.Errorf("FAT: %w: table %d of %d is named as the one in force", ErrDamaged, active, tables)
			}
			f.table += active * perTable * sector
		}
	case f.clusters < 4085:
		f.kind = FAT12
	default:
		f.kind, cleanBit = FAT16, 0x8000
	}
	if have := perTable * sector * 8 / f.bits(); have < f.clusters+2 {
		return nil, fmt.Errorf("FAT: %w: a table of %d entries for %d clusters", ErrDamaged, have, f.clusters)
	}
	v := &Volume{
		Kind: f.kind, ClusterSize: f.cluster, Needs: total * sector, Clean: true,
		used: func(yield func(Extent, error) bool) { f.used(r, yield) },
	}
	if b[idAt-1] == 0x29 { // identity and label are present
		id := le.Uint32(b[idAt:])
		v.UUID = fmt.Sprintf("%04X-%04X", id>>16, id&0xFFFF)
		v.Label = strings.TrimRight(string(b[labelAt:labelAt+11]), " \x00")
		if v.Label == "NO NAME" {
			v.Label = ""
		}
	}
	second := make([]byte, 8)
	if err := readAt(r, second, f.table); err != nil {
		return nil, err
	}
	if entry := f.entry(second, 1); b[dirtyByte]&1 != 0 || (cleanBit != 0 && entry&cleanBit == 0) {
		v.Clean = false // the table itself is still the truth: FAT has no journal
	}
	return v, nil
}

func (f fat) bits() int64 {
	return map[Kind]int64{FAT12: 12, FAT16: 16, FAT32: 32}[f.kind]
}

// entry reads entry i of a piece of the table.
func (f fat) entry(b []byte, i int64) uint32 {
	switch f.kind {
	case FAT12:
		pair := uint32(binary.LittleEndian.Uint16(b[i*3/2:]))
		if i%2 == 1 {
			return pair >> 4
		}
		return pair & 0xFFF
	case FAT16:
		return uint32(binary.LittleEndian.Uint16(b[i*2:]))
	}
	return binary.LittleEndian.Uint32(b[i*4:]) & 0x0FFFFFFF
}

func (f fat) used(r io.ReaderAt, yield func(Extent, error) bool) {
	if !yield(Extent{0, f.data}, nil) {
		return
	}
	const step = 16 << 10 // entries; even, so that no 12-bit pair is cut
	piece := make([]byte, step*f.bits()/8)
	for first := int64(0); first < f.clusters+2; first += step {
		n := min(step, f.clusters+2-first)
		b := piece[:(n*f.bits()+15)/16*2]
		if err := readAt(r, b, f.table+first*f.bits()/8); err != nil {
			yield(Extent{}, err)
			return
		}
		for i := range n {
			number := first + i
			if value := f.entry(b, i); number < 2 || value == 0 || value == fatBad[f.kind] {
				continue
			}
			if !yield(Extent{f.data + (number-2)*f.cluster, f.cluster}, nil) {
				return
			}
		}
	}
}
