package vmdisk

import (
	"bytes"
	"compress/flate"
	"encoding/binary"
	"fmt"
	"io"
	"sync"

	"github.com/klauspost/compress/zstd"
)

// qcow2, versions 2 and 3, after its public specification. Numbers are
// big-endian. The disk is cut into clusters; a table of two levels says where in
// the file each lies.
type qcow2 struct {
	f       io.ReaderAt
	size    int64
	cluster int64
	l1      []uint64
	zstd    bool
	parent  Disk // what lies under clusters that are not there; nil if it has none

	mu    sync.Mutex
	at    int64    // of the second-level table in l2; 0 is none
	l2    []uint64 // the one used last: disks are read in order
	plain []byte   // the compressed cluster read last
	of    uint64   // its entry
}

const (
	qcowBackingFile   = 8
	qcowBackingFormat = 0xE2792ACA
	qcowMaxL1         = 32 << 20 // bytes

	qcowCorrupt      = 1 << 1
	qcowExternalData = 1 << 2
	qcowExtendedL2   = 1 << 4

	qcowCompressed = 1 << 62
	qcowZero       = 1
	qcowOffset     = 0x00FFFFFFFFFFFE00
)

func openQCOW2(f io.ReaderAt, size int64, parents Parents, left int) (Disk, error) {
	h := make([]byte, 112)
	if size < int64(len(h)) {
		return nil, nil
	}
	if err := readFull(f, h, 0); err != nil {
		return nil, err
	}
	be := binary.BigEndian
	if string(h[:4]) != "QFI\xFB" {
		return nil, nil
	}
	version := be.Uint32(h[4:])
	var features uint64
	if version >= 3 {
		features = be.Uint64(h[72:])
	}
	switch {
	case version < 2 || version > 3:
		return nil, fmt.Errorf("qcow2: %w: version %d", ErrUnsupported, version)
	case be.Uint32(h[32:]) != 0:
		return nil, fmt.Errorf("qcow2: %w: it is encrypted", ErrUnsupported)
	case features&qcowExternalData != 0:
		return nil, fmt.Errorf("qcow2: %w: its content is in another file", ErrUnsupported)
	case features&qcowExtendedL2 != 0:
		return nil, fmt.Errorf("qcow2: %w: it has extended table entries", ErrUnsupported)
	case features&qcowCorrupt != 0:
		return nil, fmt.Errorf("qcow2: %w: it is marked as corrupt", ErrDamaged)
	}
	bits := be.Uint32(h[20:])
	d := &qcow2{f: f, size: int64(be.Uint64(h[24:]))}
	if bits < 9 || bits > 21 || d.size < 0 || d.size > 1<<56 {
		return nil, fmt.Errorf("qcow2: %w: clusters of 2^%d bytes, a disk of %d", ErrDamaged, bits, d.size)
	}
	d.cluster = 1 << bits
	d.zstd = version >= 3 && be.Uint32(h[100:]) > 104 && h[104] == 1
	entries := int64(be.Uint32(h[36:]))
	covers := d.cluster / 8 * d.cluster // bytes of disk an entry of the first level stands for
	if entries*8 > qcowMaxL1 || entries*8 > size || (d.size+covers-1)/covers > entries {
		return nil, fmt.Errorf("qcow2: %w: %d table entries for a disk of %d bytes", ErrDamaged, entries, d.size)
	}
	table := make([]byte, entries*8)
	if err := readFull(f, table, int64(be.Uint64(h[40:]))); err != nil {
		return nil, fmt.Errorf("qcow2: %w", err)
	}
	d.l1 = numbers(table)
	if at := int64(be.Uint64(h[qcowBackingFile:])); at != 0 {
		if err := d.openParent(h, version, at, parents, left); err != nil {
			return nil, fmt.Errorf("qcow2: its backing file: %w", err)
		}
	}
	return d, nil
}

// openParent opens the backing file. An extension of the header can say of what format
// it is; one that is raw must not be looked into, as a machine wrote it.
func (d *qcow2) openParent(h []byte, version uint32, at int64, parents Parents, left int) error {
	be := binary.BigEndian
	length := int64(be.Uint32(h[16:]))
	if length < 1 || length > 1023 || at > d.cluster {
		return fmt.Errorf("%w: a name of %d bytes at byte %d", ErrDamaged, length, at)
	}
	name := make([]byte, length)
	if err := readFull(d.f, name, at); err != nil {
		return err
	}
	format := ""
	extension := int64(72)
	if version >= 3 {
		extension = int64(be.Uint32(h[100:]))
	}
	for extension+8 <= at {
		e := make([]byte, 8)
		if err := readFull(d.f, e, extension); err != nil {
			return err
		}
		kind, n := be.Uint32(e), int64(be.Uint32(e[4:]))
		if kind == 0 || n > d.cluster {
			break
		}
		if kind == qcowBackingFormat && n < 32 {
			b := make([]byte, n)
			if err := readFull(d.f, b, extension+8); err != nil {
				return err
			}
			format = string(b)
		}
		extension += 8 + (n+7)&^7
	}
	f, size, err := parents.open(string(name))
	if err != nil {
		return err
	}
	if format == string(Raw) {
		d.parent = openRaw(f, size)
		return nil
	}
	d.parent, err = open(f, size, parents, left-1)
	return err
}

func numbers(b []byte) []uint64 {
	n := make([]uint64, len(b)/8)
	for i := range n {
		n[i] = binary.BigEndian.Uint64(b[8*i:])
	}
	return n
}

func (d *qcow2) Size() int64     { return d.size }
func (d *qcow2) SectorSize() int { return 512 }
func (d *qcow2) Format() Format  { return QCOW2 }

func (d *qcow2) ReadAt(b []byte, off int64) (int, error) {
	return readBlocks(b, off, d.size, d.cluster, d.read)
}

func (d *qcow2) read(b []byte, cluster, in int64) error {
	entry, err := d.entry(cluster)
	if err != nil {
		return err
	}
	if entry&qcowCompressed != 0 {
		return d.readCompressed(b, entry, in)
	}
	if entry&qcowZero != 0 {
		clear(b)
		return nil
	}
	if entry&qcowOffset == 0 {
		return readParent(d.parent, b, cluster*d.cluster+in)
	}
	return readFull(d.f, b, int64(entry&qcowOffset)+in)
}

func (d *qcow2) entry(cluster int64) (uint64, error) {
	perTable := d.cluster / 8
	at := int64(d.l1[cluster/perTable] & qcowOffset)
	if at == 0 {
		return 0, nil
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.at != at {
		table := make([]byte, d.cluster)
		if err := readFull(d.f, table, at); err != nil {
			return 0, err
		}
		d.at, d.l2 = at, numbers(table)
	}
	return d.l2[cluster%perTable], nil
}

// readCompressed reads a part of a cluster whose compressed bytes begin anywhere
// and take a number of sectors of 512 bytes.
func (d *qcow2) readCompressed(b []byte, entry uint64, in int64) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.of != entry {
		bits := 0
		for c := d.cluster; c > 1; c >>= 1 {
			bits++
		}
		split := 62 - (bits - 8)
		at := int64(entry & (1<<split - 1))
		length := (int64(entry&^qcowCompressed)>>split&(1<<(62-split)-1)+1)*512 - at&511
		// The last one may be named longer than the file is.
		packed := make([]byte, length)
		n, err := d.f.ReadAt(packed, at)
		if n == 0 {
			return fmt.Errorf("%w: a compressed cluster at byte %d: %v", ErrDamaged, at, err)
		}
		plain := make([]byte, d.cluster)
		if err := d.expand(plain, packed[:n]); err != nil {
			return fmt.Errorf("%w: the compressed cluster at byte %d: %w", ErrDamaged, at, err)
		}
		d.plain, d.of = plain, entry
	}
	copy(b, d.plain[in:])
	return nil
}

func (d *qcow2) expand(plain, packed []byte) error {
	var r io.Reader = flate.NewReader(bytes.NewReader(packed))
	if d.zstd {
		z, err := zstd.NewReader(bytes.NewReader(packed), zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(8<<20))
		if err != nil {
			return err
		}
		defer z.Close()
		r = z
	}
	_, err := io.ReadFull(r, plain)
	return err
}
