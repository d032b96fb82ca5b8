package volume

import (
	"encoding/binary"
	"fmt"
	"io"
)

// The exFAT file system, after Microsoft's specification. Clusters are numbered
// from 2; the root folder names the file that has one bit for each.
type exfat struct {
	r        io.ReaderAt
	cluster  int64 // bytes
	clusters int64
	heap     int64 // byte at which cluster 2 begins
	fat      int64 // byte at which the table in force begins
}

// Entries of a folder (section 6): the first byte says what an entry is.
const (
	exfatEntry      = 32
	exfatEnd        = 0x00
	exfatBitmap     = 0x81
	exfatLabel      = 0x83
	exfatLastInFile = 0xFFFFFFF8 // from here on a table entry ends a chain

	exfatRegion = 12 // sectors of the boot region, and of its backup behind it
)

func probeExFAT(r io.ReaderAt, size int64) (*Volume, error) {
	b, err := head(r, size, 0, 512)
	le := binary.LittleEndian
	if b == nil || err != nil || string(b[3:11]) != "EXFAT   " || le.Uint16(b[510:]) != 0xAA55 {
		return nil, err
	}
	shift, perCluster := b[108], b[109]
	if shift < 9 || shift > 12 || perCluster > 25-shift {
		return nil, fmt.Errorf("exFAT: %w: sectors of 2^%d bytes, clusters of 2^%d sectors", ErrDamaged, shift, perCluster)
	}
	sector := int64(1) << shift
	sectors := int64(le.Uint64(b[72:]))
	f := &exfat{
		r:        r,
		cluster:  sector << perCluster,
		clusters: int64(le.Uint32(b[92:])),
		heap:     int64(le.Uint32(b[88:])) * sector,
		fat:      int64(le.Uint32(b[80:])) * sector,
	}
	flags := le.Uint16(b[106:])
	fatLength := int64(le.Uint32(b[84:])) * sector
	if flags&1 != 0 && b[110] == 2 {
		f.fat += fatLength
	}
	if sectors <= 0 || sectors > size/sector || f.heap+f.clusters*f.cluster > sectors*sector ||
		f.fat+fatLength > f.heap || fatLength < (f.clusters+2)*4 {
		return nil, fmt.Errorf("exFAT: %w: %d clusters of %d bytes in a partition of %d", ErrDamaged, f.clusters, f.cluster, size)
	}
	v := &Volume{
		Kind: ExFAT, ClusterSize: f.cluster, Needs: sectors * sector,
		UUID:  fmt.Sprintf("%04X-%04X", le.Uint16(b[102:]), le.Uint16(b[100:])),
		Clean: flags&2 == 0, // the bitmap is still the truth: there is no journal
	}
	if ok, err := exfatChecksumHolds(r, 0, sector); err != nil {
		return nil, err
	} else if !ok {
		v.Notes = append(v.Notes, "the checksum of its boot region is wrong")
		v.Clean = false
	}
	first, length, err := f.root(int64(le.Uint32(b[96:])), v)
	if err != nil {
		return nil, fmt.Errorf("exFAT: %w", err)
	}
	if length != (f.clusters+7)/8 {
		return nil, fmt.Errorf("exFAT: %w: an allocation bitmap of %d bytes for %d clusters", ErrDamaged, length, f.clusters)
	}
	runs, err := f.chain(first, (length+f.cluster-1)/f.cluster)
	if err != nil {
		return nil, fmt.Errorf("exFAT: the allocation bitmap: %w", err)
	}
	m := bitmap{bits: f.clusters, read: func(b []byte, off int64) error { return f.read(runs, b, off) }}
	v.used = withFixed([]Extent{{0, f.heap}}, m.extents(f.heap, f.cluster))
	return v, nil
}

// root goes through the root folder for the bitmap in force and the label.
func (f *exfat) root(first int64, v *Volume) (bitmapFirst, bitmapLength int64, err error) {
	const limit = 16 << 20 // bytes of folder; the bitmap comes among the first entries
	runs, err := f.chain(first, max(limit/f.cluster, 1))
	if err != nil {
		return 0, 0, fmt.Errorf("the root folder: %w", err)
	}
	le := binary.LittleEndian
	b := make([]byte, min(f.cluster, 64<<10))
	for _, r := range runs {
		for at := r.Start; at < r.End(); at += int64(len(b)) {
			if err := readAt(f.r, b, at); err != nil {
				return 0, 0, err
			}
			for e := b; len(e) >= exfatEntry; e = e[exfatEntry:] {
				switch e[0] {
				case exfatEnd:
					if bitmapFirst == 0 {
						return 0, 0, fmt.Errorf("%w: its root folder names no allocation bitmap", ErrDamaged)
					}
					return bitmapFirst, bitmapLength, nil
				case exfatBitmap:
					if bitmapFirst == 0 {
						bitmapFirst, bitmapLength = int64(le.Uint32(e[20:])), int64(le.Uint64(e[24:]))
					}
				case exfatLabel:
					v.Label = utf16String(e[2 : 2+2*min(int(e[1]), 11)])
				}
			}
		}
	}
	if bitmapFirst == 0 {
		return 0, 0, fmt.Errorf("%w: its root folder names no allocation bitmap", ErrDamaged)
	}
	return bitmapFirst, bitmapLength, nil
}

// chain follows the table from a cluster, for at most limit clusters, and gives
// the bytes they occupy; clusters that follow each other are one extent.
func (f *exfat) chain(first, limit int64) ([]Extent, error) {
	var runs []Extent
	entry := make([]byte, 4)
	for at := first; limit > 0; limit-- {
		if at < 2 || at >= f.clusters+2 {
			return nil, fmt.Errorf("%w: it leads to cluster %d of %d", ErrDamaged, at, f.clusters)
		}
		start := f.heap + (at-2)*f.cluster
		if n := len(runs); n > 0 && runs[n-1].End() == start {
			runs[n-1].Length += f.cluster
		} else {
			runs = append(runs, Extent{start, f.cluster})
		}
		if err := readAt(f.r, entry, f.fat+at*4); err != nil {
			return nil, err
		}
		next := binary.LittleEndian.Uint32(entry)
		if next >= exfatLastInFile {
			break
		}
		at = int64(next)
	}
	return runs, nil
}

// read fills b from byte off of what runs hold one after the other.
func (f *exfat) read(runs []Extent, b []byte, off int64) error {
	for _, r := range runs {
		if off >= r.Length {
			off -= r.Length
			continue
		}
		n := min(int64(len(b)), r.Length-off)
		if err := readAt(f.r, b[:n], r.Start+off); err != nil {
			return err
		}
		if b, off = b[n:], 0; len(b) == 0 {
			return nil
		}
	}
	return fmt.Errorf("%w: a file is shorter than its folder says", ErrDamaged)
}

// exfatChecksumHolds compares the checksum of the boot region at byte start with
// the one in its last sector (section 3.4).
func exfatChecksumHolds(r io.ReaderAt, start, sector int64) (bool, error) {
	b := make([]byte, exfatRegion*sector)
	if err := readAt(r, b, start); err != nil {
		return false, err
	}
	return binary.LittleEndian.Uint32(b[11*sector:]) == exfatChecksum(b[:11*sector]), nil
}

func exfatChecksum(b []byte) uint32 {
	var sum uint32
	for i, c := range b {
		if i == 106 || i == 107 || i == 112 { // the flags and the share in use change all the time
			continue
		}
		sum = sum<<31 | sum>>1
		sum += uint32(c)
	}
	return sum
}
