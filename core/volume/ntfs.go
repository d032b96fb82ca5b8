package volume

import (
	"encoding/binary"
	"fmt"
	"io"
	"slices"
	"strings"
)

// NTFS, after its public documentation. The boot sector says where the master
// file table lies; file 6 of it, $Bitmap, has one bit a cluster. The backup of
// the boot sector is the one sector behind the last cluster; Used leaves it out,
// as Resize makes it anew where it belongs.
type ntfs struct {
	r        io.ReaderAt
	sector   int64 // bytes
	cluster  int64 // bytes
	clusters int64
	record   int64 // bytes a record of the file table
	mft      attribute
}

// Files of the table with fixed numbers.
const (
	fileMFT     = 0
	fileLogFile = 2
	fileVolume  = 3
	fileRoot    = 5
	fileBitmap  = 6
)

const ntfsDirty = 0x0001 // in the flags of $Volume

// fleetingFiles are what a system puts aside in the root folder while it runs or
// sleeps. None of it is worth anything on another machine.
var fleetingFiles = []string{"pagefile.sys", "hiberfil.sys", "swapfile.sys"}

func probeNTFS(r io.ReaderAt, size int64) (*Volume, error) {
	b, err := head(r, size, 0, 512)
	if b == nil || err != nil || string(b[3:11]) != "NTFS    " || binary.LittleEndian.Uint16(b[510:]) != 0xAA55 {
		return nil, err
	}
	n, _, err := ntfsGeometry(r, b, size)
	if err != nil {
		return nil, fmt.Errorf("NTFS: %w", err)
	}
	v := &Volume{
		Kind: NTFS, UUID: fmt.Sprintf("%016X", binary.LittleEndian.Uint64(b[0x48:])),
		ClusterSize: n.cluster, Clean: true,
	}
	if err := n.describe(v); err != nil {
		return nil, fmt.Errorf("NTFS: %w", err)
	}
	allocated, err := n.attribute(fileBitmap, attrData, "")
	if err != nil {
		return nil, fmt.Errorf("NTFS: $Bitmap: %w", err)
	}
	if allocated.size < (n.clusters+7)/8 {
		return nil, fmt.Errorf("NTFS: %w: a $Bitmap of %d bytes for %d clusters", ErrDamaged, allocated.size, n.clusters)
	}
	last, err := n.lastUsed(allocated)
	if err != nil {
		return nil, fmt.Errorf("NTFS: $Bitmap: %w", err)
	}
	v.Needs = (last+1)*n.cluster + n.sector // Resize can make it so short
	m := bitmap{bits: n.clusters, read: func(b []byte, off int64) error { return n.readAttribute(allocated, b, off) }}
	v.used = m.extents(0, n.cluster)
	return v, nil
}

// ntfsGeometry reads the boot sector and finds the file table. total is what the
// file system calls its size, in bytes.
func ntfsGeometry(r io.ReaderAt, b []byte, size int64) (n *ntfs, total int64, err error) {
	le := binary.LittleEndian
	n = &ntfs{r: r, sector: int64(le.Uint16(b[0x0B:]))}
	perCluster := int64(b[0x0D])
	if perCluster > 0x80 { // the power of two of clusters beyond 64 KiB
		shift := 256 - perCluster
		if shift > 12 {
			return nil, 0, fmt.Errorf("%w: clusters of 2^%d sectors", ErrDamaged, shift)
		}
		perCluster = 1 << shift
	}
	n.cluster = n.sector * perCluster
	if !powerOfTwo(n.sector) || n.sector < 256 || n.sector > 4096 || !powerOfTwo(perCluster) || n.cluster > 2<<20 {
		return nil, 0, fmt.Errorf("%w: %d sectors of %d bytes a cluster", ErrDamaged, perCluster, n.sector)
	}
	sectors := int64(le.Uint64(b[0x28:]))
	if sectors <= 0 || sectors > size/n.sector {
		return nil, 0, fmt.Errorf("%w: %d sectors of %d bytes in a partition of %d bytes", ErrDamaged, sectors, n.sector, size)
	}
	n.clusters = sectors / perCluster
	switch c := int8(b[0x40]); {
	case c > 0:
		n.record = int64(c) * n.cluster
	case c > -32:
		n.record = 1 << -c
	}
	if n.record < 512 || n.record > 64<<10 || !powerOfTwo(n.record) {
		return nil, 0, fmt.Errorf("%w: records of %d bytes", ErrDamaged, n.record)
	}
	at := int64(le.Uint64(b[0x30:]))
	if at <= 0 || at >= n.clusters {
		return nil, 0, fmt.Errorf("%w: its file table begins in cluster %d of %d", ErrDamaged, at, n.clusters)
	}
	return n, sectors * n.sector, n.openTable(at)
}

// describe reads label, state and the page and hibernation files.
func (n *ntfs) describe(v *Volume) error {
	info, err := n.content(fileVolume, attrVolumeInformation, "", 64)
	if err != nil {
		return fmt.Errorf("$Volume: %w", err)
	}
	if len(info) < 12 {
		return fmt.Errorf("%w: $Volume has %d bytes of information", ErrDamaged, len(info))
	}
	if binary.LittleEndian.Uint16(info[10:])&ntfsDirty != 0 {
		v.Clean, v.MapsStale = false, true
	}
	if name, err := n.content(fileVolume, attrVolumeName, "", 256); err == nil {
		v.Label = utf16String(name)
	}
	clean, err := n.logIsClean()
	if err != nil {
		return fmt.Errorf("$LogFile: %w", err)
	}
	if !clean {
		v.Clean, v.MapsStale = false, true
	}
	return n.findFleeting(v)
}

// findFleeting looks for the page and hibernation files. A hibernation file that
// begins with anything but zeros is of a system that sleeps, or of one that was
// shut down so that it starts fast, which is the same to its disk.
func (n *ntfs) findFleeting(v *Volume) error {
	entries, err := n.folder(fileRoot)
	if err != nil {
		return fmt.Errorf("root folder: %w", err)
	}
	for _, e := range entries {
		name := strings.ToLower(e.name)
		if !slices.Contains(fleetingFiles, name) {
			continue
		}
		data, err := n.attribute(e.number, attrData, "")
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		if name == "hiberfil.sys" && data.size >= 4 {
			start := make([]byte, 4)
			if err := n.readAttribute(data, start, 0); err != nil {
				return fmt.Errorf("%s: %w", name, err)
			}
			v.Hibernated = strings.EqualFold(string(start), "hibr")
		}
		for _, run := range data.runs {
			if run.lcn != hole {
				v.Fleeting = append(v.Fleeting, Extent{run.lcn * n.cluster, run.count * n.cluster})
			}
		}
	}
	slices.SortFunc(v.Fleeting, func(a, b Extent) int {
		if a.Start < b.Start {
			return -1
		}
		return 1
	})
	for i, e := range v.Fleeting {
		if i > 0 && e.Start < v.Fleeting[i-1].End() {
			return fmt.Errorf("%w: two page files share cluster %d", ErrDamaged, e.Start/n.cluster)
		}
	}
	return nil
}

// logIsClean reads the restart pages of $LogFile: clean is a log that is empty
// (all ones), that no client has open, or that is marked so.
func (n *ntfs) logIsClean() (bool, error) {
	log, err := n.attribute(fileLogFile, attrData, "")
	if err != nil {
		return false, err
	}
	const page = 4096
	if log.size < 2*page {
		return true, nil // too small to hold a log
	}
	clean := false
	newest := uint64(0)
	b := make([]byte, page)
	for at := int64(0); at < 2*page; at += page {
		if err := n.readAttribute(log, b, at); err != nil {
			return false, err
		}
		if binary.LittleEndian.Uint64(b) == ^uint64(0) {
			if at == 0 {
				return true, nil
			}
			continue
		}
		le := binary.LittleEndian
		area := int(le.Uint16(b[0x18:]))
		if string(b[:4]) != "RSTR" || unfix(b, 512) != nil || area+16 > page {
			continue
		}
		if lsn := le.Uint64(b[area:]); lsn >= newest {
			newest = lsn
			clean = le.Uint16(b[area+12:]) == 0xFFFF || le.Uint16(b[area+14:])&2 != 0
		}
	}
	return clean, nil
}
