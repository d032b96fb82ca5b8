package partition

import (
	"bytes"
	"fmt"
	"io"

	"github.com/google/uuid"
)

// The master boot record as it lies on the disk. Numbers are little-endian.
//
//	0    boot code, 440 bytes
//	440  disk signature
//	444  0, or 5A 5A for a disk that is protected from copying
//	446  four records of 16 bytes
//	510  55 AA
//
// A record: status (0x80 is active), first sector as cylinder, head and sector,
// type, last sector so, first sector, how many sectors.
//
// One of the four may be an extended partition. It begins with an extended boot
// record of the same form, whose first record is a logical partition, counted
// from this boot record, and whose second is the next boot record, counted from
// the beginning of the extended partition.
const (
	mbrDiskSignature = 440
	mbrProtection    = 444
	mbrRecord        = 446 // offset of the first of four partition records
	mbrRecordSize    = 16
	mbrSignature     = 510
	mbrMagic         = 0xAA55
	protectiveMBR    = 0xEE
	statusActive     = 0x80
	maxLogical       = 124 // logical partitions; numbers end at 128
)

// Types of an extended partition; the second is the one for disks beyond the
// reach of cylinders, the third Linux's own.
const (
	codeExtended      = 0x05
	codeExtendedLBA   = 0x0F
	codeExtendedLinux = 0x85
)

// record is one of the four in a boot record.
type record struct {
	status, code byte
	first, count uint64 // sectors
}

func readRecord(sector []byte, i int) record {
	r := sector[mbrRecord+i*mbrRecordSize:]
	return record{status: r[0], code: r[4], first: uint64(le.Uint32(r[8:])), count: uint64(le.Uint32(r[12:]))}
}

func putRecord(sector []byte, i int, r record) {
	b := sector[mbrRecord+i*mbrRecordSize:]
	b[0], b[4] = r.status, r.code
	putCHS(b[1:], r.first)
	putCHS(b[5:], r.first+r.count-1)
	le.PutUint32(b[8:], uint32(r.first))
	le.PutUint32(b[12:], uint32(r.count))
}

// putCHS writes a sector as cylinder, head and sector of a disk with 255 heads
// and 63 sectors a track, which is what every firmware assumes today. What lies
// beyond is all ones.
func putCHS(b []byte, lba uint64) {
	const heads, perTrack = 255, 63
	cylinder := lba / (heads * perTrack)
	if cylinder > 1023 {
		copy(b, []byte{0xFE, 0xFF, 0xFF})
		return
	}
	b[0] = byte(lba / perTrack % heads)
	b[1] = byte(lba%perTrack+1) | byte(cylinder>>8<<6)
	b[2] = byte(cylinder)
}

func extended(code byte) bool {
	return code == codeExtended || code == codeExtendedLBA || code == codeExtendedLinux
}

// readMBR reads the table in sector 0. It returns nil, nil if first is no MBR:
// the boot sector of a file system ends in the same two bytes, but where the
// records would be it has code, text or nothing.
func readMBR(disk io.ReaderAt, first []byte, sectors uint64, sectorSize int) (*Table, error) {
	if le.Uint16(first[mbrSignature:]) != mbrMagic {
		return nil, nil
	}
	t := &Table{
		Scheme: MBR, SectorSize: sectorSize, Sectors: sectors,
		Signature: le.Uint32(first[mbrDiskSignature:]), Protection: le.Uint16(first[mbrProtection:]),
		FirstUsable: 1, LastUsable: sectors - 1, Slots: 4,
	}
	for i := range t.Slots {
		r := readRecord(first, i)
		if r.status&^statusActive != 0 {
			return nil, nil
		}
		if r.code == 0 || r.count == 0 {
			if raw := first[mbrRecord+i*mbrRecordSize:][:mbrRecordSize]; !allZero(raw) {
				t.Findings = append(t.Findings, fmt.Sprintf("record %d is not in use and not empty, either; copies have it empty", i+1))
			}
			continue
		}
		if r.first == 0 {
			return nil, nil
		}
		t.Partitions = append(t.Partitions, Partition{Number: i + 1, Code: r.code, Active: r.status == statusActive, First: r.first, Last: r.first + r.count - 1})
	}
	if len(t.Partitions) == 0 {
		return nil, nil
	}
	if code := first[:bootCodeLen]; !allZero(code) {
		t.BootCode = bytes.Clone(bytes.TrimRight(code, "\x00"))
	}
	if container, ok := t.container(); ok {
		if err := t.readLogical(disk, container); err != nil {
			return nil, err
		}
	}
	return t, nil
}

// container is the extended partition.
func (t *Table) container() (Partition, bool) {
	for _, p := range t.Partitions {
		if p.Extended() {
			return p, true
		}
	}
	return Partition{}, false
}

// readLogical follows the chain of extended boot records.
func (t *Table) readLogical(disk io.ReaderAt, container Partition) error {
	sector := make([]byte, t.SectorSize)
	at := container.First
	for n := 5; ; n++ {
		if n > 4+maxLogical {
			return fmt.Errorf("%w: the extended partition has more than %d logical ones, or goes round in a circle", ErrDamaged, maxLogical)
		}
		if at < container.First || at > container.Last || at >= t.Sectors {
			return fmt.Errorf("%w: the chain of logical partitions leaves the extended one at sector %d", ErrDamaged, at)
		}
		if err := readFull(disk, sector, int64(at)*int64(t.SectorSize)); err != nil {
			return fmt.Errorf("read the extended boot record in sector %d: %w", at, err)
		}
		if le.Uint16(sector[mbrSignature:]) != mbrMagic {
			if n == 5 { // an extended partition in which nothing was made yet
				return nil
			}
			return fmt.Errorf("%w: there is no extended boot record in sector %d", ErrDamaged, at)
		}
		if r := readRecord(sector, 0); r.code != 0 && r.count > 0 {
			p := Partition{Number: n, Code: r.code, Active: r.status == statusActive, Record: at, First: at + r.first, Last: at + r.first + r.count - 1}
			if code := sector[:mbrRecord]; !allZero(code) {
				p.BootCode = bytes.Clone(bytes.TrimRight(code, "\x00"))
			}
			t.Partitions = append(t.Partitions, p)
		} else {
			n-- // an empty link, as is left where a logical partition was removed
		}
		next := readRecord(sector, 1)
		if next.code == 0 || next.count == 0 {
			return nil
		}
		if at = container.First + next.first; next.first == 0 {
			return fmt.Errorf("%w: the chain of logical partitions goes round in a circle", ErrDamaged)
		}
	}
}

func (t *Table) checkMBR() error {
	if t.Slots != 4 || t.DiskID != uuid.Nil {
		return fmt.Errorf("%w: an MBR with %d slots", ErrDamaged, t.Slots)
	}
	containers := 0
	for _, p := range t.Partitions {
		if p.Extended() {
			containers++
		}
	}
	if containers > 1 {
		return fmt.Errorf("%w: it has %d extended partitions", ErrDamaged, containers)
	}
	container, has := t.container()
	for i, p := range t.logical() {
		if i > 0 && has && p.Record == container.First {
			return fmt.Errorf("%w: logical partition %d lies where the chain of them begins", ErrDamaged, p.Number)
		}
	}
	for _, p := range t.Partitions {
		switch {
		case len(p.BootCode) > mbrRecord || p.Code == 0 || p.Last-p.First >= 1<<32 || p.First >= 1<<32:
			return fmt.Errorf("%w: partition %d cannot be written into an MBR", ErrDamaged, p.Number)
		case p.Logical() && (!has || p.Record >= p.First || p.Record < container.First || p.Last > container.Last):
			return fmt.Errorf("%w: logical partition %d (sectors %d to %d) lies outside the extended one", ErrDamaged, p.Number, p.First, p.Last)
		case !p.Logical() && p.Record != 0:
			return fmt.Errorf("%w: partition %d is not a logical one", ErrDamaged, p.Number)
		}
	}
	return nil
}

// writeMBR writes the extended boot records, then sector 0.
func (t *Table) writeMBR(disk io.WriterAt) error {
	logical := t.logical()
	container, _ := t.container()
	if len(logical) > 0 && logical[0].Record != container.First {
		head := make([]byte, t.SectorSize) // an empty link
		putRecord(head, 1, record{0, codeExtended, logical[0].Record - container.First, logical[0].Last - logical[0].Record + 1})
		le.PutUint16(head[mbrSignature:], mbrMagic)
		if _, err := disk.WriteAt(head, int64(container.First)*int64(t.SectorSize)); err != nil {
			return fmt.Errorf("write the head of the extended partition: %w", err)
		}
	}
	for i, p := range logical {
		sector := make([]byte, t.SectorSize)
		copy(sector, p.BootCode)
		putRecord(sector, 0, record{p.status(), p.Code, p.First - p.Record, p.Last - p.First + 1})
		if i+1 < len(logical) {
			next := logical[i+1]
			putRecord(sector, 1, record{0, codeExtended, next.Record - container.First, next.Last - next.Record + 1})
		}
		le.PutUint16(sector[mbrSignature:], mbrMagic)
		if _, err := disk.WriteAt(sector, int64(p.Record)*int64(t.SectorSize)); err != nil {
			return fmt.Errorf("write the record of logical partition %d: %w", p.Number, err)
		}
	}
	sector := make([]byte, t.SectorSize)
	copy(sector, t.BootCode)
	le.PutUint32(sector[mbrDiskSignature:], t.Signature)
	le.PutUint16(sector[mbrProtection:], t.Protection)
	for _, p := range t.Partitions {
		if !p.Logical() {
			putRecord(sector, p.Number-1, record{p.status(), p.Code, p.First, p.Last - p.First + 1})
		}
	}
	le.PutUint16(sector[mbrSignature:], mbrMagic)
	if _, err := disk.WriteAt(sector, 0); err != nil {
		return fmt.Errorf("write the MBR: %w", err)
	}
	return nil
}

func (p Partition) status() byte {
	if p.Active {
		return statusActive
	}
	return 0
}
