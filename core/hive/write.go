package hive

import (
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf16"

	"golang.org/x/text/encoding/charmap"
)

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
