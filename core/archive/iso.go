package archive

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"path"
	"strings"
	"unicode/utf16"
)

// ISO 9660 (ECMA-119): descriptors from sector 16 on, each with the record of its
// root folder; folders are lists of records. Names are short there. Longer ones are
// in the Rock Ridge entries behind a record, or in a second tree of folders (Joliet),
// which a supplementary descriptor names.
const (
	isoPrimary       = 1
	isoSupplementary = 2
	isoEnd           = 255

	isoRecord   = 33 // bytes of a record before the name
	isoFolder   = 2  // flags of a record, 9.1.6
	isoMultiple = 0x80

	isoDepth     = 64
	isoMaxFolder = 16 << 20 // bytes of a folder's list
	isoMaxPieces = 1 << 12  // of a file
)

// isoVolume is one tree of folders of an image.
type isoVolume struct {
	r      io.ReaderAt
	out    *output
	joliet bool // names are of 16-bit characters
	ridge  bool // names are in the entries of Rock Ridge
	skip   int  // bytes before those entries
}

// isoEntry is a record that was read.
type isoEntry struct {
	name   string
	flags  byte
	start  int64 // bytes
	length int64
	rest   []byte // Rock Ridge
	more   *isoEntry
}

func (o *output) iso(r io.ReaderAt) error {
	v := &isoVolume{r: r, out: o}
	var primary, joliet *isoEntry
	for n := int64(16); n < 16+64; n++ {
		b := make([]byte, sector)
		if _, err := r.ReadAt(b, n*sector); err != nil || string(b[1:6]) != "CD001" || b[0] == isoEnd {
			break
		}
		root, _, err := v.record(b[156 : 156+34])
		if err != nil {
			return err
		}
		if b[0] == isoPrimary && primary == nil {
			primary = root
		}
		if escape := string(b[88:91]); b[0] == isoSupplementary && (escape == "%/@" || escape == "%/C" || escape == "%/E") {
			joliet = root
		}
	}
	if primary == nil {
		return fmt.Errorf("%w: no primary volume descriptor", ErrDamaged)
	}
	if err := v.lookForRidge(primary); err != nil {
		return err
	}
	root := primary
	if !v.ridge && joliet != nil {
		v.joliet, root = true, joliet
	}
	return v.folder(root, ".", 0)
}

// lookForRidge reads the root's own record: the system use sharing protocol begins
// there with an entry "SP".
func (v *isoVolume) lookForRidge(root *isoEntry) error {
	b := make([]byte, sector)
	if _, err := v.r.ReadAt(b, root.start); err != nil {
		return fmt.Errorf("%w: the root folder is cut off", ErrDamaged)
	}
	self, _, err := v.record(b)
	if err != nil {
		return err
	}
	if len(self.rest) >= 7 && string(self.rest[:2]) == "SP" && self.rest[4] == 0xbe && self.rest[5] == 0xef {
		v.ridge, v.skip = true, int(self.rest[6])
	}
	return nil
}

// record reads one record and tells its length; 0 says that the sector has no more.
func (v *isoVolume) record(b []byte) (*isoEntry, int, error) {
	if len(b) == 0 || b[0] == 0 {
		return nil, 0, nil
	}
	length := int(b[0])
	if length < isoRecord+1 || length > len(b) || isoRecord+int(b[32]) > length {
		return nil, 0, fmt.Errorf("%w: a folder's record of %d bytes", ErrDamaged, length)
	}
	le := binary.LittleEndian
	e := &isoEntry{flags: b[25], start: (int64(le.Uint32(b[2:])) + int64(b[1])) * sector, length: int64(le.Uint32(b[10:]))}
	name := b[isoRecord : isoRecord+int(b[32])]
	e.rest = b[min(length, isoRecord+(len(name)|1)):length]
	switch {
	case len(name) == 1 && name[0] <= 1:
		e.name = [2]string{".", ".."}[name[0]]
		return e, length, nil
	case v.joliet:
		var units []uint16
		for i := 0; i+1 < len(name); i += 2 {
			units = append(units, binary.BigEndian.Uint16(name[i:]))
		}
		e.name = string(utf16.Decode(units))
	default:
		e.name = string(name)
	}
	e.name, _, _ = strings.Cut(e.name, ";")
	e.name = strings.TrimSuffix(e.name, ".")
	if v.ridge {
		if long := v.ridgeName(e.rest); long != "" {
			e.name = long
		}
	}
	return e, length, nil
}

// ridgeName joins the entries "NM", which may go on elsewhere ("CE").
func (v *isoVolume) ridgeName(b []byte) string {
	var name bytes.Buffer
	b = b[min(v.skip, len(b)):]
	for range 32 {
		var next []byte
		for len(b) >= 4 && int(b[2]) >= 4 && int(b[2]) <= len(b) {
			entry := b[:b[2]]
			b = b[b[2]:]
			switch kind := string(entry[:2]); {
			case kind == "NM" && len(entry) > 5:
				name.Write(entry[5:])
			case kind == "CE" && len(entry) >= 28:
				le := binary.LittleEndian
				next = make([]byte, min(le.Uint32(entry[20:]), sector))
				if _, err := v.r.ReadAt(next, int64(le.Uint32(entry[4:]))*sector+int64(le.Uint32(entry[12:]))); err != nil {
					next = nil
				}
			}
		}
		if b = next; b == nil {
			break
		}
	}
	return name.String()
}

// folder takes what is in a folder.
func (v *isoVolume) folder(f *isoEntry, name string, depth int) error {
	if f.length > isoMaxFolder || depth > isoDepth {
		return fmt.Errorf("%w: the folder %s is too large or too deep", ErrDamaged, name)
	}
	list := make([]byte, f.length)
	if _, err := v.r.ReadAt(list, f.start); err != nil {
		return fmt.Errorf("%w: the folder %s is cut off", ErrDamaged, name)
	}
	var first *isoEntry // of a file in several pieces
	pieces := 0
	for at := 0; at < len(list); {
		e, length, err := v.record(list[at:min(len(list), (at/sector+1)*sector)])
		if err != nil {
			return err
		}
		if length == 0 { // records do not cross sectors
			at = (at/sector + 1) * sector
			continue
		}
		at += length
		switch {
		case e.name == "." || e.name == "..":
			continue
		case first != nil:
			last := first
			for last.more != nil {
				last = last.more
			}
			last.more = e
		default:
			first, pieces = e, 0
		}
		if pieces++; e.flags&isoMultiple != 0 && pieces < isoMaxPieces {
			continue
		}
		whole := first
		first = nil
		if err := v.take(whole, path.Join(name, whole.name), depth); err != nil {
			return err
		}
	}
	return nil
}

func (v *isoVolume) take(e *isoEntry, name string, depth int) error {
	if e.flags&isoFolder != 0 {
		if err := v.out.folder(name); err != nil {
			return err
		}
		return v.folder(e, name, depth+1)
	}
	var all []io.Reader
	var size int64
	for p := e; p != nil; p = p.more {
		all = append(all, io.NewSectionReader(v.r, p.start, p.length))
		size += p.length
	}
	return v.out.file(name, &exactly{r: io.MultiReader(all...), left: size})
}
