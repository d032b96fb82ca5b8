package volume

import (
	"encoding/binary"
	"fmt"
	"io"
	"slices"
)

// The files of ext2, ext3 and ext4, as far as it takes to look at a few of them: inodes,
// maps of blocks in both forms, folders, symbolic links, data inside the inode. (Kernel
// documentation, "ext4 Data Structures and Algorithms".)

// ExtFiles reads files of a volume.
type ExtFiles struct {
	f         *ext
	inodes    int64
	perGroup  int64 // inodes
	inodeSize int64
}

const (
	// ExtRoot is the number of the root folder.
	ExtRoot = 2

	extInlineData = 0x10000000 // inode flags
	extExtents    = 0x00080000
	extEncrypted  = 0x00000800

	incompatCompressed = 0x1

	extMaxFolder = 64 << 20 // bytes
	extMaxDepth  = 5
)

// ExtInode is a file, a folder or a symbolic link.
type ExtInode struct {
	Mode uint16 // type and permissions
	Size int64  // bytes

	e      *ExtFiles
	flags  uint32
	block  []byte // 60 bytes: the map, or the first of the data
	inside []byte // what follows of data inside the inode
}

// ExtEntry is a line of a folder.
type ExtEntry struct {
	Name  string
	Inode uint32
}

// OpenExtFiles reads what is needed to find files. Errors wrap ErrDamaged, or are r's.
func OpenExtFiles(r io.ReaderAt, size int64) (*ExtFiles, error) {
	f, err := readExt(r, size)
	if f == nil || err != nil {
		if err == nil {
			err = fmt.Errorf("ext4: %w: it has no superblock", ErrDamaged)
		}
		return nil, err
	}
	if f.incompat&incompatCompressed != 0 {
		return nil, fmt.Errorf("ext4: its files are compressed in a way that is not read here")
	}
	b := make([]byte, 1024)
	if err := readAt(r, b, 1024); err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	e := &ExtFiles{f: f, inodes: int64(le.Uint32(b[0:])), perGroup: int64(le.Uint32(b[40:])), inodeSize: 128}
	if le.Uint32(b[0x4C:]) > 0 {
		e.inodeSize = int64(le.Uint16(b[0x58:]))
	}
	if e.perGroup < 1 || e.inodeSize < 128 || e.inodeSize > f.block || !powerOfTwo(e.inodeSize) {
		return nil, fmt.Errorf("ext4: %w: inodes of %d bytes, %d in a group", ErrDamaged, e.inodeSize, e.perGroup)
	}
	return e, nil
}

// Inode reads an inode.
func (e *ExtFiles) Inode(number uint32) (*ExtInode, error) {
	n := int64(number)
	if n < 1 || n > e.inodes {
		return nil, fmt.Errorf("ext4: %w: there is no inode %d", ErrDamaged, n)
	}
	f, le := e.f, binary.LittleEndian
	g := (n - 1) / e.perGroup
	if g >= f.groups {
		return nil, fmt.Errorf("ext4: %w: inode %d is in no group", ErrDamaged, n)
	}
	d := make([]byte, f.descSize)
	if err := readAt(f.r, d, f.descriptorBlock(g)*f.block+g%(f.block/f.descSize)*f.descSize); err != nil {
		return nil, err
	}
	table := int64(le.Uint32(d[0x8:]))
	if f.descSize >= 64 {
		table |= int64(le.Uint32(d[0x28:])) << 32
	}
	if table < f.firstData || table >= f.blocks {
		return nil, fmt.Errorf("ext4: %w: the inodes of group %d are in block %d", ErrDamaged, g, table)
	}
	b := make([]byte, e.inodeSize)
	if err := readAt(f.r, b, table*f.block+(n-1)%e.perGroup*e.inodeSize); err != nil {
		return nil, err
	}
	i := &ExtInode{e: e, Mode: le.Uint16(b), Size: int64(le.Uint32(b[4:])) | int64(le.Uint32(b[108:]))<<32, flags: le.Uint32(b[32:]), block: b[40:100]}
	if i.Mode&0xF000 == 0x4000 && f.roCompat&roLargeFolders == 0 {
		i.Size &= 0xFFFFFFFF // older folders have an access list there
	}
	if i.Size < 0 {
		return nil, fmt.Errorf("ext4: %w: inode %d has %d bytes", ErrDamaged, n, i.Size)
	}
	if i.flags&extInlineData != 0 {
		i.inside = insideData(b)
	}
	return i, nil
}

// roLargeFolders says that sizes of folders have 64 bits.
const roLargeFolders = 0x2

// insideData finds the attribute system.data, which has what of data inside an inode does
// not fit into the place of the map.
func insideData(b []byte) []byte {
	le := binary.LittleEndian
	if len(b) <= 132 {
		return nil
	}
	at := 128 + int(le.Uint16(b[128:]))
	if at+4 > len(b) || le.Uint32(b[at:]) != 0xEA020000 {
		return nil
	}
	first := at + 4
	for at = first; at+16 <= len(b); {
		nameLen, index := int(b[at]), b[at+1]
		offset, size := int(le.Uint16(b[at+2:])), int(le.Uint32(b[at+8:]))
		if nameLen == 0 && index == 0 {
			return nil
		}
		if at+16+nameLen > len(b) {
			return nil
		}
		if index == 7 && string(b[at+16:at+16+nameLen]) == "data" && size >= 0 && size <= len(b) && first+offset+size <= len(b) {
			return b[first+offset : first+offset+size]
		}
		at += (16 + nameLen + 3) &^ 3
	}
	return nil
}

// IsFolder tells of a folder.
func (i *ExtInode) IsFolder() bool { return i.Mode&0xF000 == 0x4000 }

// IsFile tells of a regular file.
func (i *ExtInode) IsFile() bool { return i.Mode&0xF000 == 0x8000 }

// IsLink tells of a symbolic link.
func (i *ExtInode) IsLink() bool { return i.Mode&0xF000 == 0xA000 }

// Target is where a symbolic link leads.
func (i *ExtInode) Target() (string, error) {
	if i.Size > 4096 {
		return "", fmt.Errorf("ext4: %w: a link of %d bytes", ErrDamaged, i.Size)
	}
	if i.Size < int64(len(i.block)) && i.flags&(extExtents|extInlineData) == 0 {
		return string(i.block[:i.Size]), nil
	}
	b := make([]byte, i.Size)
	_, err := i.ReadAt(b, 0)
	return string(b), err
}

// ReadAt reads content. A hole is zeros.
func (i *ExtInode) ReadAt(b []byte, off int64) (n int, err error) {
	if off < 0 || off >= i.Size {
		return 0, io.EOF
	}
	if i.flags&extEncrypted != 0 {
		return 0, fmt.Errorf("ext4: it is encrypted")
	}
	short := int64(len(b)) > i.Size-off
	if short {
		b = b[:i.Size-off]
	}
	if i.flags&extInlineData != 0 {
		data := slices.Concat(i.block, i.inside)
		if off < int64(len(data)) {
			n = copy(b, data[off:])
		}
		clear(b[n:])
		n = len(b)
	}
	block := i.e.f.block
	for n < len(b) {
		at := off + int64(n)
		physical, err := i.locate(at / block)
		if err != nil {
			return n, err
		}
		part := b[n:min(len(b), n+int(block-at%block))]
		if physical == 0 {
			clear(part)
		} else if err := readAt(i.e.f.r, part, physical*block+at%block); err != nil {
			return n, err
		}
		n += len(part)
	}
	if short {
		return n, io.EOF
	}
	return n, nil
}

// locate finds the block that holds block number logical of the content; 0 is a hole.
func (i *ExtInode) locate(logical int64) (int64, error) {
	var physical int64
	var err error
	if i.flags&extExtents != 0 {
		physical, err = i.byExtents(logical)
	} else {
		physical, err = i.byMap(logical)
	}
	if err == nil && (physical < 0 || physical >= i.e.f.blocks) {
		err = fmt.Errorf("ext4: %w: a file leads to block %d of %d", ErrDamaged, physical, i.e.f.blocks)
	}
	return physical, err
}

func (i *ExtInode) byExtents(logical int64) (int64, error) {
	le := binary.LittleEndian
	node := i.block
	for range extMaxDepth + 1 {
		count, depth := int(le.Uint16(node[2:])), le.Uint16(node[6:])
		if le.Uint16(node) != 0xF30A || 12+12*count > len(node) {
			return 0, fmt.Errorf("ext4: %w: a tree of extents", ErrDamaged)
		}
		at := -1
		for k := range count {
			if int64(le.Uint32(node[12+12*k:])) <= logical {
				at = 12 + 12*k
			}
		}
		if at < 0 {
			return 0, nil
		}
		e := node[at:]
		first := int64(le.Uint32(e))
		if depth == 0 {
			length := int64(le.Uint16(e[4:]))
			if length > 32768 { // reserved, and never written
				return 0, nil
			}
			if logical >= first+length {
				return 0, nil
			}
			return int64(le.Uint32(e[8:])) | int64(le.Uint16(e[6:]))<<32 + logical - first, nil
		}
		next := int64(le.Uint32(e[4:])) | int64(le.Uint16(e[8:]))<<32
		if next <= 0 || next >= i.e.f.blocks {
			return 0, fmt.Errorf("ext4: %w: a tree of extents leads to block %d", ErrDamaged, next)
		}
		node = make([]byte, i.e.f.block)
		if err := readAt(i.e.f.r, node, next*i.e.f.block); err != nil {
			return 0, err
		}
	}
	return 0, fmt.Errorf("ext4: %w: a tree of extents is too deep", ErrDamaged)
}

// byMap goes by the older map: twelve blocks, then one, two and three levels of tables.
func (i *ExtInode) byMap(logical int64) (int64, error) {
	le := binary.LittleEndian
	if logical < 12 {
		return int64(le.Uint32(i.block[4*logical:])), nil
	}
	logical -= 12
	per := i.e.f.block / 4
	span := per // blocks that the tables of a level lead to
	for level := int64(1); level <= 3; level, span = level+1, span*per {
		if logical >= span {
			logical -= span
			continue
		}
		at := int64(le.Uint32(i.block[4*(11+level):]))
		for span > 1 && at != 0 {
			if at >= i.e.f.blocks {
				return 0, fmt.Errorf("ext4: %w: a map leads to block %d", ErrDamaged, at)
			}
			span /= per
			b := make([]byte, 4)
			if err := readAt(i.e.f.r, b, at*i.e.f.block+logical/span*4); err != nil {
				return 0, err
			}
			at, logical = int64(le.Uint32(b)), logical%span
		}
		return at, nil
	}
	return 0, fmt.Errorf("ext4: %w: a file is longer than its map can tell", ErrDamaged)
}

// Entries lists a folder, without itself and its parent.
func (i *ExtInode) Entries() ([]ExtEntry, error) {
	if i.Size > extMaxFolder {
		return nil, fmt.Errorf("ext4: %w: a folder of %d bytes", ErrDamaged, i.Size)
	}
	if i.flags&extInlineData != 0 { // behind the number of its parent, and again in the attribute
		return slices.Concat(entriesIn(i.block[4:]), entriesIn(i.inside)), nil
	}
	b := make([]byte, i.Size)
	if n, err := i.ReadAt(b, 0); n < len(b) {
		return nil, err
	}
	var all []ExtEntry
	for len(b) > 0 { // an index looks like entries that are not in use
		n := min(int64(len(b)), i.e.f.block)
		all = append(all, entriesIn(b[:n])...)
		b = b[n:]
	}
	return all, nil
}

func entriesIn(b []byte) (all []ExtEntry) {
	le := binary.LittleEndian
	for len(b) >= 8 {
		inode, length, nameLen := le.Uint32(b), int(le.Uint16(b[4:])), int(b[6])
		if length < 8 || length > len(b) || 8+nameLen > length {
			return all
		}
		if name := string(b[8 : 8+nameLen]); inode != 0 && name != "." && name != ".." && name != "" {
			all = append(all, ExtEntry{name, inode})
		}
		b = b[length:]
	}
	return all
}
