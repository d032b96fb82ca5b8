package builds

import (
	"encoding/binary"
	"fmt"
	"io"
	"slices"
	"strings"
)

// Images of optical media (ECMA-119, which is ISO 9660), written around a volume that is there already: their files are those of the
// FAT volume, at the same places. El Torito 1.0 names two programs: one for a BIOS, and the FAT volume itself for UEFI (UEFI 2.10,
// 13.3.2.1). Nothing of it is behind isoEnd, where the volume begins.
const (
	isoSector   = 2048
	isoPrimary  = 16 // sector of the first descriptor
	isoCatalog  = 19
	isoPathsLE  = 20
	isoPathsBE  = 21
	isoFolders  = 22
	isoPrograms = 64 // sector from which on programs for a BIOS lie
	isoEnd      = mediaStart * mediaSector / isoSector
)

// isoFile is a file of the FAT volume.
type isoFile struct {
	path  string // eight letters and three for each part
	start int64  // bytes, a multiple of isoSector
	size  int64
}

// isoNode is a folder on its way to a sector of its own.
type isoNode struct {
	name     string
	parent   *isoNode
	sector   uint32
	number   uint16 // in the table of paths
	folders  []*isoNode
	children []isoFile
}

// writeISO makes a disk of that many bytes one that is also an image of optical media, with these files. program is for a BIOS; it
// has none if that is nil.
func writeISO(to io.WriterAt, size int64, label string, files []isoFile, program []byte) error {
	root := &isoNode{number: 1, sector: isoFolders}
	root.parent = root
	all := []*isoNode{root}
	for _, f := range files {
		at := root
		parts := strings.Split(strings.ToUpper(f.path), "/")
		for _, name := range parts[:len(parts)-1] {
			i := slices.IndexFunc(at.folders, func(n *isoNode) bool { return n.name == name })
			if i < 0 {
				i = len(at.folders)
				n := &isoNode{name: name, parent: at, sector: uint32(isoFolders + len(all)), number: uint16(len(all) + 1)}
				at.folders, all = append(at.folders, n), append(all, n)
			}
			at = at.folders[i]
		}
		f.path = parts[len(parts)-1]
		at.children = append(at.children, f)
	}
	if isoFolders+len(all) > isoPrograms || len(program) > (isoEnd-isoPrograms)*isoSector {
		return fmt.Errorf("%d folders, or a program of %d bytes, are too much for the image", len(all), len(program))
	}
	pieces := map[int64][]byte{isoPrimary: isoVolume(size, label, root, all), isoPrimary + 1: isoBootRecord(), isoPrimary + 2: isoTerminator(), isoCatalog: isoBootCatalog(program != nil),
		isoPathsLE: isoPaths(all, binary.LittleEndian), isoPathsBE: isoPaths(all, binary.BigEndian)}
	for _, n := range all {
		folder := n.list()
		if len(folder) > isoSector {
			return fmt.Errorf("the folder %s has too many files for the image", n.name)
		}
		pieces[int64(n.sector)] = folder
	}
	if program != nil {
		pieces[isoPrograms] = withBootInformation(program)
	}
	for sector, b := range pieces {
		if _, err := to.WriteAt(b, sector*isoSector); err != nil {
			return err
		}
	}
	return nil
}

// both are a number as this standard has it: in both orders (7.3.3 and 7.2.3).
func both32(b []byte, n uint32) {
	binary.LittleEndian.PutUint32(b, n)
	binary.BigEndian.PutUint32(b[4:], n)
}

func both16(b []byte, n uint16) {
	binary.LittleEndian.PutUint16(b, n)
	binary.BigEndian.PutUint16(b[2:], n)
}

// isoVolume is the primary volume descriptor (8.4).
func isoVolume(size int64, label string, root *isoNode, all []*isoNode) []byte {
	b := make([]byte, isoSector)
	b[0], b[6] = 1, 1
	copy(b[1:], "CD001")
	for i := 8; i < 72; i++ {
		b[i] = ' '
	}
	copy(b[40:], label)
	both32(b[80:], uint32(size/isoSector))
	both16(b[120:], 1)
	both16(b[124:], 1)
	both16(b[128:], isoSector)
	both32(b[132:], uint32(len(isoPaths(all, binary.LittleEndian))))
	binary.LittleEndian.PutUint32(b[140:], isoPathsLE)
	binary.BigEndian.PutUint32(b[148:], isoPathsBE)
	copy(b[156:], isoRecord("\x00", root.sector, isoSector, true))
	for i := 190; i < 813; i++ {
		b[i] = ' '
	}
	for _, at := range []int{813, 830, 847, 864} { // dates that are not specified (8.4.26.1)
		copy(b[at:], "0000000000000000")
	}
	b[881] = 1
	return b
}

// isoTerminator ends the descriptors (8.3).
func isoTerminator() []byte {
	b := make([]byte, isoSector)
	b[0], b[6] = 255, 1
	copy(b[1:], "CD001")
	return b
}

// isoBootRecord names the boot catalogue (8.2; El Torito, figure 7).
func isoBootRecord() []byte {
	b := make([]byte, isoSector)
	b[6] = 1
	copy(b[1:], "CD001")
	copy(b[7:], "EL TORITO SPECIFICATION")
	binary.LittleEndian.PutUint32(b[71:], isoCatalog)
	return b
}

// Platforms of El Torito (section 2.1, and UEFI 2.10, 13.3.2.1).
const (
	forBIOS = 0
	forUEFI = 0xef
)

// isoBootCatalog names what is started (El Torito, section 2): for a BIOS four sectors of its program, which load the rest, and for
// UEFI the volume; where the number of sectors is 0, that goes to the end.
func isoBootCatalog(bios bool) []byte {
	b := make([]byte, isoSector)
	le := binary.LittleEndian
	entry := func(at int, sectors uint16, start uint32) {
		b[at] = 0x88 // it can be started, with no disk emulated
		le.PutUint16(b[at+6:], sectors)
		le.PutUint32(b[at+8:], start)
	}
	b[0], b[1] = 1, forUEFI
	if bios {
		b[1] = forBIOS
		entry(32, 4, isoPrograms)
		b[64], b[65] = 0x91, forUEFI
		le.PutUint16(b[66:], 1)
		entry(96, 0, isoEnd)
	} else {
		entry(32, 0, isoEnd)
	}
	b[30], b[31] = 0x55, 0xaa
	var sum uint16
	for i := 0; i < 32; i += 2 {
		sum += le.Uint16(b[i:])
	}
	le.PutUint16(b[28:], -sum)
	return b
}

// withBootInformation puts into a program where it lies, as its loader's tool leaves room for from byte 8 on: the sectors of the
// volume's descriptor and of the file, its length, and the sum of what is behind byte 64.
func withBootInformation(program []byte) []byte {
	b := make([]byte, (len(program)+3)&^3)
	copy(b, program)
	le := binary.LittleEndian
	var sum uint32
	for i := 64; i < len(b); i += 4 {
		sum += le.Uint32(b[i:])
	}
	for i, n := range []uint32{isoPrimary, isoPrograms, uint32(len(b)), sum} {
		le.PutUint32(b[8+4*i:], n)
	}
	return b
}

// isoPaths is the table of paths (9.4).
func isoPaths(all []*isoNode, order binary.AppendByteOrder) (b []byte) {
	for _, n := range all {
		name := n.name
		if name == "" {
			name = "\x00"
		}
		b = append(b, byte(len(name)), 0)
		b = order.AppendUint32(b, n.sector)
		b = order.AppendUint16(b, n.parent.number)
		if b = append(b, name...); len(name)%2 != 0 {
			b = append(b, 0)
		}
	}
	return b
}

// list is what the sector of a folder holds: itself, the one above, and what is in it, by name (9.3).
func (n *isoNode) list() []byte {
	b := append(isoRecord("\x00", n.sector, isoSector, true), isoRecord("\x01", n.parent.sector, isoSector, true)...)
	type child struct {
		name   string
		record []byte
	}
	var all []child
	for _, f := range n.folders {
		all = append(all, child{f.name, isoRecord(f.name, f.sector, isoSector, true)})
	}
	for _, f := range n.children {
		name := f.path
		if !strings.Contains(name, ".") {
			name += "."
		}
		all = append(all, child{name, isoRecord(name+";1", uint32(f.start/isoSector), uint32(f.size), false)})
	}
	slices.SortFunc(all, func(a, b child) int { return strings.Compare(a.name, b.name) })
	for _, c := range all {
		b = append(b, c.record...)
	}
	return b
}

// isoRecord is a record of a folder (9.1).
func isoRecord(name string, sector, size uint32, folder bool) []byte {
	length := 33 + len(name)
	length += length % 2
	b := make([]byte, length)
	b[0] = byte(length)
	both32(b[2:], sector)
	both32(b[10:], size)
	if folder {
		b[25] = 2
	}
	both16(b[28:], 1)
	b[32] = byte(len(name))
	copy(b[33:], name)
	return b
}
