package archive

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"path"
	"unicode/utf16"
)

// UDF, as ECMA-167 lays it out: an anchor in sector 256 names the volume's
// descriptors; they say where the partition begins and where its file set is; that
// names the root folder. Files are described by entries, folders are files whose
// content is a list of identifiers. Numbers are little-endian.
const (
	udfAnchor    = 256 // sector, ECMA-167 3/8.4.2.1
	tagAnchor    = 2
	tagPartition = 5
	tagLogical   = 6
	tagEnd       = 8
	tagFileSet   = 256
	tagFileID    = 257
	tagFile      = 261
	tagExtended  = 266

	udfFolder    = 4 // file types, 4/14.6.6
	udfPlainFile = 5

	udfDeleted = 4 // of an identifier's characteristics, 4/14.4.3
	udfParent  = 8

	udfDepth     = 64
	udfMaxFolder = 16 << 20 // bytes of a folder's list
	udfMaxPieces = 1 << 16  // of a file
)

// isUDF looks for the descriptor "NSR02" or "NSR03" in the volume recognition area.
func isUDF(head []byte) bool {
	for at := 16*sector + 1; at+5 <= len(head); at += sector {
		if bytes.HasPrefix(head[at:], []byte("NSR0")) {
			return true
		}
	}
	return false
}

type udfVolume struct {
	r         io.ReaderAt
	size      int64
	partition int64 // first byte
	out       *output
}

func (o *output) udf(r io.ReaderAt, size int64) error {
	v := &udfVolume{r: r, size: size, out: o}
	root, err := v.open()
	if err == nil {
		err = v.folder(root, ".", 0)
	}
	if err != nil && !errors.Is(err, ErrTooMuch) && !errors.Is(err, ErrDamaged) {
		err = fmt.Errorf("%w: UDF: %w", ErrDamaged, err)
	}
	return err
}

// descriptor reads a sector and checks that it is a descriptor (3/7.2).
func (v *udfVolume) descriptor(at int64) (tag int, b []byte, err error) {
	b = make([]byte, sector)
	if _, err := v.r.ReadAt(b, at); err != nil {
		return 0, nil, fmt.Errorf("no descriptor at byte %d", at)
	}
	var sum byte
	for i, c := range b[:16] {
		if i != 4 {
			sum += c
		}
	}
	if sum != b[4] {
		return 0, nil, fmt.Errorf("the descriptor at byte %d has a wrong checksum", at)
	}
	return int(binary.LittleEndian.Uint16(b)), b, nil
}

// open finds the root folder's entry.
func (v *udfVolume) open() (root int64, err error) {
	tag, anchor, err := v.descriptor(udfAnchor * sector)
	if err != nil || tag != tagAnchor {
		return 0, errors.Join(errors.New("no anchor in sector 256"), err)
	}
	le := binary.LittleEndian
	length, first := int64(le.Uint32(anchor[16:])), int64(le.Uint32(anchor[20:]))
	fileSet := int64(-1)
	for i := int64(0); i < min(length/sector, 64); i++ {
		tag, b, err := v.descriptor((first + i) * sector)
		if err != nil || tag == tagEnd {
			break
		}
		switch tag {
		case tagPartition:
			v.partition = int64(le.Uint32(b[188:])) * sector
		case tagLogical:
			if le.Uint32(b[212:]) != sector {
				return 0, fmt.Errorf("blocks of %d bytes", le.Uint32(b[212:]))
			}
			if b[440] != 1 {
				return 0, errors.New("a kind of partition (virtual, sparable or metadata) that is not read here")
			}
			fileSet = int64(le.Uint32(b[252:]))
		}
	}
	if v.partition == 0 || fileSet < 0 {
		return 0, errors.New("no partition with a file set")
	}
	tag, b, err := v.descriptor(v.partition + fileSet*sector)
	if err != nil || tag != tagFileSet {
		return 0, errors.Join(errors.New("no file set"), err)
	}
	return int64(le.Uint32(b[404:])), nil
}

// udfFile is a file's kind, and its bytes.
type udfFile struct {
	kind byte
	io.Reader
	size int64
}

// entry reads the description of a file, in a block of the partition (4/14.9, 4/14.17).
func (v *udfVolume) entry(block int64) (*udfFile, error) {
	tag, b, err := v.descriptor(v.partition + block*sector)
	if err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	lists := 168
	switch tag {
	case tagFile:
	case tagExtended:
		lists = 208
	default:
		return nil, fmt.Errorf("no file at block %d", block)
	}
	f := &udfFile{kind: b[27], size: int64(le.Uint64(b[56:]))}
	from := int64(lists) + 8 + int64(le.Uint32(b[lists:]))
	to := from + int64(le.Uint32(b[lists+4:]))
	if f.size < 0 || from > sector || to < from || to > sector {
		return nil, fmt.Errorf("the file at block %d makes no sense", block)
	}
	pieces := b[from:to]
	step := 8
	switch b[34] & 7 {
	case 0:
	case 1:
		step = 16
	case 3: // the bytes themselves
		f.Reader = io.LimitReader(bytes.NewReader(pieces), f.size)
		return f, nil
	default:
		return nil, fmt.Errorf("the file at block %d is laid out in a way that is not read here", block)
	}
	f.Reader, err = v.pieces(pieces, step, f.size)
	return f, err
}

// pieces joins the extents of a file (4/14.14).
func (v *udfVolume) pieces(list []byte, step int, size int64) (io.Reader, error) {
	var all []io.Reader
	le := binary.LittleEndian
	left := size
	for n := 0; len(list) >= step && left > 0; n++ {
		length, block := int64(le.Uint32(list)), int64(le.Uint32(list[4:]))
		kind := length >> 30
		length &= 1<<30 - 1
		list = list[step:]
		if kind == 3 { // more of the list is elsewhere
			more := make([]byte, sector)
			if _, err := v.r.ReadAt(more, v.partition+block*sector); err != nil || n >= udfMaxPieces {
				return nil, errors.New("the list of a file's pieces is cut off")
			}
			list = more[24 : 24+min(int64(le.Uint32(more[20:])), sector-24)]
			continue
		}
		if length == 0 || n >= udfMaxPieces {
			break
		}
		length = min(length, left)
		left -= length
		if kind == 0 {
			all = append(all, io.NewSectionReader(v.r, v.partition+block*sector, length))
		} else { // not recorded: zeros
			all = append(all, io.LimitReader(zeros{}, length))
		}
	}
	return &exactly{r: io.MultiReader(all...), left: size}, nil
}

type zeros struct{}

func (zeros) Read(b []byte) (int, error) { clear(b); return len(b), nil }

// folder takes what is in a folder.
func (v *udfVolume) folder(block int64, name string, depth int) error {
	f, err := v.entry(block)
	if err != nil {
		return err
	}
	if f.kind != udfFolder || f.size > udfMaxFolder || depth > udfDepth {
		return fmt.Errorf("%s is not a folder that can be read", name)
	}
	list, err := io.ReadAll(f)
	if err != nil {
		return err
	}
	le := binary.LittleEndian
	for len(list) >= 38 && le.Uint16(list) == tagFileID {
		length := 38 + int(le.Uint16(list[36:])) + int(list[19])
		if length > len(list) {
			return fmt.Errorf("the list of %s is cut off", name)
		}
		id := list[length-int(list[19]) : length]
		flags, at := list[18], int64(le.Uint32(list[24:]))
		list = list[min((length+3)&^3, len(list)):]
		if flags&(udfDeleted|udfParent) != 0 {
			continue
		}
		if err := v.take(at, path.Join(name, udfName(id)), depth); err != nil {
			return err
		}
	}
	return nil
}

func (v *udfVolume) take(block int64, name string, depth int) error {
	f, err := v.entry(block)
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	switch f.kind {
	case udfFolder:
		if err := v.out.folder(name); err != nil {
			return err
		}
		return v.folder(block, name, depth+1)
	case udfPlainFile:
		return v.out.file(name, f)
	}
	v.out.skip(name, "a link or a device")
	return nil
}

// udfName reads a name: one byte that says how many bits a character has, then the
// characters (OSTA compressed Unicode).
func udfName(b []byte) string {
	if len(b) == 0 {
		return ""
	}
	if b[0] != 16 {
		var s []rune
		for _, c := range b[1:] {
			s = append(s, rune(c))
		}
		return string(s)
	}
	var units []uint16
	for i := 1; i+1 < len(b); i += 2 {
		units = append(units, binary.BigEndian.Uint16(b[i:]))
	}
	return string(utf16.Decode(units))
}
