package vmdisk

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"sync"
)

// VMDK, after the public "Virtual Disk Format 1.1". A descriptor, a text of its own or
// inside the first file, lists the extents that the disk consists of, one behind the
// other: flat ones are raw bytes, sparse ones have a directory of tables of grains.
// Numbers are little-endian and count sectors of 512 bytes.
type vmdk struct {
	size    int64
	extents []vmdkExtent
}

type vmdkExtent struct {
	start, size int64 // bytes of the disk
	content     io.ReaderAt
}

const (
	vmdkMagic         = "KDMV"
	vmdkDescriptor    = "# Disk DescriptorFile"
	vmdkSector        = 512
	vmdkMaxDescriptor = 1 << 20
	vmdkMaxExtents    = 4096
	vmdkAtEnd         = 0xFFFFFFFFFFFFFFFF
	vmdkCompressed    = 1 << 16
	vmdkMaxTables     = 64 << 20 // bytes of grain tables
)

func openVMDK(f io.ReaderAt, size int64, parents Parents) (Disk, error) {
	b := make([]byte, 64)
	if size < int64(len(b)) {
		return nil, nil
	}
	if err := readFull(f, b, 0); err != nil {
		return nil, err
	}
	var text string
	var own io.ReaderAt // the extent in this very file
	var capacity int64
	switch {
	case bytes.HasPrefix(b, []byte(vmdkMagic)):
		s, descriptor, err := openSparse(f, size)
		if err != nil {
			return nil, fmt.Errorf("VMDK: %w", err)
		}
		text, own, capacity = descriptor, s, s.size
	case bytes.HasPrefix(b, []byte(vmdkDescriptor)):
		raw := make([]byte, min(size, vmdkMaxDescriptor))
		if err := readFull(f, raw, 0); err != nil {
			return nil, err
		}
		text = string(raw)
	default:
		return nil, nil
	}
	d := &vmdk{}
	if err := d.describe(text, own, capacity, parents); err != nil {
		return nil, fmt.Errorf("VMDK: %w", err)
	}
	return d, nil
}

// describe reads the descriptor. A part of a disk that has none is refused.
func (d *vmdk) describe(text string, own io.ReaderAt, capacity int64, parents Parents) error {
	if own != nil && strings.TrimRight(text, "\x00") == "" {
		return fmt.Errorf("%w: it is a part of a disk; name the file that describes the whole", ErrUnsupported)
	}
	for line := range strings.Lines(text) {
		line, _, _ = strings.Cut(line, "\x00")
		line = strings.TrimSpace(line)
		key, value, _ := strings.Cut(line, "=")
		if strings.EqualFold(strings.TrimSpace(key), "parentCID") && !strings.EqualFold(strings.TrimSpace(value), "ffffffff") {
			return fmt.Errorf("%w: it holds what differs from another disk; make one file of both first", ErrUnsupported)
		}
		fields := strings.Fields(line)
		if len(fields) < 3 || fields[0] != "RW" && fields[0] != "RDONLY" {
			continue
		}
		if len(d.extents) >= vmdkMaxExtents {
			return fmt.Errorf("%w: more than %d parts", ErrDamaged, vmdkMaxExtents)
		}
		if err := d.extent(line, fields, own, capacity, parents); err != nil {
			return err
		}
	}
	if len(d.extents) == 0 {
		return fmt.Errorf("%w: its descriptor names no part of the disk", ErrDamaged)
	}
	return nil
}

// extent reads a line such as: RW 83886080 FLAT "gold-flat.vmdk" 0
func (d *vmdk) extent(line string, fields []string, own io.ReaderAt, capacity int64, parents Parents) error {
	sectors, err := strconv.ParseInt(fields[1], 10, 64)
	if err != nil || sectors < 0 || sectors > 1<<47 {
		return fmt.Errorf("%w: a part of %q sectors", ErrDamaged, fields[1])
	}
	e := vmdkExtent{start: d.size, size: sectors * vmdkSector}
	d.size += e.size
	if d.size > 1<<56 {
		return fmt.Errorf("%w: a disk of %d bytes", ErrDamaged, d.size)
	}
	_, rest, _ := strings.Cut(line, `"`)
	name, after, quoted := strings.Cut(rest, `"`)
	switch kind := fields[2]; {
	case kind == "ZERO":
		d.extents = append(d.extents, e)
		return nil
	case !quoted:
		return fmt.Errorf("%w: the line %q of its descriptor", ErrDamaged, line)
	case own != nil:
		if e.size != capacity || len(d.extents) > 0 {
			return fmt.Errorf("%w: its descriptor says %d bytes, its header %d", ErrDamaged, e.size, capacity)
		}
		e.content = own
	case kind == "FLAT" || kind == "SPARSE":
		f, length, err := parents.open(name)
		if err != nil {
			return fmt.Errorf("its part %s: %w", name, err)
		}
		if e.content, err = openExtent(kind, f, length, after, e.size); err != nil {
			return fmt.Errorf("its part %s: %w", name, err)
		}
	default:
		return fmt.Errorf("%w: a part of the kind %s", ErrUnsupported, kind)
	}
	d.extents = append(d.extents, e)
	return nil
}

func openExtent(kind string, f io.ReaderAt, length int64, after string, size int64) (io.ReaderAt, error) {
	if kind == "SPARSE" {
		s, _, err := openSparse(f, length)
		if err == nil && s.size < size {
			err = fmt.Errorf("%w: it has %d bytes and should have %d", ErrDamaged, s.size, size)
		}
		return s, err
	}
	offset, err := strconv.ParseInt(strings.TrimSpace("0"+strings.TrimSpace(after)), 10, 64)
	if err != nil || offset < 0 || offset > 1<<47 || length-offset*vmdkSector < size {
		return nil, fmt.Errorf("%w: it has %d bytes and should have %d behind sector %d", ErrDamaged, length, size, offset)
	}
	return io.NewSectionReader(f, offset*vmdkSector, size), nil
}

func (d *vmdk) Size() int64     { return d.size }
func (d *vmdk) SectorSize() int { return 512 }
func (d *vmdk) Format() Format  { return VMDK }

func (d *vmdk) ReadAt(b []byte, off int64) (n int, err error) {
	if off < 0 {
		return 0, fmt.Errorf("read at byte %d", off)
	}
	for _, e := range d.extents {
		if len(b) == 0 || off < e.start || off >= e.start+e.size {
			continue
		}
		part := b[:min(int64(len(b)), e.start+e.size-off)]
		if e.content == nil {
			clear(part)
		} else if err := readFull(e.content, part, off-e.start); err != nil {
			return n, err
		}
		n += len(part)
		b, off = b[len(part):], off+int64(len(part))
	}
	if len(b) > 0 {
		return n, io.EOF
	}
	return n, nil
}

// sparse is a sparse extent.
type sparse struct {
	f          io.ReaderAt
	size       int64
	grain      int64 // bytes
	perTable   int64
	directory  []uint32
	compressed bool

	mu    sync.Mutex
	at    uint32 // sector of the table in table; 0 is none
	table []uint32
	plain []byte // the compressed grain read last
	of    uint32 // its sector
}

// openSparse reads the header of a sparse extent, and the descriptor inside it.
func openSparse(f io.ReaderAt, size int64) (*sparse, string, error) {
	h := make([]byte, vmdkSector)
	if err := readFull(f, h, 0); err != nil {
		return nil, "", err
	}
	le := binary.LittleEndian
	if string(h[:4]) != vmdkMagic {
		return nil, "", fmt.Errorf("%w: it has no header", ErrDamaged)
	}
	descriptorAt, descriptorLen := le.Uint64(h[28:]), le.Uint64(h[36:])
	if le.Uint64(h[56:]) == vmdkAtEnd { // a stream has its directory at the end, and a copy of the header behind it
		if size < 3*vmdkSector {
			return nil, "", fmt.Errorf("%w: it has no end", ErrDamaged)
		}
		if err := readFull(f, h, size-2*vmdkSector); err != nil {
			return nil, "", err
		}
		if string(h[:4]) != vmdkMagic || le.Uint64(h[56:]) == vmdkAtEnd {
			return nil, "", fmt.Errorf("%w: it is cut off", ErrDamaged)
		}
	}
	switch version, flags, method := le.Uint32(h[4:]), le.Uint32(h[8:]), le.Uint16(h[77:]); {
	case version < 1 || version > 3:
		return nil, "", fmt.Errorf("%w: version %d", ErrUnsupported, version)
	case method > 1:
		return nil, "", fmt.Errorf("%w: compressed by method %d", ErrUnsupported, method)
	case h[73] != '\n' || h[74] != ' ' || h[75] != '\r' || h[76] != '\n':
		return nil, "", fmt.Errorf("%w: it was copied as a text, which changed its line ends", ErrDamaged)
	default:
		capacity, grain := le.Uint64(h[12:]), le.Uint64(h[20:])
		s := &sparse{f: f, perTable: int64(le.Uint32(h[44:])), compressed: flags&vmdkCompressed != 0 && method == 1}
		if capacity > 1<<47 || grain < 1 || grain > 1<<16 || grain&(grain-1) != 0 || s.perTable < 1 || s.perTable > 1<<16 {
			return nil, "", fmt.Errorf("%w: %d sectors in grains of %d, %d in a table", ErrDamaged, capacity, grain, s.perTable)
		}
		s.size, s.grain = int64(capacity)*vmdkSector, int64(grain)*vmdkSector
		tables := (s.size + s.grain*s.perTable - 1) / (s.grain * s.perTable)
		if tables*4 > vmdkMaxTables || tables*4 > size {
			return nil, "", fmt.Errorf("%w: %d tables in a file of %d bytes", ErrDamaged, tables, size)
		}
		at := le.Uint64(h[56:])
		if at > 1<<47 {
			return nil, "", fmt.Errorf("%w: its directory is at sector %d", ErrDamaged, at)
		}
		var err error
		if s.directory, err = sectorNumbers(f, int64(at)*vmdkSector, tables); err != nil {
			return nil, "", err
		}
		if descriptorAt == 0 || descriptorAt > 1<<32 || descriptorLen*vmdkSector > vmdkMaxDescriptor {
			return s, "", nil
		}
		text := make([]byte, descriptorLen*vmdkSector)
		err = readFull(f, text, int64(descriptorAt)*vmdkSector)
		return s, string(text), err
	}
}

func sectorNumbers(f io.ReaderAt, at, n int64) ([]uint32, error) {
	b := make([]byte, 4*n)
	if err := readFull(f, b, at); err != nil {
		return nil, err
	}
	all := make([]uint32, n)
	for i := range all {
		all[i] = binary.LittleEndian.Uint32(b[4*i:])
	}
	return all, nil
}

func (s *sparse) ReadAt(b []byte, off int64) (int, error) {
	return readBlocks(b, off, s.size, s.grain, s.read)
}

func (s *sparse) read(b []byte, grain, in int64) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	at := s.directory[grain/s.perTable]
	if at == 0 {
		clear(b)
		return nil
	}
	if s.at != at {
		table, err := sectorNumbers(s.f, int64(at)*vmdkSector, s.perTable)
		if err != nil {
			return err
		}
		s.at, s.table = at, table
	}
	switch sector := s.table[grain%s.perTable]; {
	case sector <= 1: // not there, or zeros
		clear(b)
		return nil
	case !s.compressed:
		return readFull(s.f, b, int64(sector)*vmdkSector+in)
	default:
		return s.readCompressed(b, sector, grain, in)
	}
}

// readCompressed reads a part of a grain that lies behind its number and its length.
func (s *sparse) readCompressed(b []byte, sector uint32, grain, in int64) error {
	if s.of != sector {
		head := make([]byte, 12)
		at := int64(sector) * vmdkSector
		if err := readFull(s.f, head, at); err != nil {
			return err
		}
		first, length := binary.LittleEndian.Uint64(head), int64(binary.LittleEndian.Uint32(head[8:]))
		if first != uint64(grain*s.grain/vmdkSector) || length == 0 || length > 2*s.grain+1024 {
			return fmt.Errorf("%w: the grain at byte %d", ErrDamaged, at)
		}
		packed := make([]byte, length)
		if err := readFull(s.f, packed, at+12); err != nil {
			return err
		}
		z, err := zlib.NewReader(bytes.NewReader(packed))
		if err != nil {
			return fmt.Errorf("%w: the grain at byte %d: %w", ErrDamaged, at, err)
		}
		plain := make([]byte, s.grain)
		if n, err := io.ReadFull(z, plain); err != nil && !errors.Is(err, io.ErrUnexpectedEOF) || n == 0 {
			return fmt.Errorf("%w: the grain at byte %d: %w", ErrDamaged, at, err)
		}
		s.plain, s.of = plain, sector
	}
	copy(b, s.plain[in:])
	return nil
}
