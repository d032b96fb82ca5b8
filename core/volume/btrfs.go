package volume

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"iter"
	"slices"

	"github.com/cespare/xxhash/v2"
	"github.com/google/uuid"
	"golang.org/x/crypto/blake2b"
)

// The btrfs file system, after its on-disk format documentation. All pointers
// are logical addresses; the chunk tree says which stripes of the device a chunk
// of logical addresses lies on, and the extent tree which parts of a chunk are in
// use. Trees are never written in place, so what a superblock refers to is whole.
type btrfs struct {
	r        io.ReaderAt
	size     int64
	node     int64 // bytes
	checksum uint16
	device   uint64
	chunks   []btrfsChunk // ascending by logical address
}

// btrfsChunk is a stretch of logical addresses and where this device has it; two
// stripes are two copies.
type btrfsChunk struct {
	logical, length int64
	stripes         []int64 // bytes on the device
}

type btrfsKey struct {
	object uint64
	kind   uint8
	offset uint64
}

func (k btrfsKey) before(o btrfsKey) bool {
	if k.object != o.object {
		return k.object < o.object
	}
	if k.kind != o.kind {
		return k.kind < o.kind
	}
	return k.offset < o.offset
}

const (
	btrfsSuper     = 64 << 10
	btrfsHeader    = 101 // bytes of a tree block's header
	btrfsMaxLevel  = 8
	btrfsMaxChunks = 1 << 20 // of at least 32 MiB each, usually 1 GiB

	// Kinds of items.
	btrfsRootItem     = 132
	btrfsExtentItem   = 168
	btrfsMetadataItem = 169
	btrfsChunkItem    = 228

	btrfsExtentTree = 2 // its object in the root tree

	// Profiles that spread one chunk over several stripes.
	btrfsStriped = 1<<3 | 1<<6 | 1<<7 | 1<<8

	btrfsExtentTree2 = 1 << 13
	btrfsStripeTree  = 1 << 14
)

// btrfsSupers are where the superblock and its copies lie. The first MiB is left
// to boot loaders.
var btrfsSupers = []Extent{{0, 1 << 20}, {64 << 20, 4096}, {256 << 30, 4096}}

func probeBtrfs(r io.ReaderAt, size int64) (*Volume, error) {
	b, err := head(r, size, btrfsSuper, 4096)
	if b == nil || err != nil || string(b[64:72]) != "_BHRfS_M" {
		return nil, err
	}
	le := binary.LittleEndian
	f := &btrfs{r: r, size: size, node: int64(le.Uint32(b[148:])), checksum: le.Uint16(b[196:]), device: le.Uint64(b[201:])}
	if !f.checksumHolds(b) {
		return nil, fmt.Errorf("btrfs: %w: the checksum of its superblock is wrong", ErrDamaged)
	}
	if !powerOfTwo(f.node) || f.node < 4096 || f.node > 64<<10 {
		return nil, fmt.Errorf("btrfs: %w: nodes of %d bytes", ErrDamaged, f.node)
	}
	id, _ := uuid.FromBytes(b[32:48])
	v := &Volume{Kind: Btrfs, Label: untilZero(b[299:555]), UUID: id.String(), ClusterSize: int64(le.Uint32(b[144:])), Clean: true}
	if total := le.Uint64(b[201+8:]); total <= uint64(size) { // of this device
		v.Needs = int64(total)
	} else {
		return nil, fmt.Errorf("btrfs: %w: it claims %d bytes of a partition of %d", ErrDamaged, total, size)
	}
	if le.Uint64(b[96:]) != 0 { // a log tree, whose blocks the extent tree does not know
		v.Clean, v.MapsStale = false, true
	}
	if devices := le.Uint64(b[136:]); devices != 1 {
		v.Notes = append(v.Notes, fmt.Sprintf("it spans %d devices, of which this is one; it is taken whole", devices))
		return v, nil
	}
	if features := le.Uint64(b[188:]); features&(btrfsExtentTree2|btrfsStripeTree) != 0 {
		v.Notes = append(v.Notes, "it keeps its extents in a form that is not read here; it is taken whole")
		return v, nil
	}
	root, level, err := f.openTrees(b)
	if errors.Is(err, errBtrfsStriped) {
		v.Notes = append(v.Notes, "its chunks are striped; it is taken whole")
		return v, nil
	}
	if err != nil {
		return nil, fmt.Errorf("btrfs: %w", err)
	}
	supers := slices.DeleteFunc(slices.Clone(btrfsSupers), func(e Extent) bool { return e.End() > size })
	v.used = withFixed(supers, f.used(root, level))
	return v, nil
}

var errBtrfsStriped = fmt.Errorf("striped chunks")

// openTrees reads the chunks that the superblock lists, with them the chunk
// tree, and in the root tree where the extent tree begins.
func (f *btrfs) openTrees(super []byte) (root int64, level uint8, err error) {
	le := binary.LittleEndian
	listed := super[811:][:min(le.Uint32(super[160:]), 2048)]
	for len(listed) >= 17+48 {
		n, err := f.addChunk(int64(le.Uint64(listed[9:])), listed[17:])
		if err != nil {
			return 0, 0, err
		}
		listed = listed[17+n:]
	}
	bootstrap := f.chunks
	f.sortChunks()
	var all []btrfsChunk
	err = f.walk(int64(le.Uint64(super[88:])), super[199], btrfsKey{}, func(k btrfsKey, item []byte) error {
		if k.kind != btrfsChunkItem {
			return nil
		}
		f.chunks = nil
		_, err := f.addChunk(int64(k.offset), item)
		all = append(all, f.chunks...)
		f.chunks = bootstrap
		if len(all) > btrfsMaxChunks {
			err = fmt.Errorf("%w: more than %d chunks", ErrDamaged, btrfsMaxChunks)
		}
		return err
	})
	if err != nil {
		return 0, 0, fmt.Errorf("chunk tree: %w", err)
	}
	f.chunks = all
	if err := f.sortChunks(); err != nil {
		return 0, 0, err
	}
	start := btrfsKey{object: btrfsExtentTree, kind: btrfsRootItem}
	err = f.walk(int64(le.Uint64(super[80:])), super[198], start, func(k btrfsKey, item []byte) error {
		if k.object != btrfsExtentTree || k.kind != btrfsRootItem {
			return errStop
		}
		if len(item) < 239 {
			return fmt.Errorf("%w: a root of %d bytes", ErrDamaged, len(item))
		}
		root, level = int64(le.Uint64(item[176:])), item[238]
		return nil
	})
	if err != nil && err != errStop {
		return 0, 0, fmt.Errorf("root tree: %w", err)
	}
	if root == 0 {
		return 0, 0, fmt.Errorf("%w: it has no extent tree", ErrDamaged)
	}
	return root, level, nil
}

// addChunk reads a chunk item and tells its length.
func (f *btrfs) addChunk(logical int64, b []byte) (int, error) {
	le := binary.LittleEndian
	if len(b) < 48 {
		return 0, fmt.Errorf("%w: a chunk item of %d bytes", ErrDamaged, len(b))
	}
	length, stripes := int64(le.Uint64(b)), int(le.Uint16(b[44:]))
	n := 48 + 32*stripes
	if stripes == 0 || n > len(b) || length <= 0 || logical < 0 || length > 1<<60-logical {
		return 0, fmt.Errorf("%w: a chunk of %d bytes on %d stripes", ErrDamaged, length, stripes)
	}
	if le.Uint64(b[24:])&btrfsStriped != 0 {
		return 0, errBtrfsStriped
	}
	c := btrfsChunk{logical: logical, length: length}
	for i := range stripes {
		s := b[48+32*i:]
		offset := int64(le.Uint64(s[8:]))
		if le.Uint64(s) != f.device || offset < 0 || offset > f.size-length {
			return 0, fmt.Errorf("%w: a stripe at byte %d of device %d", ErrDamaged, offset, le.Uint64(s))
		}
		c.stripes = append(c.stripes, offset)
	}
	f.chunks = append(f.chunks, c)
	return n, nil
}

func (f *btrfs) sortChunks() error {
	slices.SortFunc(f.chunks, func(a, b btrfsChunk) int { return int(min(max(a.logical-b.logical, -1), 1)) })
	for i, c := range f.chunks {
		if i > 0 && f.chunks[i-1].logical+f.chunks[i-1].length > c.logical {
			return fmt.Errorf("%w: two chunks have the same addresses", ErrDamaged)
		}
	}
	return nil
}

// used goes through the stripes in the order of the device, and yields what the
// extent tree calls used of each.
func (f *btrfs) used(root int64, level uint8) iter.Seq2[Extent, error] {
	type stripe struct{ physical, logical, length int64 }
	var stripes []stripe
	for _, c := range f.chunks {
		for _, at := range c.stripes {
			stripes = append(stripes, stripe{at, c.logical, c.length})
		}
	}
	slices.SortFunc(stripes, func(a, b stripe) int { return int(min(max(a.physical-b.physical, -1), 1)) })
	return func(yield func(Extent, error) bool) {
		for _, s := range stripes {
			end := s.logical + s.length
			err := f.walk(root, level, btrfsKey{object: uint64(s.logical)}, func(k btrfsKey, _ []byte) error {
				if k.object >= uint64(end) {
					return errStop
				}
				length := int64(k.offset)
				switch k.kind {
				case btrfsMetadataItem:
					length = f.node
				case btrfsExtentItem:
				default:
					return nil
				}
				start := int64(k.object)
				if length <= 0 || length > end-start {
					return fmt.Errorf("%w: an extent of %d bytes at address %d reaches over its chunk", ErrDamaged, length, start)
				}
				if !yield(Extent{s.physical + start - s.logical, length}, nil) {
					return errUnwanted
				}
				return nil
			})
			if err == errUnwanted {
				return
			}
			if err != nil && err != errStop {
				yield(Extent{}, fmt.Errorf("btrfs: extent tree: %w", err))
				return
			}
		}
	}
}

// walk visits the items of a tree from a key on, in order, until visit returns
// an error. Levels fall and keys rise on the way, so that no circle is followed.
func (f *btrfs) walk(at int64, level uint8, from btrfsKey, visit func(k btrfsKey, item []byte) error) error {
	return f.walkFrom(at, level, nil, from, visit)
}

// walkFrom is walk for a block whose first key its parent knows.
func (f *btrfs) walkFrom(at int64, level uint8, first *btrfsKey, from btrfsKey, visit func(k btrfsKey, item []byte) error) error {
	if level >= btrfsMaxLevel {
		return fmt.Errorf("%w: a tree of %d levels", ErrDamaged, level)
	}
	b, err := f.block(at, level)
	if err != nil {
		return err
	}
	le := binary.LittleEndian
	n := int(le.Uint32(b[96:]))
	size := 25
	if level > 0 {
		size = 33
	}
	if n < 0 || n > (len(b)-btrfsHeader)/size {
		return fmt.Errorf("%w: %d items in the block at address %d", ErrDamaged, n, at)
	}
	key := func(i int) btrfsKey {
		k := b[btrfsHeader+i*size:]
		return btrfsKey{le.Uint64(k), k[8], le.Uint64(k[9:])}
	}
	if first != nil && (n == 0 || key(0) != *first) {
		return fmt.Errorf("%w: the block at address %d does not begin as its parent says", ErrDamaged, at)
	}
	for i := range n {
		if i > 0 && !key(i-1).before(key(i)) {
			return fmt.Errorf("%w: keys out of order in the block at address %d", ErrDamaged, at)
		}
		if level == 0 {
			if key(i).before(from) {
				continue
			}
			item := b[btrfsHeader+i*size:]
			start, length := int64(le.Uint32(item[17:])), int64(le.Uint32(item[21:]))
			if start+length > int64(len(b))-btrfsHeader {
				return fmt.Errorf("%w: an item runs over the block at address %d", ErrDamaged, at)
			}
			if err := visit(key(i), b[btrfsHeader+start:][:length]); err != nil {
				return err
			}
			continue
		}
		if i+1 < n && !from.before(key(i+1)) {
			continue // all of it lies before
		}
		child := int64(le.Uint64(b[btrfsHeader+i*size+17:]))
		if err := f.walkFrom(child, level-1, new(key(i)), from, visit); err != nil {
			return err
		}
	}
	return nil
}

// block reads the tree block at a logical address, from the second copy if the
// first is no good.
func (f *btrfs) block(at int64, level uint8) ([]byte, error) {
	i, found := slices.BinarySearchFunc(f.chunks, at, func(c btrfsChunk, at int64) int {
		switch {
		case c.logical+c.length <= at:
			return -1
		case c.logical > at:
			return 1
		}
		return 0
	})
	if !found || f.chunks[i].logical+f.chunks[i].length-at < f.node {
		return nil, fmt.Errorf("%w: no chunk has address %d", ErrDamaged, at)
	}
	c := f.chunks[i]
	b := make([]byte, f.node)
	for _, stripe := range c.stripes {
		if err := readAt(f.r, b, stripe+at-c.logical); err != nil {
			return nil, err
		}
		if f.checksumHolds(b) && int64(binary.LittleEndian.Uint64(b[48:])) == at && b[100] == level {
			return b, nil
		}
	}
	return nil, fmt.Errorf("%w: the tree block at address %d is not sound", ErrDamaged, at)
}

// checksumHolds checks the first 32 bytes of a superblock or tree block, which
// are the checksum of the rest.
func (f *btrfs) checksumHolds(b []byte) bool {
	want := make([]byte, 32)
	switch rest := b[32:]; f.checksum {
	case 0:
		binary.LittleEndian.PutUint32(want, ^crc32c(^uint32(0), rest))
	case 1:
		binary.LittleEndian.PutUint64(want, xxhash.Sum64(rest))
	case 2:
		sum := sha256.Sum256(rest)
		copy(want, sum[:])
	case 3:
		sum := blake2b.Sum256(rest)
		copy(want, sum[:])
	default:
		return false
	}
	return bytes.Equal(want, b[:32]) || !checksumsMatter
}
