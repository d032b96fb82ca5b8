package volume

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"io"

	"github.com/google/uuid"
)

// The ext2, ext3 and ext4 file systems, after the kernel's "ext4 Data
// Structures and Algorithms". Blocks are gathered in groups; each group has a
// descriptor that names its bitmap, one bit a cluster (a block, unless the file
// system was made with bigalloc).
type ext struct {
	r                io.ReaderAt
	block            int64 // bytes
	clusterBlocks    int64 // blocks a cluster
	blocks           int64 // in the file system
	firstData        int64 // the block at which group 0 begins
	perGroup         int64 // blocks
	groups           int64
	inodeTableBlocks int64 // a group
	descSize         int64
	reservedGDT      int64
	firstMetaGroup   int64
	backupGroups     [2]int64 // sparse_super2
	compat           uint32
	incompat         uint32
	roCompat         uint32
	checksumSeed     uint32
	superBytes       []byte // the superblock
}

// Feature flags that change where things lie.
const (
	compatHasJournal   = 0x4
	compatSparseSuper2 = 0x200

	incompatRecover      = 0x4
	incompatJournalDev   = 0x8
	incompatMetaGroups   = 0x10
	incompat64Bit        = 0x80
	incompatChecksumSeed = 0x2000

	roSparseSuper      = 0x1
	roGroupChecksum    = 0x10
	roBigalloc         = 0x200
	roMetadataChecksum = 0x400

	stateClean  = 0x1
	stateErrors = 0x2

	groupBitmapUninit = 0x2
)

// readExt reads the superblock; nil if it is not one.
func readExt(r io.ReaderAt, size int64) (*ext, error) {
	if size < 4096 {
		return nil, nil
	}
	b := make([]byte, 1024)
	if err := readAt(r, b, 1024); err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	if le.Uint16(b[0x38:]) != 0xEF53 {
		return nil, nil
	}
	f := &ext{
		r:              r,
		blocks:         int64(le.Uint32(b[4:])),
		firstData:      int64(le.Uint32(b[20:])),
		perGroup:       int64(le.Uint32(b[32:])),
		descSize:       32,
		reservedGDT:    int64(le.Uint16(b[0xCE:])),
		firstMetaGroup: int64(le.Uint32(b[0x104:])),
		backupGroups:   [2]int64{int64(le.Uint32(b[0x24C:])), int64(le.Uint32(b[0x250:]))},
		compat:         le.Uint32(b[0x5C:]),
		incompat:       le.Uint32(b[0x60:]),
		roCompat:       le.Uint32(b[0x64:]),
	}
	if f.incompat&incompatJournalDev != 0 {
		return nil, nil // another file system's journal: a volume to copy whole
	}
	logBlock, logCluster := le.Uint32(b[24:]), le.Uint32(b[28:])
	clustersPerGroup := int64(le.Uint32(b[36:]))
	if f.incompat&incompat64Bit != 0 {
		f.blocks |= int64(le.Uint32(b[0x150:])) << 32
		f.descSize = int64(le.Uint16(b[0xFE:]))
	}
	if logBlock > 6 || f.descSize < 32 || f.descSize > 1024 || !powerOfTwo(f.descSize) {
		return nil, fmt.Errorf("ext4: %w: block size 2^%d and descriptor size %d", ErrDamaged, 10+uint64(logBlock), f.descSize)
	}
	f.block, f.clusterBlocks = 1024<<logBlock, 1
	if f.roCompat&roBigalloc != 0 {
		if logCluster < logBlock || logCluster > 20 {
			return nil, fmt.Errorf("ext4: %w: cluster size 2^%d", ErrDamaged, 10+uint64(logCluster))
		}
		f.clusterBlocks = 1 << (logCluster - logBlock)
	} else {
		clustersPerGroup = f.perGroup
	}
	inodes, inodeSize := int64(le.Uint32(b[40:])), int64(128)
	if le.Uint32(b[0x4C:]) > 0 {
		inodeSize = int64(le.Uint16(b[0x58:]))
	}
	if f.blocks <= 0 || f.blocks > size/f.block || f.firstData > 1 || f.firstData >= f.blocks ||
		f.perGroup == 0 || clustersPerGroup*f.clusterBlocks != f.perGroup || clustersPerGroup > 8*f.block || clustersPerGroup%8 != 0 {
		return nil, fmt.Errorf("ext4: %w: %d blocks of %d bytes in groups of %d, in a partition of %d bytes",
			ErrDamaged, f.blocks, f.block, f.perGroup, size)
	}
	f.groups = (f.blocks - f.firstData + f.perGroup - 1) / f.perGroup
	f.inodeTableBlocks = (inodes*inodeSize + f.block - 1) / f.block
	f.checksumSeed = crc32c(^uint32(0), b[0x68:0x78])
	if f.incompat&incompatChecksumSeed != 0 {
		f.checksumSeed = le.Uint32(b[0x270:])
	}
	f.superBytes = b
	return f, nil
}

func probeExt(r io.ReaderAt, size int64) (*Volume, error) {
	f, err := readExt(r, size)
	if f == nil || err != nil {
		return nil, err
	}
	b, le := f.superBytes, binary.LittleEndian
	id, _ := uuid.FromBytes(b[0x68:0x78])
	label, _, _ := bytes.Cut(b[0x78:0x88], []byte{0})
	recover := f.incompat&incompatRecover != 0
	noJournal := make([]byte, 16)
	elsewhere := f.compat&compatHasJournal != 0 && le.Uint32(b[0xE0:]) == 0 && !bytes.Equal(b[0xD0:0xE0], noJournal)
	state := le.Uint16(b[0x3A:])
	return &Volume{
		Kind: Ext, Label: string(label), UUID: id.String(),
		ClusterSize: f.block * f.clusterBlocks, Needs: f.blocks * f.block,
		Clean:        !recover && state&stateClean != 0 && state&stateErrors == 0,
		MapsStale:    recover || state&stateClean == 0 || state&stateErrors != 0,
		LogElsewhere: elsewhere,
		used:         f.used,
	}, nil
}

func (f *ext) used(yield func(Extent, error) bool) {
	// The boot block in front of group 0 belongs to no bitmap.
	if f.firstData > 0 && !yield(Extent{0, f.firstData * f.block}, nil) {
		return
	}
	bitmap := make([]byte, f.perGroup/f.clusterBlocks/8)
	descs := make([]byte, f.block)
	descsAt := int64(-1)
	for g := range f.groups {
		at := f.descriptorBlock(g)
		if at != descsAt {
			if err := readAt(f.r, descs, at*f.block); err != nil {
				yield(Extent{}, fmt.Errorf("ext4: descriptor of group %d: %w", g, err))
				return
			}
			descsAt = at
		}
		d := descs[g%(f.block/f.descSize)*f.descSize:][:f.descSize]
		if err := f.groupBitmap(g, d, bitmap); err != nil {
			yield(Extent{}, fmt.Errorf("ext4: group %d: %w", g, err))
			return
		}
		start := f.groupStart(g)
		end := min(start+f.perGroup, f.blocks)
		for first := start; first < end; first += f.clusterBlocks {
			bit := (first - start) / f.clusterBlocks
			if bitmap[bit/8]&(1<<(bit%8)) == 0 {
				continue
			}
			n := min(f.clusterBlocks, end-first)
			if !yield(Extent{first * f.block, n * f.block}, nil) {
				return
			}
		}
	}
}

func (f *ext) groupStart(g int64) int64 { return f.firstData + g*f.perGroup }

// descriptorBlock is where the descriptor of group g lies: behind the
// superblock, or with meta_bg in the first group of its meta group.
func (f *ext) descriptorBlock(g int64) int64 {
	perBlock := f.block / f.descSize
	meta := g / perBlock
	if f.incompat&incompatMetaGroups == 0 || meta < f.firstMetaGroup {
		return f.superblock() + 1 + meta
	}
	first := meta * perBlock
	at := f.groupStart(first)
	if first == 0 {
		at = f.superblock()
	}
	if f.hasSuper(first) {
		at++
	}
	return at
}

// superblock is the block that holds the first superblock: block 0 as soon as
// blocks are larger than 1024 bytes.
func (f *ext) superblock() int64 { return 1024 / f.block }

// hasSuper tells whether group g holds a copy of the superblock.
func (f *ext) hasSuper(g int64) bool {
	switch {
	case g == 0:
		return true
	case f.compat&compatSparseSuper2 != 0:
		return g == f.backupGroups[0] || g == f.backupGroups[1]
	case f.roCompat&roSparseSuper == 0 || g == 1:
		return true
	}
	for _, base := range []int64{3, 5, 7} {
		n := base
		for n < g {
			n *= base
		}
		if n == g {
			return true
		}
	}
	return false
}

// groupBitmap fills bitmap with the map of group g, read from the disk or, for
// a group that was never written to, made from what the layout puts there.
func (f *ext) groupBitmap(g int64, d, bitmap []byte) error {
	le := binary.LittleEndian
	long := f.descSize >= 64
	number := func(lo, hi int) int64 {
		n := int64(le.Uint32(d[lo:]))
		if long {
			n |= int64(le.Uint32(d[hi:])) << 32
		}
		return n
	}
	blockBitmap := number(0x0, 0x20)
	checksummed := f.roCompat&(roGroupChecksum|roMetadataChecksum) != 0
	if le.Uint16(d[0x12:])&groupBitmapUninit != 0 && checksummed {
		clear(bitmap)
		f.markOverhead(g, bitmap, blockBitmap, number(0x4, 0x24), number(0x8, 0x28))
		return nil
	}
	if blockBitmap < f.firstData || blockBitmap >= f.blocks {
		return fmt.Errorf("%w: its bitmap is said to be block %d of %d", ErrDamaged, blockBitmap, f.blocks)
	}
	if err := readAt(f.r, bitmap, blockBitmap*f.block); err != nil {
		return err
	}
	if f.roCompat&roMetadataChecksum != 0 {
		want, got := uint32(le.Uint16(d[0x18:])), crc32c(f.checksumSeed, bitmap)
		if long {
			want |= uint32(le.Uint16(d[0x38:])) << 16
		} else {
			got &= 0xFFFF
		}
		if got != want && checksumsMatter {
			return fmt.Errorf("%w: the checksum of its bitmap is wrong", ErrDamaged)
		}
	}
	free := int64(le.Uint16(d[0xC:]))
	if long {
		free |= int64(le.Uint16(d[0x2C:])) << 16
	}
	if counted := f.countFree(g, bitmap); counted != free {
		return fmt.Errorf("%w: its bitmap has %d free clusters, its descriptor says %d", ErrDamaged, counted, free)
	}
	return nil
}

// countFree counts the free clusters of group g, which is shorter if it is the last.
func (f *ext) countFree(g int64, bitmap []byte) int64 {
	n := (min(f.perGroup, f.blocks-f.groupStart(g)) + f.clusterBlocks - 1) / f.clusterBlocks
	return n - onesIn(bitmap, n)
}

// markOverhead sets the bits of the layout's own blocks that lie in group g.
func (f *ext) markOverhead(g int64, bitmap []byte, blockBitmap, inodeBitmap, inodeTable int64) {
	start := f.groupStart(g)
	end := min(start+f.perGroup, f.blocks)
	mark := func(first, n int64) {
		for b := max(first, start); b < min(first+n, end); b++ {
			bit := (b - start) / f.clusterBlocks
			bitmap[bit/8] |= 1 << (bit % 8)
		}
	}
	perBlock := f.block / f.descSize
	hasSuper := int64(0)
	if f.hasSuper(g) {
		hasSuper = 1
		mark(start, 1)
	}
	if f.incompat&incompatMetaGroups == 0 || g/perBlock < f.firstMetaGroup {
		if hasSuper == 1 {
			tables := (f.groups + perBlock - 1) / perBlock
			if f.incompat&incompatMetaGroups != 0 {
				tables = min(tables, f.firstMetaGroup)
			}
			mark(start+1, tables+f.reservedGDT)
		}
	} else if at := g % perBlock; at == 0 || at == 1 || at == perBlock-1 {
		mark(start+hasSuper, 1)
	}
	mark(blockBitmap, 1)
	mark(inodeBitmap, 1)
	mark(inodeTable, f.inodeTableBlocks)
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// crc32c is the checksum as the kernel keeps it: without the final inversion.
func crc32c(seed uint32, b []byte) uint32 { return ^crc32.Update(^seed, castagnoli, b) }
