package volume

import (
	"encoding/binary"
	"fmt"
	"io"
	"slices"
	"unicode/utf16"
)

// Types of the attributes that a file's record is made of.
const (
	attrList              = 0x20
	attrVolumeName        = 0x60
	attrVolumeInformation = 0x70
	attrData              = 0x80
	attrIndexRoot         = 0x90
	attrIndexAllocation   = 0xA0
	attrEnd               = 0xFFFFFFFF
)

// Limits on what a volume may make us read: NTFS itself allows an attribute list
// of 256 KiB; a root folder of 16 MiB has over 100,000 names.
const (
	maxAttributeList = 256 << 10
	maxFolder        = 16 << 20
)

// attribute is one stream of a file: short ones lie in the record, long ones in
// runs of clusters.
type attribute struct {
	resident []byte
	runs     []run
	size     int64 // bytes
}

// run is a stretch of a stream: count clusters from cluster vcn of the stream
// lie at cluster lcn of the volume.
type run struct{ vcn, lcn, count int64 }

// hole is the lcn of clusters that were never written and read as zeros.
const hole = -1

// openTable reads the table's own record, the first in cluster at, to learn
// where the other records are.
func (n *ntfs) openTable(at int64) error {
	// Until then it is believed to be in one piece; the records that describe it
	// always are.
	n.mft = attribute{runs: []run{{0, at, n.clusters - at}}, size: (n.clusters - at) * n.cluster}
	table, err := n.attribute(fileMFT, attrData, "")
	if err != nil {
		return fmt.Errorf("$MFT: %w", err)
	}
	n.mft = table
	return nil
}

// NTFSTable is the file table of an NTFS volume as one stretch, with the sizes of a
// cluster and of a record, in bytes.
func NTFSTable(r io.ReaderAt, size int64) (table io.ReaderAt, tableSize, cluster, record int64, err error) {
	b, err := head(r, size, 0, 512)
	if b == nil || err != nil {
		return nil, 0, 0, 0, err
	}
	n, _, err := ntfsGeometry(r, b, size)
	if err != nil {
		return nil, 0, 0, 0, fmt.Errorf("NTFS: %w", err)
	}
	return ntfsTable{n}, n.mft.size, n.cluster, n.record, nil
}

type ntfsTable struct{ n *ntfs }

func (t ntfsTable) ReadAt(b []byte, off int64) (int, error) {
	left := t.n.mft.size - off
	if off < 0 || left <= 0 {
		return 0, io.EOF
	}
	short := int64(len(b)) > left
	if short {
		b = b[:left]
	}
	if err := t.n.readAttribute(t.n.mft, b, off); err != nil {
		return 0, err
	}
	if short {
		return len(b), io.EOF
	}
	return len(b), nil
}

// fileRecord reads record number and undoes its fixups.
func (n *ntfs) fileRecord(number int64) ([]byte, error) {
	b := make([]byte, n.record)
	if number < 0 || number > n.mft.size/n.record {
		return nil, fmt.Errorf("%w: there is no record %d", ErrDamaged, number)
	}
	if err := n.readAttribute(n.mft, b, number*n.record); err != nil {
		return nil, err
	}
	if string(b[:4]) != "FILE" {
		return nil, fmt.Errorf("%w: record %d is not a file record", ErrDamaged, number)
	}
	if err := unfix(b, 512); err != nil {
		return nil, fmt.Errorf("record %d: %w", number, err)
	}
	return b, nil
}

// unfix puts back the last two bytes of every stretch, which were replaced by a
// number to tell a torn write.
func unfix(b []byte, stretch int) error {
	le := binary.LittleEndian
	at, count := int(le.Uint16(b[4:])), int(le.Uint16(b[6:]))
	if count < 2 || at+2*count > len(b) || (count-1)*stretch > len(b) {
		return fmt.Errorf("%w: %d fixups at byte %d", ErrDamaged, count, at)
	}
	for i := 1; i < count; i++ {
		end := b[i*stretch-2 : i*stretch]
		if le.Uint16(end) != le.Uint16(b[at:]) {
			return fmt.Errorf("%w: a write of it was torn", ErrDamaged)
		}
		copy(end, b[at+2*i:at+2*i+2])
	}
	return nil
}

// piece is one attribute as it stands in a record.
type piece struct {
	kind uint32
	name string
	body []byte // from its header on
}

// pieces cuts a record into attributes.
func pieces(record []byte) ([]piece, error) {
	le := binary.LittleEndian
	var all []piece
	for at := int(le.Uint16(record[0x14:])); ; {
		if at+8 > len(record) {
			return nil, fmt.Errorf("%w: its attributes run over the record", ErrDamaged)
		}
		kind := le.Uint32(record[at:])
		if kind == attrEnd {
			return all, nil
		}
		length := int(le.Uint32(record[at+4:]))
		if length < 24 || length > len(record)-at {
			return nil, fmt.Errorf("%w: an attribute of %d bytes", ErrDamaged, length)
		}
		body := record[at : at+length]
		nameAt, units := int(le.Uint16(body[10:])), int(body[9])
		if nameAt+2*units > length {
			return nil, fmt.Errorf("%w: an attribute's name runs over it", ErrDamaged)
		}
		all = append(all, piece{kind, utf16String(body[nameAt : nameAt+2*units]), body})
		at += length
	}
}

// attribute finds an attribute of a file, also when a file with many runs keeps
// it in several records.
func (n *ntfs) attribute(file int64, kind uint32, name string) (attribute, error) {
	record, err := n.fileRecord(file)
	if err != nil {
		return attribute{}, err
	}
	own, err := pieces(record)
	if err != nil {
		return attribute{}, err
	}
	var a attribute
	found := false
	add := func(from []piece) error {
		for _, p := range from {
			if p.kind == kind && p.name == name {
				found = true
				if err := n.extend(&a, p.body); err != nil {
					return err
				}
			}
		}
		return nil
	}
	if err := add(own); err != nil {
		return a, err
	}
	others, err := n.listed(own, file, kind, name)
	if err != nil {
		return a, err
	}
	for _, other := range others {
		record, err := n.fileRecord(other)
		if err != nil {
			return a, err
		}
		more, err := pieces(record)
		if err != nil {
			return a, err
		}
		if err := add(more); err != nil {
			return a, err
		}
	}
	if !found {
		return a, fmt.Errorf("%w: file %d lacks attribute %#x", ErrDamaged, file, kind)
	}
	slices.SortStableFunc(a.runs, func(x, y run) int { return int(min(max(x.vcn-y.vcn, -1), 1)) })
	for i, r := range a.runs {
		if i > 0 && r.vcn < a.runs[i-1].vcn+a.runs[i-1].count {
			return a, fmt.Errorf("%w: two runs of file %d are for the same cluster", ErrDamaged, file)
		}
	}
	return a, nil
}

// listed reads the attribute list, if there is one, and names the other records
// that hold parts of the attribute that is wanted.
func (n *ntfs) listed(own []piece, file int64, kind uint32, name string) ([]int64, error) {
	i := slices.IndexFunc(own, func(p piece) bool { return p.kind == attrList })
	if i < 0 {
		return nil, nil
	}
	var list attribute
	if err := n.extend(&list, own[i].body); err != nil {
		return nil, err
	}
	if list.size > maxAttributeList {
		return nil, fmt.Errorf("%w: an attribute list of %d bytes", ErrDamaged, list.size)
	}
	b := make([]byte, list.size)
	if err := n.readAttribute(list, b, 0); err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	var records []int64
	for len(b) >= 26 {
		length, units, nameAt := int(le.Uint16(b[4:])), int(b[6]), int(b[7])
		if length < 26 || length > len(b) || nameAt+2*units > length {
			return nil, fmt.Errorf("%w: an entry of %d bytes in an attribute list", ErrDamaged, length)
		}
		number := int64(le.Uint64(b[16:]) & (1<<48 - 1))
		if le.Uint32(b) == kind && utf16String(b[nameAt:nameAt+2*units]) == name && number != file && !slices.Contains(records, number) {
			records = append(records, number)
		}
		b = b[length:]
	}
	return records, nil
}

// extend adds what one piece says to an attribute.
func (n *ntfs) extend(a *attribute, body []byte) error {
	le := binary.LittleEndian
	if body[8] == 0 {
		length, at := int64(le.Uint32(body[16:])), int64(le.Uint16(body[20:]))
		if at+length > int64(len(body)) {
			return fmt.Errorf("%w: a resident attribute of %d bytes", ErrDamaged, length)
		}
		a.resident, a.size = body[at:at+length], length
		return nil
	}
	if len(body) < 64 {
		return fmt.Errorf("%w: an attribute of %d bytes", ErrDamaged, len(body))
	}
	vcn, runsAt := int64(le.Uint64(body[16:])), int(le.Uint16(body[32:]))
	if vcn == 0 {
		a.size = int64(le.Uint64(body[48:]))
	}
	if vcn < 0 || a.size < 0 || runsAt > len(body) {
		return fmt.Errorf("%w: a stream of %d bytes from cluster %d", ErrDamaged, a.size, vcn)
	}
	return n.decodeRuns(a, vcn, body[runsAt:])
}

// decodeRuns reads a list of runs: each a byte with the lengths of two numbers,
// the clusters of the run, and how far it begins from the one before; no second
// number is a hole.
func (n *ntfs) decodeRuns(a *attribute, vcn int64, b []byte) error {
	lcn := int64(0)
	for len(b) > 0 && b[0] != 0 {
		lengthSize, offsetSize := int(b[0]&0xF), int(b[0]>>4)
		if lengthSize == 0 || lengthSize > 8 || offsetSize > 8 || 1+lengthSize+offsetSize > len(b) {
			return fmt.Errorf("%w: a list of runs is cut off", ErrDamaged)
		}
		r := run{vcn, hole, littleEndian(b[1 : 1+lengthSize])}
		if offsetSize > 0 {
			lcn += littleEndian(b[1+lengthSize : 1+lengthSize+offsetSize])
			r.lcn = lcn
			if lcn < 0 || r.count > n.clusters-lcn {
				return fmt.Errorf("%w: a run of %d clusters at cluster %d of %d", ErrDamaged, r.count, lcn, n.clusters)
			}
		}
		if r.count <= 0 || r.count > 1<<40 || vcn > 1<<40 {
			return fmt.Errorf("%w: a run of %d clusters", ErrDamaged, r.count)
		}
		a.runs = append(a.runs, r)
		vcn += r.count
		b = b[1+lengthSize+offsetSize:]
	}
	return nil
}

// littleEndian reads a signed number of up to eight bytes.
func littleEndian(b []byte) int64 {
	v := int64(int8(b[len(b)-1]))
	for i := len(b) - 2; i >= 0; i-- {
		v = v<<8 | int64(b[i])
	}
	return v
}

// readAttribute fills b from byte off of a stream.
func (n *ntfs) readAttribute(a attribute, b []byte, off int64) error {
	if off < 0 || off > a.size-int64(len(b)) {
		return fmt.Errorf("%w: a stream ends at byte %d", ErrDamaged, a.size)
	}
	if a.runs == nil {
		if len(a.resident) < len(b) {
			return fmt.Errorf("%w: a stream without runs", ErrDamaged)
		}
		copy(b, a.resident[off:])
		return nil
	}
	for len(b) > 0 {
		i, found := slices.BinarySearchFunc(a.runs, off/n.cluster, func(r run, vcn int64) int {
			switch {
			case r.vcn+r.count <= vcn:
				return -1
			case r.vcn > vcn:
				return 1
			}
			return 0
		})
		if !found {
			return fmt.Errorf("%w: nothing says where cluster %d of a stream lies", ErrDamaged, off/n.cluster)
		}
		r := a.runs[i]
		in := off - r.vcn*n.cluster
		part := b[:min(int64(len(b)), r.count*n.cluster-in)]
		if r.lcn == hole {
			clear(part)
		} else if err := readAt(n.r, part, r.lcn*n.cluster+in); err != nil {
			return err
		}
		b, off = b[len(part):], off+int64(len(part))
	}
	return nil
}

// content reads a short attribute whole.
func (n *ntfs) content(file int64, kind uint32, name string, limit int64) ([]byte, error) {
	a, err := n.attribute(file, kind, name)
	if err != nil {
		return nil, err
	}
	if a.size > limit {
		return nil, fmt.Errorf("%w: %d bytes of attribute %#x", ErrDamaged, a.size, kind)
	}
	b := make([]byte, a.size)
	return b, n.readAttribute(a, b, 0)
}

// entry is a name in a folder.
type entry struct {
	name   string
	number int64
}

// folder lists a folder. Its index is a tree, in the record and in blocks of
// clusters; as all of it is wanted, the blocks are read in any order.
func (n *ntfs) folder(file int64) ([]entry, error) {
	root, err := n.content(file, attrIndexRoot, "$I30", n.record)
	if err != nil {
		return nil, err
	}
	if len(root) < 32 {
		return nil, fmt.Errorf("%w: an index of %d bytes", ErrDamaged, len(root))
	}
	entries, err := indexEntries(nil, root[16:])
	if err != nil {
		return nil, err
	}
	block := int64(binary.LittleEndian.Uint32(root[8:]))
	if root[16+12]&1 == 0 { // all fits into the record
		return entries, nil
	}
	blocks, err := n.attribute(file, attrIndexAllocation, "$I30")
	if err != nil {
		return nil, err
	}
	if block < 512 || block > 64<<10 || blocks.size > maxFolder {
		return nil, fmt.Errorf("%w: an index of %d bytes in blocks of %d", ErrDamaged, blocks.size, block)
	}
	b := make([]byte, block)
	for at := int64(0); at+block <= blocks.size; at += block {
		if err := n.readAttribute(blocks, b, at); err != nil {
			return nil, err
		}
		if string(b[:4]) != "INDX" {
			continue // a block that is not in use
		}
		if err := unfix(b, 512); err != nil {
			return nil, err
		}
		if entries, err = indexEntries(entries, b[24:]); err != nil {
			return nil, err
		}
	}
	return entries, nil
}

// indexEntries reads the entries behind an index header.
func indexEntries(entries []entry, b []byte) ([]entry, error) {
	le := binary.LittleEndian
	at, end := int(le.Uint32(b)), int(le.Uint32(b[4:]))
	if end > len(b) || end < 0 || at < 16 {
		return nil, fmt.Errorf("%w: an index that ends at byte %d", ErrDamaged, end)
	}
	for at+16 <= end {
		e := b[at:end]
		length, flags := int(le.Uint16(e[8:])), e[12]
		if flags&2 != 0 {
			return entries, nil
		}
		if length < 16+0x42 || length > len(e) || 16+0x42+2*int(e[16+0x40]) > length {
			return nil, fmt.Errorf("%w: an index entry of %d bytes", ErrDamaged, length)
		}
		name := e[16+0x42:][:2*int(e[16+0x40])]
		entries = append(entries, entry{utf16String(name), int64(le.Uint64(e) & (1<<48 - 1))})
		at += length
	}
	return entries, nil
}

// utf16String reads little-endian UTF-16 up to the first zero.
func utf16String(b []byte) string {
	units := make([]uint16, 0, len(b)/2)
	for ; len(b) >= 2; b = b[2:] {
		u := binary.LittleEndian.Uint16(b)
		if u == 0 {
			break
		}
		units = append(units, u)
	}
	return string(utf16.Decode(units))
}
