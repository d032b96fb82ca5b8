package volume

import (
	"encoding/binary"
	"fmt"
	"io"
	"unicode/utf16"
)

// The HFS Plus file system, after Apple's Technical Note TN1150. Numbers are
// big-endian. The volume header is at byte 1024, its alternate 1024 bytes before
// the end; the allocation file has one bit a block, most significant first.
type hfsPlus struct {
	r      io.ReaderAt
	block  int64 // bytes
	blocks int64
}

// fork is one of a volume's own files: its bytes, in extents of blocks.
type fork struct {
	size    int64
	extents []Extent // bytes of the volume
}

const (
	hfsUnmounted    = 1 << 8
	hfsInconsistent = 1 << 11
	hfsJournaled    = 1 << 13
)

func probeHFSPlus(r io.ReaderAt, size int64) (*Volume, error) {
	b, err := head(r, size, 1024, 512)
	if b == nil || err != nil {
		return nil, err
	}
	be := binary.BigEndian
	signature, version := string(b[:2]), be.Uint16(b[2:])
	if !(signature == "H+" && version == 4) && !(signature == "HX" && version == 5) {
		return nil, nil
	}
	f := &hfsPlus{r: r, block: int64(be.Uint32(b[40:])), blocks: int64(be.Uint32(b[44:]))}
	if !powerOfTwo(f.block) || f.block < 512 || f.block > 1<<20 || f.blocks == 0 || f.blocks > size/f.block {
		return nil, fmt.Errorf("HFS+: %w: %d blocks of %d bytes in a partition of %d", ErrDamaged, f.blocks, f.block, size)
	}
	attributes := be.Uint32(b[4:])
	v := &Volume{
		Kind: HFSPlus, ClusterSize: f.block, Needs: size, // the alternate header is looked for at the end
		UUID:  fmt.Sprintf("%016X", be.Uint64(b[104:])),
		Clean: attributes&hfsUnmounted != 0 && attributes&hfsInconsistent == 0,
	}
	v.MapsStale = !v.Clean
	allocation, err := f.fork(b[112:])
	if err != nil {
		return nil, fmt.Errorf("HFS+: allocation file: %w", err)
	}
	if allocation.size < (f.blocks+7)/8 {
		return nil, fmt.Errorf("HFS+: %w: an allocation file of %d bytes for %d blocks", ErrDamaged, allocation.size, f.blocks)
	}
	catalog, err := f.fork(b[272:])
	if err != nil {
		return nil, fmt.Errorf("HFS+: catalog file: %w", err)
	}
	if v.Label, err = f.label(catalog); err != nil {
		return nil, fmt.Errorf("HFS+: catalog file: %w", err)
	}
	m := bitmap{bits: f.blocks, msbFirst: true, read: func(b []byte, off int64) error { return f.read(allocation, b, off) }}
	if attributes&hfsJournaled == 0 {
		if err := f.checkFree(m, int64(be.Uint32(b[48:]))); err != nil {
			return nil, fmt.Errorf("HFS+: %w", err)
		}
	}
	v.used = withFixed([]Extent{{0, 1536}, {size - 1024, 1024}}, m.extents(0, f.block))
	return v, nil
}

// checkFree compares the bitmap with the header's count of free blocks.
func (f *hfsPlus) checkFree(m bitmap, told int64) error {
	used := int64(0)
	if err := m.runs(func(_, count int64) bool { used += count; return true }); err != nil {
		return err
	}
	if f.blocks-used != told {
		return fmt.Errorf("%w: its bitmap has %d free blocks, its header says %d", ErrDamaged, f.blocks-used, told)
	}
	return nil
}

// fork reads the 80 bytes that describe a file of the volume's own. Such a file
// in more than eight pieces is told elsewhere, which is not read here.
func (f *hfsPlus) fork(b []byte) (fork, error) {
	be := binary.BigEndian
	k := fork{size: int64(be.Uint64(b))}
	var blocks int64
	for i := range 8 {
		first, count := int64(be.Uint32(b[16+8*i:])), int64(be.Uint32(b[20+8*i:]))
		if count == 0 {
			break
		}
		if first+count > f.blocks {
			return k, fmt.Errorf("%w: blocks %d to %d of %d", ErrDamaged, first, first+count, f.blocks)
		}
		k.extents = append(k.extents, Extent{first * f.block, count * f.block})
		blocks += count
	}
	if k.size < 0 || k.size > blocks*f.block {
		return k, fmt.Errorf("%w: a file of %d bytes in %d blocks, or in more than eight pieces", ErrDamaged, k.size, blocks)
	}
	return k, nil
}

func (f *hfsPlus) read(k fork, b []byte, off int64) error {
	for _, e := range k.extents {
		if off >= e.Length {
			off -= e.Length
			continue
		}
		n := min(int64(len(b)), e.Length-off)
		if err := readAt(f.r, b[:n], e.Start+off); err != nil {
			return err
		}
		if b, off = b[n:], 0; len(b) == 0 {
			return nil
		}
	}
	return fmt.Errorf("%w: a file is shorter than its header says", ErrDamaged)
}

// label is the name of the root folder: the first record of the catalog's first
// leaf, whose key is the root's parent (1) and that name.
func (f *hfsPlus) label(catalog fork) (string, error) {
	be := binary.BigEndian
	h := make([]byte, 14+106)
	if err := f.read(catalog, h, 0); err != nil {
		return "", err
	}
	record := h[14:]
	leaf, node := int64(be.Uint32(record[10:])), int64(be.Uint16(record[18:]))
	if !powerOfTwo(node) || node < 512 || node > 32<<10 {
		return "", fmt.Errorf("%w: nodes of %d bytes", ErrDamaged, node)
	}
	b := make([]byte, node)
	if err := f.read(catalog, b, leaf*node); err != nil {
		return "", err
	}
	at := int64(be.Uint16(b[node-2:]))
	if at < 14 || at+8 > node-2 {
		return "", fmt.Errorf("%w: a record at byte %d of a node", ErrDamaged, at)
	}
	key := b[at:]
	units := int64(be.Uint16(key[6:]))
	if be.Uint32(key[2:]) != 1 || units > 255 || 8+2*units > int64(len(key)) {
		return "", nil
	}
	name := make([]uint16, units)
	for i := range name {
		name[i] = be.Uint16(key[8+2*i:])
	}
	return string(utf16.Decode(name)), nil
}
