package hive

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf16"

	"golang.org/x/text/encoding/charmap"
)

// New is an empty hive with a root of that name.
func New(name string) (*Hive, error) {
	b := make([]byte, baseSize+binGranularity)
	copy(b, "regf")
	le := binary.LittleEndian
	le.PutUint32(b[atSequence1:], 1)
	le.PutUint32(b[atSequence2:], 1)
	le.PutUint32(b[atMajor:], 1)
	le.PutUint32(b[atMinor:], 5)
	le.PutUint32(b[32:], 1) // as it is in memory
	le.PutUint32(b[44:], 1) // sectors that are written at once
	le.PutUint32(b[atBinsSize:], binGranularity)
	bin := b[baseSize:]
	copy(bin, "hbin")
	le.PutUint32(bin[8:], binGranularity)
	le.PutUint32(bin[binHeaderSize:], binGranularity-binHeaderSize) // one free cell
	h := &Hive{all: b, head: b[:baseSize], bins: binGranularity}
	security, err := h.allot(securitySize + len(everybody))
	if err != nil {
		return nil, err
	}
	s, _ := h.cell(security, securitySize)
	copy(s, "sk")
	le.PutUint32(s[4:], security) // it is alone in its ring
	le.PutUint32(s[8:], security)
	le.PutUint32(s[16:], uint32(len(everybody)))
	copy(s[securitySize:], everybody)
	root, err := h.newKey(name, none, security)
	if err != nil {
		return nil, err
	}
	k, _ := h.cell(root, keyName)
	le.PutUint16(k[keyFlags:], le.Uint16(k[keyFlags:])|flagRoot)
	le.PutUint32(b[atRoot:], root)
	le.PutUint32(b[atChecksum:], checksum(b))
	return h, nil
}

const (
	securitySize  = 20
	securityUsers = 12 // how many keys have it
)

// everybody is a security descriptor that lets the system and administrators do everything
// (MS-DTYP, 2.4.6: self-relative, with a discretionary list).
var everybody = func() []byte {
	admins := []byte{1, 2, 0, 0, 0, 0, 0, 5, 32, 0, 0, 0, 0x20, 2, 0, 0} // S-1-5-32-544
	system := []byte{1, 1, 0, 0, 0, 0, 0, 5, 18, 0, 0, 0}                // S-1-5-18
	var list []byte
	for _, sid := range [][]byte{system, admins} {
		// allowed, for keys below as well, all rights of a key
		list = append(list, 0, 2, byte(8+len(sid)), 0, 0x3f, 0, 0x0f, 0)
		list = append(list, sid...)
	}
	b := []byte{1, 0, 4, 0x80} // version 1; it has a list, and is self-relative
	owner := 20 + 8 + len(list)
	for _, at := range []int{owner, owner, 0, 20} {
		b = binary.LittleEndian.AppendUint32(b, uint32(at))
	}
	b = append(b, 2, 0, byte(8+len(list)), 0, 2, 0, 0, 0)
	return append(append(b, list...), admins...)
}()

// changeable says why nothing can be changed.
func (h *Hive) changeable() error {
	if h.all == nil {
		return errors.New("a registry file has to be read whole to be changed")
	}
	if !h.Clean() {
		return ErrUnclean
	}
	return nil
}

// findFree looks for free cells, once.
func (h *Hive) findFree() error {
	if h.free != nil {
		return nil
	}
	h.free = []uint32{}
	return h.cells(func(off uint32, size int) error {
		if size > 0 {
			h.free = append(h.free, off)
		}
		return nil
	})
}

// cells goes through all cells of all bins.
func (h *Hive) cells(do func(off uint32, size int) error) error {
	for bin := int64(0); bin < h.bins; {
		head, err := h.read(uint32(bin), binHeaderSize)
		if err != nil {
			return err
		}
		size := int64(binary.LittleEndian.Uint32(head[8:]))
		if string(head[:4]) != "hbin" || int64(binary.LittleEndian.Uint32(head[4:])) != bin || size < binGranularity || size%binGranularity != 0 || bin+size > h.bins {
			return damaged("the bin at %#x is none", bin)
		}
		for at := bin + binHeaderSize; at < bin+size; {
			n, err := h.cellSize(uint32(at))
			if err != nil {
				return err
			}
			if at+int64(max(n, -n)) > bin+size {
				return damaged("the cell at %#x leaves its bin", at)
			}
			if err := do(uint32(at), n); err != nil {
				return err
			}
			at += int64(max(n, -n))
		}
		bin += size
	}
	return nil
}

// allot finds room for a cell of n bytes, and makes it empty.
func (h *Hive) allot(n int) (uint32, error) {
	if err := h.findFree(); err != nil {
		return 0, err
	}
	need := (n + 4 + 7) &^ 7
	for i, off := range h.free {
		size, err := h.cellSize(off)
		if err != nil {
			return 0, err
		}
		if size < need {
			continue
		}
		if rest := size - need; rest >= 8 {
			h.putSize(off+uint32(need), rest)
			h.free[i] = off + uint32(need)
		} else {
			need = size
			h.free = slices.Delete(h.free, i, i+1)
		}
		h.putSize(off, -need)
		b, err := h.cell(off, n)
		clear(b)
		return off, err
	}
	// A new bin, behind the last.
	size := (int64(need) + binHeaderSize + binGranularity - 1) &^ (binGranularity - 1)
	if h.bins+size > maxHive {
		return 0, errors.New("the registry file would be too large")
	}
	bin := make([]byte, size)
	copy(bin, "hbin")
	binary.LittleEndian.PutUint32(bin[4:], uint32(h.bins))
	binary.LittleEndian.PutUint32(bin[8:], uint32(size))
	binary.LittleEndian.PutUint32(bin[binHeaderSize:], uint32(size-binHeaderSize))
	h.all = append(slices.Clip(h.all[:baseSize+h.bins]), bin...)
	h.head = h.all[:baseSize]
	h.free = append(h.free, uint32(h.bins)+binHeaderSize)
	h.bins += size
	binary.LittleEndian.PutUint32(h.head[atBinsSize:], uint32(h.bins))
	return h.allot(n)
}

func (h *Hive) putSize(off uint32, size int) {
	binary.LittleEndian.PutUint32(h.all[baseSize+int64(off):], uint32(int32(size)))
}

// release gives a cell back. Free cells next to it stay as they are.
func (h *Hive) release(off uint32) error {
	if off == none {
		return nil
	}
	size, err := h.cellSize(off)
	if err != nil {
		return err
	}
	if size < 0 {
		h.putSize(off, -size)
		h.free = append(h.free, off)
	}
	return nil
}

// put writes a cell, and returns its place.
func (h *Hive) put(content []byte) (uint32, error) {
	off, err := h.allot(len(content))
	if err != nil {
		return 0, err
	}
	b, err := h.cell(off, len(content))
	if err == nil {
		copy(b, content)
	}
	return off, err
}

// named is a name as a cell has it.
func named(name string) (b []byte, narrow bool) {
	if text, err := charmap.ISO8859_1.NewEncoder().String(name); err == nil {
		return []byte(text), true
	}
	for _, u := range utf16.Encode([]rune(name)) {
		b = binary.LittleEndian.AppendUint16(b, u)
	}
	return b, false
}

// newKey writes the cell of a key without keys and values.
func (h *Hive) newKey(name string, parent, security uint32) (uint32, error) {
	le := binary.LittleEndian
	text, narrow := named(name)
	b := make([]byte, keyName+len(text))
	copy(b, "nk")
	if narrow {
		le.PutUint16(b[keyFlags:], flagASCII)
	}
	le.PutUint32(b[keyParent:], parent)
	for _, at := range []int{keyList, keyVolatile, keyValueList, keyClass} {
		le.PutUint32(b[at:], none)
	}
	le.PutUint32(b[keySecurity:], security)
	le.PutUint16(b[keyNameLength:], uint16(len(text)))
	copy(b[keyName:], text)
	off, err := h.put(b)
	if err != nil {
		return 0, err
	}
	s, err := h.cell(security, securitySize)
	if err != nil {
		return 0, err
	}
	le.PutUint32(s[securityUsers:], le.Uint32(s[securityUsers:])+1)
	return off, nil
}

// Make finds a key by its path from the root, and makes it, and those above it, if it is not there.
func (h *Hive) Make(path string) (*Key, error) {
	if err := h.changeable(); err != nil {
		return nil, err
	}
	k, err := h.Root()
	for part := range strings.SplitSeq(path, `\`) {
		if err != nil {
			return nil, err
		}
		sub, missing := k.Key(part)
		switch {
		case missing == nil:
			k = sub
		case errors.Is(missing, ErrNotFound):
			k, err = k.add(part)
		default:
			return nil, missing
		}
	}
	return k, err
}

// add makes a key right below this one. Lists of keys are in the order of their names in capital
// letters.
func (k *Key) add(name string) (*Key, error) {
	if name == "" || len(utf16.Encode([]rune(name))) > maxName {
		return nil, fmt.Errorf("%q cannot be the name of a key", name)
	}
	siblings, err := k.Keys()
	if err != nil {
		return nil, err
	}
	security, err := k.field(keySecurity)
	if err != nil {
		return nil, err
	}
	at, err := k.h.newKey(name, k.at, security)
	if err != nil {
		return nil, err
	}
	made := &Key{k.h, at, name}
	i, _ := slices.BinarySearchFunc(siblings, capitals(name), func(s *Key, name string) int { return strings.Compare(capitals(s.Name), name) })
	siblings = slices.Insert(siblings, i, made)
	list, err := k.h.putList(siblings)
	if err != nil {
		return nil, err
	}
	old, err := k.field(keyList)
	if err != nil {
		return nil, err
	}
	if len(siblings) > 1 {
		if err := k.h.releaseList(old); err != nil {
			return nil, err
		}
	}
	b, err := k.h.cell(k.at, keyName)
	if err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	le.PutUint32(b[keySubkeys:], uint32(len(siblings)))
	le.PutUint32(b[keyList:], list)
	le.PutUint16(b[keyLongestKey:], max(le.Uint16(b[keyLongestKey:]), uint16(2*len(utf16.Encode([]rune(name))))))
	return made, nil
}

func capitals(name string) string { return strings.Map(unicode.ToUpper, name) }

// leaf is how many keys a list has at most; more are in a list of lists.
const leaf = 500

// putList writes the list of keys that are in order.
func (h *Hive) putList(keys []*Key) (uint32, error) {
	le := binary.LittleEndian
	var parts []uint32
	for some := range slices.Chunk(keys, leaf) {
		b := le.AppendUint16([]byte("lh"), uint16(len(some)))
		for _, k := range some {
			hash := uint32(0)
			for _, u := range utf16.Encode([]rune(capitals(k.Name))) {
				hash = hash*37 + uint32(u)
			}
			b = le.AppendUint32(le.AppendUint32(b, k.at), hash)
		}
		at, err := h.put(b)
		if err != nil {
			return 0, err
		}
		parts = append(parts, at)
	}
	if len(parts) == 1 {
		return parts[0], nil
	}
	b := le.AppendUint16([]byte("ri"), uint16(len(parts)))
	for _, at := range parts {
		b = le.AppendUint32(b, at)
	}
	return h.put(b)
}

// releaseList gives back a list of keys, with the lists in it.
func (h *Hive) releaseList(at uint32) error {
	b, err := h.cell(at, 4)
	if err != nil {
		return err
	}
	if string(b[:2]) == "ri" {
		for i := range int(binary.LittleEndian.Uint16(b[2:])) {
			if err := h.release(binary.LittleEndian.Uint32(b[4+4*i:])); err != nil {
				return err
			}
		}
	}
	return h.release(at)
}

// Set sets a value, in place of one of that name.
func (k *Key) Set(name string, v Value) error {
	if err := k.h.changeable(); err != nil {
		return err
	}
	if len(v.Data) > segment {
		return fmt.Errorf("the value %s has more than %d bytes", name, segment)
	}
	le := binary.LittleEndian
	text, narrow := named(name)
	b := make([]byte, valueName+len(text))
	copy(b, "vk")
	le.PutUint16(b[valueNameLength:], uint16(len(text)))
	le.PutUint32(b[valueType:], uint32(v.Type))
	if narrow {
		le.PutUint16(b[valueFlags:], 1)
	}
	copy(b[valueName:], text)
	if len(v.Data) <= 4 {
		le.PutUint32(b[valueSize:], uint32(len(v.Data))|inPlace)
		copy(b[valueData:valueData+4], v.Data)
	} else {
		at, err := k.h.put(v.Data)
		if err != nil {
			return err
		}
		le.PutUint32(b[valueSize:], uint32(len(v.Data)))
		le.PutUint32(b[valueData:], at)
	}
	at, err := k.h.put(b)
	if err != nil {
		return err
	}
	return k.link(name, at, len(v.Data))
}

// link puts a value's cell into the list of a key's values, in place of one of that name.
func (k *Key) link(name string, at uint32, size int) error {
	all, err := k.values()
	if err != nil {
		return err
	}
	replaced := false
	for i, old := range all {
		v, err := k.h.value(old, false)
		if err != nil {
			return err
		}
		if strings.EqualFold(v.Name, name) {
			if err := k.h.releaseValue(old); err != nil {
				return err
			}
			all[i], replaced = at, true
		}
	}
	if !replaced {
		all = append(all, at)
	}
	var b []byte
	for _, off := range all {
		b = binary.LittleEndian.AppendUint32(b, off)
	}
	list, err := k.h.put(b)
	if err != nil {
		return err
	}
	old, err := k.field(keyValueList)
	if err != nil {
		return err
	}
	if len(all) > 1 || replaced {
		if err := k.h.release(old); err != nil {
			return err
		}
	}
	c, err := k.h.cell(k.at, keyName)
	if err != nil {
		return err
	}
	le := binary.LittleEndian
	le.PutUint32(c[keyValues:], uint32(len(all)))
	le.PutUint32(c[keyValueList:], list)
	le.PutUint32(c[keyLongestName:], max(le.Uint32(c[keyLongestName:]), uint32(2*len(utf16.Encode([]rune(name))))))
	le.PutUint32(c[keyLongestData:], max(le.Uint32(c[keyLongestData:]), uint32(size)))
	return nil
}

// releaseValue gives back a value, with its data.
func (h *Hive) releaseValue(at uint32) error {
	b, err := h.cell(at, valueName)
	if err != nil {
		return err
	}
	size, data := binary.LittleEndian.Uint32(b[valueSize:]), binary.LittleEndian.Uint32(b[valueData:])
	if size&inPlace == 0 && size > 0 {
		if size > segment {
			cells, err := h.segments(data, int(size))
			if err != nil {
				return err
			}
			head, err := h.cell(data, 8)
			if err != nil {
				return err
			}
			for _, off := range append(cells, binary.LittleEndian.Uint32(head[4:])) {
				if err := h.release(off); err != nil {
					return err
				}
			}
		}
		if err := h.release(data); err != nil {
			return err
		}
	}
	return h.release(at)
}

// Bytes is the whole file as it is to be written. It was read back, and every key and value in it.
func (h *Hive) Bytes() ([]byte, error) {
	if err := h.changeable(); err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	next := le.Uint32(h.head[atSequence1:]) + 1
	le.PutUint32(h.head[atSequence1:], next)
	le.PutUint32(h.head[atSequence2:], next)
	le.PutUint32(h.head[atChecksum:], checksum(h.head))
	b := bytes.Clone(h.all[:baseSize+h.bins])
	again, err := Read(b)
	if err == nil {
		err = again.Check()
	}
	if err != nil {
		return nil, fmt.Errorf("what would be written is wrong: %w", err)
	}
	return b, nil
}

// Check goes through the whole file: all bins and cells, and every key and value, none of which
// may share a cell with another.
func (h *Hive) Check() error {
	inUse := map[uint32]bool{}
	err := h.cells(func(off uint32, size int) error {
		if size < 0 {
			inUse[off] = true
		}
		return nil
	})
	if err != nil {
		return err
	}
	take := func(off uint32) error {
		if !inUse[off] {
			return damaged("the cell at %#x is no cell, or is used twice", off)
		}
		delete(inUse, off)
		return nil
	}
	root, err := h.Root()
	if err != nil {
		return err
	}
	return root.check(take, 0)
}

func (k *Key) check(take func(uint32) error, depth int) error {
	if depth > maxDepth {
		return damaged("keys are more than %d deep", maxDepth)
	}
	if err := take(k.at); err != nil {
		return err
	}
	if err := k.checkValues(take); err != nil {
		return err
	}
	if count, err := k.field(keySubkeys); err != nil || count == 0 {
		return err
	}
	list, err := k.field(keyList)
	if err != nil {
		return err
	}
	if err := take(list); err != nil {
		return err
	}
	keys, err := k.Keys()
	if err != nil {
		return err
	}
	for i, sub := range keys {
		if i > 0 && strings.Compare(capitals(keys[i-1].Name), capitals(sub.Name)) >= 0 {
			return damaged("the keys %s and %s of %s are not in order", keys[i-1].Name, sub.Name, k.Name)
		}
		parent, err := sub.field(keyParent)
		if err != nil {
			return err
		}
		if parent != k.at {
			return damaged("the key %s is not below %s", sub.Name, k.Name)
		}
		if err := sub.check(take, depth+1); err != nil {
			return err
		}
	}
	return nil
}

func (k *Key) checkValues(take func(uint32) error) error {
	offsets, err := k.values()
	if err != nil || len(offsets) == 0 {
		return err
	}
	list, err := k.field(keyValueList)
	if err != nil {
		return err
	}
	if err := take(list); err != nil {
		return err
	}
	for _, off := range offsets {
		if err := take(off); err != nil {
			return err
		}
		b, err := k.h.cell(off, valueName)
		if err != nil {
			return err
		}
		if size := binary.LittleEndian.Uint32(b[valueSize:]); size&inPlace == 0 && size > 0 {
			if err := take(binary.LittleEndian.Uint32(b[valueData:])); err != nil {
				return err
			}
		}
		if _, err := k.h.value(off, true); err != nil {
			return err
		}
	}
	return nil
}
