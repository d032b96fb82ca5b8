package builds

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"unicode/utf16"
)

// A FAT32 volume written in one go, by Microsoft's FAT32 specification: files lie in
// one piece each, one after the other. Names have eight letters and three, or any length
// on a volume with long names.
const (
	fatSector       = 512
	fatReserved     = 32 // sectors before the first table
	fatTables       = 2
	fatEntry        = 32 // bytes of an entry of a folder
	fatFirstCluster = 2
	// fatLeast is the number of clusters from which on a volume is FAT32.
	fatLeast  = 65525
	fatEnd    = 0x0fffffff
	fatMedia  = 0xf8
	fatBackup = 6 // sector of the second boot sector
	fatInfo   = 1
	fatFolder = 0x10
	fatVolume = 0x08
	fatLong   = 0x0f
	fatDay    = 0x5821 // 1 January 2024: equal content gives equal bytes
	fatAlign  = 2048   // bytes: files begin at multiples of them, where discs can have them, too
)

// fatClusters are the lengths of clusters, in bytes, each with the most bytes of volumes that have it: small ones, so
// that small volumes are FAT32, and larger ones, so that tables stay short.
var fatClusters = []struct{ cluster, atMost int64 }{{512, 512 << 20}, {4 << 10, 64 << 30}, {32 << 10, 1 << 43}}

// fatOptions say how a volume is to be.
type fatOptions struct {
	label  string
	hidden uint32 // sectors before the volume
	room   int64  // bytes that are to be free, about
	long   bool   // names as they are
}

// fatFile is a file on its way onto a volume.
type fatFile struct {
	path string // with slashes
	size int64
	open func() (io.ReadCloser, error)
}

// inMemory is a file whose content is at hand.
func inMemory(path string, b []byte) fatFile { return read(path, bytes.NewReader(b), int64(len(b))) }

// read is a file whose content is read from somewhere.
func read(path string, from io.ReaderAt, size int64) fatFile {
	return fatFile{path, size, func() (io.ReadCloser, error) { return io.NopCloser(io.NewSectionReader(from, 0, size)), nil }}
}

// write writes the content at a place of w.
func (f *fatFile) write(w io.WriterAt, at int64) error {
	from, err := f.open()
	if err != nil {
		return err
	}
	defer from.Close()
	n, err := io.Copy(io.NewOffsetWriter(w, at), io.LimitReader(from, f.size))
	if err == nil && n < f.size {
		err = io.ErrUnexpectedEOF
	}
	return err
}

// fatNode is a file or folder with its place.
type fatNode struct {
	name     string
	file     *fatFile // nil for a folder
	children []*fatNode
	parent   *fatNode
	first    uint32 // cluster
	clusters uint32
}

// fatLayout is a volume that is planned.
type fatLayout struct {
	root       *fatNode
	order      []*fatNode // in the order of their clusters
	clusters   uint32     // up to the last that is in use
	used       uint32     // that are in use
	tableSize  uint32     // sectors of one table
	all        uint32     // clusters of the volume
	cluster    int64      // bytes of one
	dataSector uint32
	fatOptions
}

// planFAT lays files out on a volume that is just large enough, or as large as
// FAT32 has to be.
func planFAT(o fatOptions, files []fatFile) (*fatLayout, error) {
	l := &fatLayout{root: &fatNode{}, fatOptions: o}
	total := o.room
	for i := range files {
		if err := l.add(&files[i]); err != nil {
			return nil, err
		}
		total += files[i].size
	}
	for _, c := range fatClusters {
		if l.cluster = c.cluster; total <= c.atMost {
			break
		}
	}
	next := uint32(fatFirstCluster)
	var place func(n *fatNode)
	place = func(n *fatNode) {
		size := 3 * int64(fatEntry) // ".", ".." or the label, and an end
		for _, c := range n.children {
			size += int64(1+len(l.longName(c.name))) * fatEntry
		}
		if n.file != nil {
			size = n.file.size
			align := uint32(max(1, fatAlign/l.cluster))
			next = fatFirstCluster + (next-fatFirstCluster+align-1)/align*align
		}
		n.clusters = uint32((size + l.cluster - 1) / l.cluster)
		l.used += n.clusters
		if n.clusters > 0 {
			n.first = next
			next += n.clusters
		}
		l.order = append(l.order, n)
		for _, c := range n.children {
			place(c)
		}
	}
	place(l.root)
	l.clusters = next - fatFirstCluster
	l.all = max(l.clusters+64+uint32(o.room/l.cluster), fatLeast+1024)
	l.tableSize = (((l.all+fatFirstCluster)*4+fatSector-1)/fatSector + 1) &^ 1 // so that files begin at sectors of discs
	l.dataSector = fatReserved + fatTables*l.tableSize
	return l, nil
}

func (l *fatLayout) add(f *fatFile) error {
	if f.size > 0xffffffff {
		return fmt.Errorf("%s: %d bytes are too many for FAT32", f.path, f.size)
	}
	at := l.root
	parts := strings.Split(f.path, "/")
	for i, part := range parts {
		if _, err := shortName(part); err != nil && !l.long {
			return err
		}
		last := i == len(parts)-1
		n := slices.IndexFunc(at.children, func(c *fatNode) bool { return strings.EqualFold(c.name, part) })
		switch {
		case n >= 0 && last:
			return fmt.Errorf("%s is there twice", f.path)
		case n >= 0:
			at = at.children[n]
		default:
			c := &fatNode{name: part, parent: at}
			if last {
				c.file = f
			}
			at.children = append(at.children, c)
			at = c
		}
	}
	return nil
}

// sectors is the volume's length.
func (l *fatLayout) sectors() uint32 { return l.dataSector + l.all*uint32(l.cluster/fatSector) }

// write writes the volume at a place of w, which has zeros there.
func (l *fatLayout) write(w io.WriterAt, at int64) error {
	boot := l.bootSector()
	info := l.infoSector()
	for sector, b := range map[int64][]byte{0: boot, fatInfo: info, fatBackup: boot, fatBackup + fatInfo: info} {
		if _, err := w.WriteAt(b, at+sector*fatSector); err != nil {
			return err
		}
	}
	table := l.table()
	for i := range int64(fatTables) {
		if _, err := w.WriteAt(table, at+(fatReserved+i*int64(l.tableSize))*fatSector); err != nil {
			return err
		}
	}
	for _, n := range l.order {
		if n.clusters == 0 {
			continue
		}
		place := at + l.at(n)
		if n.file == nil {
			if _, err := w.WriteAt(l.folder(n), place); err != nil {
				return err
			}
			continue
		}
		if err := n.file.write(w, place); err != nil {
			return fmt.Errorf("%s: %w", n.file.path, err)
		}
	}
	return nil
}

// at is where a file or folder begins, from the beginning of the volume, in bytes.
func (l *fatLayout) at(n *fatNode) int64 {
	return int64(l.dataSector)*fatSector + int64(n.first-fatFirstCluster)*l.cluster
}

// bootSector is the volume's description (section "Boot Sector and BPB").
func (l *fatLayout) bootSector() []byte {
	b := make([]byte, fatSector)
	le := binary.LittleEndian
	copy(b, "\xeb\x58\x90JUGATE  ")
	le.PutUint16(b[11:], fatSector)
	b[13] = byte(l.cluster / fatSector)
	le.PutUint16(b[14:], fatReserved)
	b[16], b[21] = fatTables, fatMedia
	le.PutUint16(b[24:], 63)
	le.PutUint16(b[26:], 255)
	le.PutUint32(b[28:], l.hidden)
	le.PutUint32(b[32:], l.sectors())
	le.PutUint32(b[36:], l.tableSize)
	le.PutUint32(b[44:], fatFirstCluster) // the root folder's
	le.PutUint16(b[48:], fatInfo)
	le.PutUint16(b[50:], fatBackup)
	b[64], b[66] = 0x80, 0x29
	le.PutUint32(b[67:], 0x6a756761)
	copy(b[71:], fmt.Sprintf("%-11.11s", l.label))
	copy(b[82:], "FAT32   ")
	le.PutUint16(b[510:], 0xaa55)
	return b
}

func (l *fatLayout) infoSector() []byte {
	b := make([]byte, fatSector)
	le := binary.LittleEndian
	le.PutUint32(b[0:], 0x41615252)
	le.PutUint32(b[484:], 0x61417272)
	le.PutUint32(b[488:], l.all-l.used)
	le.PutUint32(b[492:], fatFirstCluster+l.clusters)
	le.PutUint32(b[508:], 0xaa550000)
	return b
}

func (l *fatLayout) table() []byte {
	b := make([]byte, (fatFirstCluster+l.clusters)*4)
	le := binary.LittleEndian
	le.PutUint32(b[0:], 0x0fffff00|fatMedia)
	le.PutUint32(b[4:], fatEnd)
	for _, n := range l.order {
		for i := range n.clusters {
			next := n.first + i + 1
			if i == n.clusters-1 {
				next = fatEnd
			}
			le.PutUint32(b[(n.first+i)*4:], next)
		}
	}
	return b
}

// folder is what a folder's clusters hold.
func (l *fatLayout) folder(n *fatNode) []byte {
	var b []byte
	if n == l.root {
		b = append(b, entryFAT(fmt.Sprintf("%-11.11s", l.label), fatVolume, 0, 0)...)
	} else {
		up := n.parent.first
		if n.parent == l.root {
			up = 0
		}
		b = append(b, entryFAT(".          ", fatFolder, n.first, 0)...)
		b = append(b, entryFAT("..         ", fatFolder, up, 0)...)
	}
	for i, c := range n.children {
		name, _ := shortName(c.name)
		if long := l.longName(c.name); long != nil {
			name = fmt.Sprintf("%07X~   ", i)
			b = append(b, longEntries(long, name)...)
		}
		if c.file == nil {
			b = append(b, entryFAT(name, fatFolder, c.first, 0)...)
		} else {
			b = append(b, entryFAT(name, 0x20, c.first, uint32(c.file.size))...)
		}
	}
	return b
}

// longUnits are the places of a name's UTF-16 units in an entry of a long name.
var longUnits = []int{1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30}

// longName is a name in the pieces that entries of long names have of it; nil if it needs none.
func (l *fatLayout) longName(name string) (pieces [][]uint16) {
	if _, err := shortName(name); !l.long || err == nil && name == strings.ToUpper(name) {
		return nil
	}
	for piece := range slices.Chunk(utf16.Encode([]rune(name)), len(longUnits)) {
		pieces = append(pieces, piece)
	}
	return pieces
}

// longEntries are the entries of a long name, which come before that of the short one.
func longEntries(pieces [][]uint16, short string) (b []byte) {
	sum := byte(0)
	for _, c := range []byte(short) {
		sum = sum>>1 | sum<<7
		sum += c
	}
	for i := len(pieces) - 1; i >= 0; i-- {
		e := make([]byte, fatEntry)
		if e[0], e[11], e[13] = byte(i+1), fatLong, sum; i == len(pieces)-1 {
			e[0] |= 0x40
		}
		for n, at := range longUnits {
			unit := uint16(0xffff)
			if n < len(pieces[i]) {
				unit = pieces[i][n]
			} else if n == len(pieces[i]) {
				unit = 0
			}
			binary.LittleEndian.PutUint16(e[at:], unit)
		}
		b = append(b, e...)
	}
	return b
}

func entryFAT(name string, attributes byte, first, size uint32) []byte {
	b := make([]byte, fatEntry)
	le := binary.LittleEndian
	copy(b, name)
	b[11] = attributes
	for _, at := range []int{16, 18, 24} { // made, read, written
		le.PutUint16(b[at:], fatDay)
	}
	le.PutUint16(b[20:], uint16(first>>16))
	le.PutUint16(b[26:], uint16(first))
	le.PutUint32(b[28:], size)
	return b
}

// shortName is a name as a folder has it: eight letters and three, padded.
func shortName(name string) (string, error) {
	base, ext := strings.TrimSuffix(name, path.Ext(name)), strings.TrimPrefix(path.Ext(name), ".")
	if base == "" || len(base) > 8 || len(ext) > 3 || strings.ContainsAny(base+ext, " .\"*+,/:;<=>?[\\]|") {
		return "", fmt.Errorf("%q is not a name of eight letters and three", name)
	}
	return fmt.Sprintf("%-8s%-3s", strings.ToUpper(base), strings.ToUpper(ext)), nil
}
