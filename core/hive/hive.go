// Package hive reads and writes the settings database of Windows, file by file: the registry's
// format "regf", version 1.3 to 1.6, as its public descriptions have it.
//
//	h, err := hive.Open(file, size) // reads little, and only what is asked for
//	k, err := h.Find(`Microsoft\Windows NT\CurrentVersion`)
//	v, err := k.Value("CurrentBuild")
//
// A file that was read whole can be changed, if nothing waits for it in a log:
//
//	h, err := hive.Read(content)
//	k, err := h.Make(`ControlSet001\Services\corvraid`)
//	err = k.Set("Start", hive.Number(0))
//	content, err = h.Bytes() // walked through before it is given away
//
// Whatever a file says is held against its size before it is believed.
package hive

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf16"

	"golang.org/x/text/encoding/charmap"
)

// Places in the base block, the first 4096 bytes.
const (
	baseSize       = 4096
	atSequence1    = 4 // raised before a change is written, the other one after it
	atSequence2    = 8
	atMajor        = 20
	atMinor        = 24
	atType         = 28
	atRoot         = 36
	atBinsSize     = 40
	atChecksum     = 508
	binHeaderSize  = 32
	binGranularity = 4096
)

// none stands for an offset that leads nowhere.
const none = 0xffffffff

// Limits of what is believed.
const (
	maxHive   = 1 << 30
	maxDepth  = 512     // of keys, as Windows has it
	maxValue  = 1 << 20 // bytes of data
	maxName   = 255     // characters of a key's name
	segment   = 16344   // bytes of data in one cell; more of it is in several
	maxValues = 1 << 16 // of a key
)

var (
	// ErrFormat says that a file is not a hive, or a damaged one.
	ErrFormat = errors.New("this is not a sound registry file")
	// ErrNotFound says that a key or value is not there.
	ErrNotFound = errors.New("it is not in the registry file")
	// ErrUnclean says that changes wait in a log, so that nothing may be written.
	ErrUnclean = errors.New("changes of this registry file wait in its log: start the system once and shut it down")
)

func damaged(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrFormat, fmt.Sprintf(format, args...))
}

// Hive is one file of the registry.
type Hive struct {
	from io.ReaderAt // nil if content is the whole file
	head []byte      // the base block
	bins int64       // bytes behind it that are in use
	all  []byte      // the whole file, if it was read whole
	free []uint32    // free cells, of a file that is changed; nil until somebody looks
}

// Open reads the head of a hive. The rest is read when it is asked for.
func Open(r io.ReaderAt, size int64) (*Hive, error) {
	h := &Hive{from: r, head: make([]byte, baseSize)}
	if size < baseSize || size > maxHive {
		return nil, damaged("it has %d bytes", size)
	}
	if _, err := r.ReadAt(h.head, 0); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	return h, h.readHead(size)
}

// Read takes a whole file, which Set and Make may change.
func Read(content []byte) (*Hive, error) {
	if len(content) < baseSize || len(content) > maxHive {
		return nil, damaged("it has %d bytes", len(content))
	}
	h := &Hive{all: content, head: content[:baseSize]}
	return h, h.readHead(int64(len(content)))
}

func (h *Hive) readHead(size int64) error {
	le := binary.LittleEndian
	major, minor := le.Uint32(h.head[atMajor:]), le.Uint32(h.head[atMinor:])
	switch {
	case string(h.head[:4]) != "regf":
		return damaged("it does not begin as one")
	case le.Uint32(h.head[atChecksum:]) != checksum(h.head):
		return damaged("its checksum is wrong")
	case major != 1 || minor < 3 || minor > 6:
		return damaged("its version is %d.%d", major, minor)
	case le.Uint32(h.head[atType:]) != 0:
		return damaged("it is a log, or something else")
	}
	if h.bins = int64(le.Uint32(h.head[atBinsSize:])); h.bins%binGranularity != 0 || h.bins > size-baseSize {
		return damaged("it has %d bytes, and is to have %d", size, h.bins+baseSize)
	}
	return nil
}

// checksum is over the first 508 bytes.
func checksum(head []byte) uint32 {
	sum := uint32(0)
	for i := 0; i < atChecksum; i += 4 {
		sum ^= binary.LittleEndian.Uint32(head[i:])
	}
	switch sum {
	case 0:
		return 1
	case 0xffffffff:
		return 0xfffffffe
	}
	return sum
}

// Clean tells whether nothing waits in a log.
func (h *Hive) Clean() bool {
	return binary.LittleEndian.Uint32(h.head[atSequence1:]) == binary.LittleEndian.Uint32(h.head[atSequence2:])
}

// read reads bytes of the bins.
func (h *Hive) read(off uint32, n int) ([]byte, error) {
	if int64(off)+int64(n) > h.bins || n < 0 {
		return nil, damaged("something is to be at %#x, behind its end", off)
	}
	if h.all != nil {
		return h.all[baseSize+int64(off):][:n], nil
	}
	b := make([]byte, n)
	if _, err := h.from.ReadAt(b, baseSize+int64(off)); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	return b, nil
}

// cell is the content of a cell that is in use, of least bytes at least.
func (h *Hive) cell(off uint32, least int) ([]byte, error) {
	size, err := h.cellSize(off)
	if err != nil {
		return nil, err
	}
	if size >= 0 || -size-4 < least {
		return nil, damaged("the cell at %#x is free or too small", off)
	}
	return h.read(off+4, -size-4)
}

// cellSize is negative if the cell is in use.
func (h *Hive) cellSize(off uint32) (int, error) {
	b, err := h.read(off, 4)
	if err != nil {
		return 0, err
	}
	size := int(int32(binary.LittleEndian.Uint32(b)))
	if n := max(size, -size); off%8 != 0 || n < 8 || n%8 != 0 || int64(off)+int64(n) > h.bins {
		return 0, damaged("the cell at %#x has a size of %d", off, size)
	}
	return size, nil
}

// Places in the cell of a key.
const (
	keyFlags       = 2
	keyWritten     = 4
	keyParent      = 16
	keySubkeys     = 20 // how many
	keyList        = 28
	keyVolatile    = 32
	keyValues      = 36 // how many
	keyValueList   = 40
	keySecurity    = 44
	keyClass       = 48
	keyLongestKey  = 52 // bytes of UTF-16, of its subkeys
	keyLongestName = 60 // of its values
	keyLongestData = 64
	keyNameLength  = 72
	keyName        = 76

	flagRoot  = 0x04 | 0x08 // entry of the hive, and cannot be deleted
	flagASCII = 0x20
)

// Key is a key of a hive.
type Key struct {
	h    *Hive
	at   uint32
	Name string
}

// Root is the key that all others are below.
func (h *Hive) Root() (*Key, error) { return h.key(binary.LittleEndian.Uint32(h.head[atRoot:])) }

func (h *Hive) key(at uint32) (*Key, error) {
	b, err := h.cell(at, keyName)
	if err != nil {
		return nil, err
	}
	n := int(binary.LittleEndian.Uint16(b[keyNameLength:]))
	if string(b[:2]) != "nk" || keyName+n > len(b) {
		return nil, damaged("there is no key at %#x", at)
	}
	return &Key{h, at, nameOf(b[keyName:keyName+n], binary.LittleEndian.Uint16(b[keyFlags:])&flagASCII != 0)}, nil
}

// nameOf reads a name: in Latin 1, or else in UTF-16.
func nameOf(b []byte, narrow bool) string {
	if narrow {
		text, _ := charmap.ISO8859_1.NewDecoder().String(string(b))
		return text
	}
	return wide(b)
}

func wide(b []byte) string {
	units := make([]uint16, len(b)/2)
	for i := range units {
		units[i] = binary.LittleEndian.Uint16(b[2*i:])
	}
	return string(utf16.Decode(units))
}

// field reads a number of the key's cell.
func (k *Key) field(at int) (uint32, error) {
	b, err := k.h.cell(k.at, keyName)
	if err != nil {
		return 0, err
	}
	return binary.LittleEndian.Uint32(b[at:]), nil
}

// Find finds a key by its path from the root, with backslashes, whatever the case of its letters.
func (h *Hive) Find(path string) (*Key, error) {
	k, err := h.Root()
	for part := range strings.SplitSeq(path, `\`) {
		if err != nil || part == "" {
			break
		}
		k, err = k.Key(part)
	}
	return k, err
}

// Key finds a key right below this one.
func (k *Key) Key(name string) (*Key, error) {
	all, err := k.subkeys()
	if err != nil {
		return nil, err
	}
	for _, at := range all {
		sub, err := k.h.key(at)
		if err != nil {
			return nil, err
		}
		if strings.EqualFold(sub.Name, name) {
			return sub, nil
		}
	}
	return nil, fmt.Errorf("%w: the key %s", ErrNotFound, name)
}

// Keys are those right below this one.
func (k *Key) Keys() ([]*Key, error) {
	offsets, err := k.subkeys()
	if err != nil {
		return nil, err
	}
	all := make([]*Key, len(offsets))
	for i, at := range offsets {
		if all[i], err = k.h.key(at); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// subkeys are the offsets of the keys below.
func (k *Key) subkeys() ([]uint32, error) {
	count, err := k.field(keySubkeys)
	if err != nil || count == 0 {
		return nil, err
	}
	list, err := k.field(keyList)
	if err != nil {
		return nil, err
	}
	all, err := k.h.list(list, true)
	if err == nil && uint32(len(all)) != count {
		err = damaged("the key %s has %d keys, and is to have %d", k.Name, len(all), count)
	}
	return all, err
}

// list reads a list of keys: of offsets, with or without hints of their names, or of lists.
func (h *Hive) list(at uint32, ofLists bool) ([]uint32, error) {
	b, err := h.cell(at, 4)
	if err != nil {
		return nil, err
	}
	step := map[string]int{"lf": 8, "lh": 8, "li": 4, "ri": 4}[string(b[:2])]
	n := int(binary.LittleEndian.Uint16(b[2:]))
	if step == 0 || 4+n*step > len(b) {
		return nil, damaged("there is no list of keys at %#x", at)
	}
	var all []uint32
	for i := range n {
		off := binary.LittleEndian.Uint32(b[4+i*step:])
		if string(b[:2]) != "ri" {
			all = append(all, off)
			continue
		}
		if !ofLists {
			return nil, damaged("the list at %#x is one of lists", at)
		}
		part, err := h.list(off, false)
		if err != nil {
			return nil, err
		}
		if all = append(all, part...); int64(len(all)) > h.bins/keyName {
			return nil, damaged("the list at %#x has more keys than there is room for", at)
		}
	}
	return all, nil
}
