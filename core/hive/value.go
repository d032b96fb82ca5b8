package hive

import (
	"encoding/binary"
	"fmt"
	"strings"
	"unicode/utf16"
)

// Type is the type of a value.
type Type uint32

// Types of values.
const (
	Text       Type = 1
	ExpandText Type = 2 // in which %names% stand for others
	Binary     Type = 3
	Number32   Type = 4
	Texts      Type = 7
	Number64   Type = 11
)

// Value is what a key says under a name. The name of the default value is empty.
type Value struct {
	Name string
	Type Type
	Data []byte
}

// Places in the cell of a value.
const (
	valueNameLength = 2
	valueSize       = 4
	valueData       = 8
	valueType       = 12
	valueFlags      = 16
	valueName       = 20

	inPlace = 1 << 31 // the data are where their offset would be
)

// Of makes a value of a text.
func Of(text string) Value { return Value{Type: Text, Data: ended(text)} }

// OfExpand makes a value of a text with %names%.
func OfExpand(text string) Value { return Value{Type: ExpandText, Data: ended(text)} }

// OfAll makes a value of several texts.
func OfAll(texts ...string) Value {
	var b []byte
	for _, t := range texts {
		b = append(b, ended(t)...)
	}
	return Value{Type: Texts, Data: append(b, 0, 0)}
}

// Number makes a value of a number.
func Number(n uint32) Value {
	return Value{Type: Number32, Data: binary.LittleEndian.AppendUint32(nil, n)}
}

// OfBytes makes a value of bytes.
func OfBytes(b []byte) Value { return Value{Type: Binary, Data: b} }

// ended is a text in UTF-16 with a null character behind it.
func ended(text string) (b []byte) {
	for _, u := range append(utf16.Encode([]rune(text)), 0) {
		b = binary.LittleEndian.AppendUint16(b, u)
	}
	return b
}

// Text is the value as a text; empty if it is none.
func (v Value) Text() string {
	if v.Type != Text && v.Type != ExpandText {
		return ""
	}
	text, _, _ := strings.Cut(wide(v.Data), "\x00")
	return text
}

// Texts are the texts of a value; nil if it has none.
func (v Value) Texts() (all []string) {
	if v.Type != Texts {
		return nil
	}
	for text := range strings.SplitSeq(wide(v.Data), "\x00") {
		if text == "" {
			break
		}
		all = append(all, text)
	}
	return all
}

// Number is the value as a number; false if it is none.
func (v Value) Number() (uint64, bool) {
	switch {
	case v.Type == Number32 && len(v.Data) >= 4:
		return uint64(binary.LittleEndian.Uint32(v.Data)), true
	case v.Type == Number64 && len(v.Data) >= 8:
		return binary.LittleEndian.Uint64(v.Data), true
	}
	return 0, false
}

// Value finds a value by its name, whatever the case of its letters.
func (k *Key) Value(name string) (Value, error) {
	all, err := k.values()
	if err != nil {
		return Value{}, err
	}
	for _, at := range all {
		v, err := k.h.value(at, false)
		if err != nil {
			return Value{}, err
		}
		if strings.EqualFold(v.Name, name) {
			return k.h.value(at, true)
		}
	}
	return Value{}, fmt.Errorf("%w: the value %s of %s", ErrNotFound, name, k.Name)
}

// Values are all values of a key.
func (k *Key) Values() ([]Value, error) {
	offsets, err := k.values()
	if err != nil {
		return nil, err
	}
	all := make([]Value, len(offsets))
	for i, at := range offsets {
		if all[i], err = k.h.value(at, true); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// values are the offsets of a key's values.
func (k *Key) values() ([]uint32, error) {
	count, err := k.field(keyValues)
	if err != nil || count == 0 {
		return nil, err
	}
	if count > maxValues {
		return nil, damaged("the key %s has %d values", k.Name, count)
	}
	list, err := k.field(keyValueList)
	if err != nil {
		return nil, err
	}
	b, err := k.h.cell(list, int(4*count))
	if err != nil {
		return nil, err
	}
	all := make([]uint32, count)
	for i := range all {
		all[i] = binary.LittleEndian.Uint32(b[4*i:])
	}
	return all, nil
}

// value reads a value, with its data or without.
func (h *Hive) value(at uint32, whole bool) (Value, error) {
	b, err := h.cell(at, valueName)
	if err != nil {
		return Value{}, err
	}
	le := binary.LittleEndian
	n := int(le.Uint16(b[valueNameLength:]))
	if string(b[:2]) != "vk" || valueName+n > len(b) {
		return Value{}, damaged("there is no value at %#x", at)
	}
	v := Value{Name: nameOf(b[valueName:valueName+n], le.Uint16(b[valueFlags:])&1 != 0), Type: Type(le.Uint32(b[valueType:]))}
	if !whole {
		return v, nil
	}
	size := le.Uint32(b[valueSize:])
	if size&inPlace != 0 {
		if size &^= inPlace; size > 4 {
			return v, damaged("the value %s has %d bytes in place", v.Name, size)
		}
		v.Data = append([]byte(nil), b[valueData:valueData+size]...)
		return v, nil
	}
	if size > maxValue {
		return v, damaged("the value %s has %d bytes", v.Name, size)
	}
	v.Data, err = h.data(le.Uint32(b[valueData:]), int(size))
	return v, err
}

// data reads the data of a value, which are in several cells if they are long.
func (h *Hive) data(at uint32, size int) ([]byte, error) {
	if size <= segment {
		b, err := h.cell(at, size)
		if err != nil {
			return nil, err
		}
		return append([]byte(nil), b[:size]...), nil
	}
	cells, err := h.segments(at, size)
	if err != nil {
		return nil, err
	}
	all := make([]byte, 0, size)
	for _, off := range cells {
		n := min(segment, size-len(all))
		b, err := h.cell(off, n)
		if err != nil {
			return nil, err
		}
		all = append(all, b[:n]...)
	}
	return all, nil
}

// segments are the cells of long data. Before version 1.4 there was one.
func (h *Hive) segments(at uint32, size int) ([]uint32, error) {
	b, err := h.cell(at, 8)
	if err != nil {
		return nil, err
	}
	if string(b[:2]) != "db" {
		return nil, damaged("the data at %#x are long and not in parts", at)
	}
	n := int(binary.LittleEndian.Uint16(b[2:]))
	if n != (size+segment-1)/segment {
		return nil, damaged("the data at %#x have %d parts for %d bytes", at, n, size)
	}
	list, err := h.cell(binary.LittleEndian.Uint32(b[4:]), 4*n)
	if err != nil {
		return nil, err
	}
	all := make([]uint32, n)
	for i := range all {
		all[i] = binary.LittleEndian.Uint32(list[4*i:])
	}
	return all, nil
}
