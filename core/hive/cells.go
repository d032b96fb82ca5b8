package hive

import (
	"encoding/binary"
	"errors"
	"slices"
)

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
