package volume

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
)

// Resize makes the file system of a volume fit its partition, which has to bytes
// now and had from bytes where it was made, and puts in place what lies at a
// partition's end. It tells whether the file system has another size now: NTFS is
// resized, others keep the size they have. Nothing in use moves, so a partition
// must not become shorter than Volume.Needs.
func Resize(v ReadWriterAt, from, to int64) (resized bool, err error) {
	b, err := head(v, to, 0, 2048)
	switch {
	case b == nil || err != nil:
		return false, err
	case string(b[3:11]) == "NTFS    " && binary.LittleEndian.Uint16(b[510:]) == 0xAA55:
		if resized, err = resizeNTFS(v, b[:512], from, to); err != nil {
			err = fmt.Errorf("NTFS: %w", err)
		}
		return resized, err
	case from != to && (string(b[1024:1028]) == "H+\x00\x04" || string(b[1024:1028]) == "HX\x00\x05"):
		return false, writeBack(v, b[1024:1536], to-1024) // the alternate header
	}
	return false, nil
}

func resizeNTFS(v ReadWriterAt, boot []byte, from, to int64) (bool, error) {
	n, total, err := ntfsGeometry(v, boot, math.MaxInt64)
	if err != nil {
		return false, err
	}
	sectors := total / n.sector
	if from != to {
		r := &ntfsResize{ntfs: n, w: v}
		wanted := to/n.sector - 1 // the last one is for the backup
		r.clusters = wanted * n.sector / n.cluster
		switch err := r.run(); {
		case err == nil:
			sectors = wanted
		case !errors.Is(err, errNoRoom):
			return false, err
		}
	}
	resized := sectors != total/n.sector
	boot = make([]byte, n.sector)
	if err := readAt(v, boot, 0); err != nil {
		return resized, err
	}
	binary.LittleEndian.PutUint64(boot[0x28:], uint64(sectors))
	if (sectors+1)*n.sector > to {
		return resized, nil // it always filled its partition to the end, and has no backup
	}
	return resized, errors.Join(writeBack(v, boot, 0), writeBack(v, boot, sectors*n.sector))
}

// errNoRoom says that a file system is laid out in a way in which it cannot be
// resized here; it is left as it is.
var errNoRoom = errors.New("no room to resize")

// ntfsResize changes the three things that know how many clusters there are:
// $Bitmap, the empty file $Bad that stands for bad clusters, and the boot sector.
type ntfsResize struct {
	*ntfs
	w        io.WriterAt
	clusters int64 // as it is to be; ntfs.clusters is what it was
}

const fileBadClusters = 8

func (r *ntfsResize) run() error {
	allocated, err := r.attribute(fileBitmap, attrData, "")
	if err != nil {
		return err
	}
	old := r.ntfs.clusters
	length := (r.clusters + 63) / 64 * 8 // bytes, in units of eight
	extra := int64(0)                    // clusters that a longer $Bitmap takes, the first of the new ones
	has := int64(0)
	for _, run := range allocated.runs {
		has += run.count
	}
	shortens := r.clusters < old
	if last, err := r.lastUsed(allocated); err != nil {
		return err
	} else if last >= r.clusters {
		return fmt.Errorf("cluster %d of %d is in use, so it cannot be cut to %d", last, old, r.clusters)
	}
	if need := (length + r.cluster - 1) / r.cluster; need > has && !(shortens && allocated.runs == nil) {
		extra = need - has
	}
	if extra > max(r.clusters-old, 0) {
		return errNoRoom
	}
	r.ntfs.clusters = max(old, r.clusters)
	defer func() { r.ntfs.clusters = old }()
	err = r.change(fileBitmap, "", func(a *attribute) error {
		if extra > 0 {
			a.runs = append(a.runs, run{has, old, extra})
		} else if a.runs == nil {
			if length > int64(len(a.resident)) {
				return errNoRoom
			}
			a.resident = a.resident[:length]
			r.markBits(a.resident, 0, r.clusters, old, 0)
		}
		a.size = length
		return nil
	})
	if err != nil {
		return err
	}
	err = r.change(fileBadClusters, "$Bad", func(a *attribute) error {
		grown := r.clusters - old
		if last := len(a.runs) - 1; last >= 0 && a.runs[last].lcn == hole && a.runs[last].count+grown > 0 {
			a.runs[last].count += grown
		} else if last >= 0 && grown > 0 {
			a.runs = append(a.runs, run{a.runs[last].vcn + a.runs[last].count, hole, grown})
		} else {
			return errNoRoom
		}
		a.size = r.clusters * r.cluster
		return nil
	})
	if err != nil {
		return err
	}
	if allocated.runs == nil && !shortens { // it moved out of its record
		now, err := r.attribute(fileBitmap, attrData, "")
		if err != nil {
			return err
		}
		if err := r.writeAttribute(now, allocated.resident, 0); err != nil {
			return err
		}
	}
	return r.mark(min(old, r.clusters), old, extra, length)
}

// mark writes the end of $Bitmap: the new clusters are free but for the extra
// ones, and the bits behind the last cluster are set.
func (r *ntfsResize) mark(from, old, extra, length int64) error {
	allocated, err := r.attribute(fileBitmap, attrData, "")
	if err != nil || allocated.runs == nil {
		return err
	}
	b := make([]byte, bitmapPiece)
	for at := from / 8; at < length; at += int64(len(b)) {
		b = b[:min(int64(len(b)), length-at)]
		if at == from/8 { // the first byte has bits of clusters that stay
			if err := r.readAttribute(allocated, b[:1], at); err != nil {
				return err
			}
		}
		r.markBits(b, at, from, old, extra)
		if err := r.writeAttribute(allocated, b, at); err != nil {
			return err
		}
	}
	return nil
}

// markBits sets the bits of clusters from that number on in b, which is $Bitmap
// from byte at on.
func (r *ntfsResize) markBits(b []byte, at, from, old, extra int64) {
	for i := range b {
		for bit := range int64(8) {
			c := (at+int64(i))*8 + bit
			switch {
			case c < from:
			case c >= r.clusters, c >= old && c < old+extra:
				b[i] |= 1 << bit
			default:
				b[i] &^= 1 << bit
			}
		}
	}
}

// change gives an attribute of a file other runs and another size, in its record
// and in the mirror of the first records.
func (r *ntfsResize) change(file int64, name string, edit func(a *attribute) error) error {
	record, err := r.fileRecord(file)
	if err != nil {
		return err
	}
	own, err := pieces(record)
	if err != nil {
		return err
	}
	if slices.ContainsFunc(own, func(p piece) bool { return p.kind == attrList }) {
		return errNoRoom
	}
	i := slices.IndexFunc(own, func(p piece) bool { return p.kind == attrData && p.name == name })
	if i < 0 {
		return errNoRoom
	}
	var a attribute
	if err := r.extend(&a, own[i].body); err != nil {
		return err
	}
	body := own[i].body
	if body[8] != 0 && (len(a.runs) == 0 || binary.LittleEndian.Uint16(body[32:]) < 64) {
		return errNoRoom
	}
	if err := edit(&a); err != nil {
		return err
	}
	switch {
	case a.runs == nil:
		body = resident(body, a)
	case body[8] == 0:
		body = r.nonResident(movedOut(body), a)
	default:
		body = r.nonResident(body, a)
	}
	record, err = spliced(record, own[i].body, body)
	if err != nil {
		return err
	}
	return r.writeRecord(file, record)
}

// resident is an attribute with another value in its record.
func resident(was []byte, a attribute) []byte {
	le := binary.LittleEndian
	body := append(slices.Clone(was[:le.Uint16(was[20:])]), a.resident...)
	for len(body)%8 != 0 {
		body = append(body, 0)
	}
	le.PutUint32(body[4:], uint32(len(body)))
	le.PutUint32(body[16:], uint32(len(a.resident)))
	return body
}

// movedOut is the header for runs of an attribute without a name whose value lay
// in its record.
func movedOut(was []byte) []byte {
	le := binary.LittleEndian
	body := make([]byte, 64)
	copy(body, was[:16])
	body[8] = 1
	le.PutUint16(body[10:], 64) // where a name would be
	le.PutUint16(body[32:], 64)
	return body
}

// nonResident is the attribute's header with new sizes, and its runs.
func (r *ntfsResize) nonResident(was []byte, a attribute) []byte {
	le := binary.LittleEndian
	runsAt := int(le.Uint16(was[32:]))
	body := append(slices.Clone(was[:runsAt]), encodeRuns(a.runs)...)
	for len(body)%8 != 0 {
		body = append(body, 0)
	}
	last := a.runs[len(a.runs)-1]
	clusters := last.vcn + last.count
	le.PutUint32(body[4:], uint32(len(body)))
	le.PutUint64(body[24:], uint64(clusters-1))
	le.PutUint64(body[40:], uint64(clusters*r.cluster))
	if initialized := le.Uint64(was[56:]); initialized == le.Uint64(was[48:]) || initialized > uint64(a.size) {
		le.PutUint64(body[56:], uint64(a.size))
	}
	le.PutUint64(body[48:], uint64(a.size))
	return body
}

// spliced is a record with one attribute, which is a part of it, replaced.
func spliced(record, was, body []byte) ([]byte, error) {
	le := binary.LittleEndian
	used := int(le.Uint32(record[0x18:]))
	at := len(record) - cap(was) // was is a slice of record
	if at < 0 || at+len(was) > used || used > len(record) || used-len(was)+len(body) > len(record) {
		return nil, errNoRoom
	}
	changed := make([]byte, 0, len(record))
	changed = append(changed, record[:at]...)
	changed = append(changed, body...)
	changed = append(changed, record[at+len(was):used]...)
	le.PutUint32(changed[0x18:], uint32(len(changed)))
	return append(changed, make([]byte, len(record)-len(changed))...), nil
}

// encodeRuns is the reverse of decodeRuns.
func encodeRuns(runs []run) []byte {
	var b []byte
	lcn := int64(0)
	for _, r := range runs {
		count, offset := shortest(r.count), []byte(nil)
		if r.lcn != hole {
			offset = shortest(r.lcn - lcn)
			lcn = r.lcn
		}
		b = append(b, byte(len(offset)<<4|len(count)))
		b = append(append(b, count...), offset...)
	}
	return append(b, 0)
}

// shortest is a signed number in as few little-endian bytes as hold it.
func shortest(v int64) []byte {
	b := binary.LittleEndian.AppendUint64(nil, uint64(v))
	n := 8
	for n > 1 && littleEndian(b[:n-1]) == v {
		n--
	}
	return b[:n]
}

// writeRecord puts the fixups in and writes the record, and its mirror if it has one.
func (r *ntfsResize) writeRecord(file int64, record []byte) error {
	fix(record, 512)
	if err := r.writeAttribute(r.mft, record, file*r.record); err != nil {
		return err
	}
	mirror, err := r.attribute(1, attrData, "")
	if err != nil || (file+1)*r.record > mirror.size {
		return err
	}
	return r.writeAttribute(mirror, record, file*r.record)
}

// fix is the reverse of unfix: it counts on, and puts the number at the end of
// every stretch.
func fix(b []byte, stretch int) {
	le := binary.LittleEndian
	at, count := int(le.Uint16(b[4:])), int(le.Uint16(b[6:]))
	number := le.Uint16(b[at:]) + 1
	if number == 0 || number == 0xFFFF {
		number = 1
	}
	le.PutUint16(b[at:], number)
	for i := 1; i < count; i++ {
		end := b[i*stretch-2 : i*stretch]
		copy(b[at+2*i:at+2*i+2], end)
		le.PutUint16(end, number)
	}
}

// writeAttribute writes b at byte off of a stream, where it has clusters already.
func (r *ntfsResize) writeAttribute(a attribute, b []byte, off int64) error {
	for len(b) > 0 {
		i := slices.IndexFunc(a.runs, func(r2 run) bool {
			return off/r.cluster >= r2.vcn && off/r.cluster < r2.vcn+r2.count
		})
		if i < 0 || a.runs[i].lcn == hole {
			return fmt.Errorf("%w: nothing says where cluster %d of a stream lies", ErrDamaged, off/r.cluster)
		}
		in := off - a.runs[i].vcn*r.cluster
		part := b[:min(int64(len(b)), a.runs[i].count*r.cluster-in)]
		if _, err := r.w.WriteAt(part, a.runs[i].lcn*r.cluster+in); err != nil {
			return err
		}
		b, off = b[len(part):], off+int64(len(part))
	}
	return nil
}

// lastUsed is the number of the last cluster in use.
func (n *ntfs) lastUsed(allocated attribute) (int64, error) {
	b := make([]byte, bitmapPiece)
	for end := (n.clusters + 7) / 8; end > 0; {
		start := max(end-int64(len(b)), 0)
		part := b[:end-start]
		if err := n.readAttribute(allocated, part, start); err != nil {
			return 0, err
		}
		for i := len(part) - 1; i >= 0; i-- {
			for bit := int64(7); bit >= 0; bit-- {
				if c := (start+int64(i))*8 + bit; part[i]&(1<<bit) != 0 && c < n.clusters {
					return c, nil
				}
			}
		}
		end = start
	}
	return 0, nil
}
