package hive

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"strings"
)

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
