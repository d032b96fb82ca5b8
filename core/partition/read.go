package partition

import (
	"bytes"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"slices"

	"github.com/google/uuid"
)

// Read reads the table of a disk of size bytes whose logical sectors have
// sectorSize bytes. Of a GPT both copies are checked; when just one is sound it
// is used and the fault is put into Findings. A disk on which no table is found
// has the scheme None. Errors wrap ErrDamaged or are those of disk.
func Read(disk io.ReaderAt, size int64, sectorSize int) (*Table, error) {
	if sectorSize != 512 && sectorSize != 4096 {
		return nil, fmt.Errorf("sectors of %d bytes are not supported (512 or 4096 are)", sectorSize)
	}
	sectors := uint64(max(size, 0)) / uint64(sectorSize)
	if sectors < 8 {
		return nil, fmt.Errorf("%w: the disk has only %d bytes", ErrDamaged, size)
	}
	first := make([]byte, sectorSize)
	if err := readFull(disk, first, 0); err != nil {
		return nil, fmt.Errorf("read sector 0: %w", err)
	}
	d := gptReader{disk: disk, sectors: sectors, sectorSize: sectorSize}
	table, err := d.read(first)
	if table == nil && err == nil {
		table, err = readMBR(disk, first, sectors, sectorSize)
	}
	if table == nil && err == nil {
		table = Bare(size, sectorSize)
	}
	if err != nil {
		return nil, err
	}
	return table, table.Check()
}

// Bare is the table of a disk of size bytes that has none.
func Bare(size int64, sectorSize int) *Table {
	sectors := uint64(max(size, 0)) / uint64(sectorSize)
	return &Table{Scheme: None, SectorSize: sectorSize, Sectors: sectors, LastUsable: sectors - 1, Partitions: []Partition{}}
}

type gptReader struct {
	disk       io.ReaderAt
	sectors    uint64
	sectorSize int
}

// errNoHeader says that a sector holds no GPT header at all.
var errNoHeader = errors.New("there is no header")

// read returns nil, nil for a disk that has no GPT. One is there if either
// header is, or if sector 0 announces it.
func (d gptReader) read(first []byte) (*Table, error) {
	announced := le.Uint16(first[mbrSignature:]) == mbrMagic && readRecord(first, 0).code == protectiveMBR
	table, err := d.copyAt(1)
	switch {
	case err == nil:
		if finding := d.backupFault(); finding != "" {
			table.Findings = append(table.Findings, finding)
		}
	case !errors.Is(err, ErrDamaged) && !errors.Is(err, errNoHeader):
		return nil, err
	default:
		// An old GPT's backup can be left at the end of a disk that was made anew
		// with an MBR; only a broken or announced primary is looked for there.
		if errors.Is(err, errNoHeader) && !announced && !allZero(first[mbrRecord:]) {
			return nil, nil
		}
		backup, backupErr := d.copyAt(d.sectors - 1)
		if backupErr != nil {
			if errors.Is(err, errNoHeader) && !announced {
				return nil, nil
			}
			return nil, fmt.Errorf("%w: the primary copy is unusable (%v), and there is no sound backup at the end of the disk", ErrDamaged, err)
		}
		table = backup
		table.Unsound = true
		table.FromBackup = errors.Is(err, errNoHeader) && !announced
		table.Findings = append(table.Findings, fmt.Sprintf("the primary partition table is unusable (%v); the backup at the end of the disk was read instead", err))
	}
	if code := first[:bootCodeLen]; !allZero(code) {
		table.BootCode = bytes.Clone(bytes.TrimRight(code, "\x00"))
	}
	table.Signature = le.Uint32(first[mbrDiskSignature:])
	if announced && !allZero(first[mbrRecord+mbrRecordSize:mbrSignature]) {
		table.Findings = append(table.Findings, "sector 0 lists partitions of its own beside the GPT; only the GPT's are kept")
	}
	return table, nil
}

// backupFault tells what is wrong with the copy at the end of the disk while
// the primary is sound.
func (d gptReader) backupFault() string {
	_, err := d.copyAt(d.sectors - 1)
	if err == nil {
		return ""
	}
	h := make([]byte, d.sectorSize)
	if readFull(d.disk, h, int64(d.sectorSize)) == nil {
		other := le.Uint64(h[hdrOther:])
		if _, err := d.copyAt(other); other > 1 && other < d.sectors && err == nil {
			return fmt.Sprintf("the backup partition table lies in sector %d, not at the end of the disk: the disk was enlarged", other)
		}
	}
	return fmt.Sprintf("the backup partition table at the end of the disk is unusable (%v)", err)
}

// copyAt reads the header at sector lba and the entries it points to.
func (d gptReader) copyAt(lba uint64) (*Table, error) {
	h := make([]byte, d.sectorSize)
	if err := readFull(d.disk, h, int64(lba)*int64(d.sectorSize)); err != nil {
		return nil, fmt.Errorf("read sector %d: %w", lba, err)
	}
	if string(h[:8]) != signature {
		return nil, fmt.Errorf("%w in sector %d", errNoHeader, lba)
	}
	// UEFI 5.3.2: the header's CRC covers HeaderSize bytes with the CRC field zero.
	n := le.Uint32(h[hdrSize:])
	if n < headerSize || n > uint32(d.sectorSize) {
		return nil, fmt.Errorf("%w: the header in sector %d claims %d bytes", ErrDamaged, lba, n)
	}
	sum := le.Uint32(h[hdrCRC:])
	le.PutUint32(h[hdrCRC:], 0)
	if crc32.ChecksumIEEE(h[:n]) != sum {
		return nil, fmt.Errorf("%w: the checksum of the header in sector %d is wrong", ErrDamaged, lba)
	}
	if this := le.Uint64(h[hdrThis:]); this != lba {
		return nil, fmt.Errorf("%w: the header in sector %d says it belongs into sector %d", ErrDamaged, lba, this)
	}
	t := &Table{
		Scheme:      GPT,
		SectorSize:  d.sectorSize,
		Sectors:     d.sectors,
		DiskID:      guid(h[hdrDiskID:]),
		FirstUsable: le.Uint64(h[hdrFirstUsable:]),
		LastUsable:  le.Uint64(h[hdrLastUsable:]),
	}
	slots, size := le.Uint32(h[hdrSlots:]), le.Uint32(h[hdrEntrySize:])
	if slots == 0 || slots > maxSlots || size < entrySize || size > maxEntrySize || size%8 != 0 {
		return nil, fmt.Errorf("%w: the header in sector %d claims %d entries of %d bytes", ErrDamaged, lba, slots, size)
	}
	t.Slots = int(slots)
	if t.FirstUsable > t.LastUsable || t.LastUsable >= d.sectors || t.FirstUsable < 2 {
		return nil, fmt.Errorf("%w: the header in sector %d calls sectors %d to %d usable on a disk of %d",
			ErrDamaged, lba, t.FirstUsable, t.LastUsable, d.sectors)
	}
	at := le.Uint64(h[hdrEntries:])
	if at < 2 || at >= d.sectors {
		return nil, fmt.Errorf("%w: the header in sector %d puts its entries into sector %d", ErrDamaged, lba, at)
	}
	entries := make([]byte, int(slots)*int(size))
	if err := readFull(d.disk, entries, int64(at)*int64(d.sectorSize)); err != nil {
		return nil, fmt.Errorf("read the entries in sector %d: %w", at, err)
	}
	if crc32.ChecksumIEEE(entries) != le.Uint32(h[hdrEntriesCRC:]) {
		return nil, fmt.Errorf("%w: the checksum of the entries in sector %d is wrong", ErrDamaged, at)
	}
	for i := range t.Slots {
		e := entries[i*int(size):][:entrySize]
		kind := guid(e[entType:])
		if kind == uuid.Nil {
			if !allZero(e) {
				t.Findings = append(t.Findings, fmt.Sprintf("entry %d is not in use and not empty, either; copies have it empty", i+1))
			}
			continue
		}
		t.Partitions = append(t.Partitions, Partition{
			Number:     i + 1,
			Type:       kind,
			ID:         guid(e[entID:]),
			First:      le.Uint64(e[entFirst:]),
			Last:       le.Uint64(e[entLast:]),
			Attributes: le.Uint64(e[entAttributes:]),
			Name:       name(e[entName:]),
		})
	}
	return t, nil
}

// readFull fills b from disk; an early end is damage, not the end of a stream.
func readFull(disk io.ReaderAt, b []byte, off int64) error {
	n, err := disk.ReadAt(b, off)
	if n == len(b) {
		return nil
	}
	if errors.Is(err, io.EOF) {
		return fmt.Errorf("%w: the disk ends before byte %d", ErrDamaged, off+int64(len(b)))
	}
	return err
}

func allZero(b []byte) bool {
	return !slices.ContainsFunc(b, func(c byte) bool { return c != 0 })
}
