package partition

import (
	"fmt"
	"hash/crc32"
	"io"
	"slices"
)

// Write writes the table, the sector that makes it a table last: of a GPT the
// backup, the primary copy, the protective MBR, each on the medium before the next if the
// disk has a method Sync; of an MBR the extended boot records, then sector 0. A disk
// without a table gets none.
func (t *Table) Write(disk io.WriterAt) error {
	if err := t.Check(); err != nil {
		return err
	}
	switch t.Scheme {
	case None:
		return nil
	case MBR:
		return t.writeMBR(disk)
	}
	last := t.Sectors - 1
	if t.LastUsable > last-t.entrySectors()-1 {
		return fmt.Errorf("%w: no room for the backup behind sector %d", ErrDamaged, t.LastUsable)
	}
	entries := t.entries()
	flush := func() error { return nil } // so that one copy is whole while the other is written
	if s, can := disk.(interface{ Sync() error }); can {
		flush = s.Sync
	}
	type part struct {
		what string
		data []byte
		lba  uint64
	}
	backup := []part{{"backup entries", entries, last - t.entrySectors()}, {"backup header", t.header(last, 1, last-t.entrySectors(), entries), last}}
	primary := []part{{"primary entries", entries, 2}, {"primary header", t.header(1, last, 2, entries), 1}}
	order := [][]part{backup, primary}
	if t.Unsound { // the backup is all there is until the other is whole
		slices.Reverse(order)
	}
	for _, parts := range append(order, []part{{"protective MBR", t.mbr(), 0}}) {
		for _, p := range parts {
			if _, err := disk.WriteAt(p.data, int64(p.lba)*int64(t.SectorSize)); err != nil {
				return fmt.Errorf("write the %s: %w", p.what, err)
			}
		}
		if err := flush(); err != nil {
			return fmt.Errorf("write the %s: %w", parts[0].what, err)
		}
	}
	return nil
}

// Wipe overwrites both ends of a disk where a table of any kind would be found,
// so that nothing takes a half-restored disk for a whole one.
func Wipe(disk io.WriterAt, size int64, sectorSize int) error {
	ends := int64(34 * sectorSize) // MBR, header and 128 entries, rounded up for 4096-byte sectors
	ends = min(ends, size)
	zero := make([]byte, ends)
	for _, off := range []int64{0, size - ends} {
		if _, err := disk.WriteAt(zero, off); err != nil {
			return fmt.Errorf("wipe the old partition table: %w", err)
		}
	}
	return nil
}

func (t *Table) entries() []byte {
	b := make([]byte, t.entrySectors()*uint64(t.SectorSize))
	for _, p := range t.Partitions {
		e := b[(p.Number-1)*entrySize:][:entrySize]
		putGUID(e[entType:], p.Type)
		putGUID(e[entID:], p.ID)
		le.PutUint64(e[entFirst:], p.First)
		le.PutUint64(e[entLast:], p.Last)
		le.PutUint64(e[entAttributes:], p.Attributes)
		putName(e[entName:], p.Name)
	}
	return b
}

func (t *Table) header(this, other, entriesAt uint64, entries []byte) []byte {
	h := make([]byte, t.SectorSize)
	copy(h, signature)
	le.PutUint32(h[hdrRevision:], revision)
	le.PutUint32(h[hdrSize:], headerSize)
	le.PutUint64(h[hdrThis:], this)
	le.PutUint64(h[hdrOther:], other)
	le.PutUint64(h[hdrFirstUsable:], t.FirstUsable)
	le.PutUint64(h[hdrLastUsable:], t.LastUsable)
	putGUID(h[hdrDiskID:], t.DiskID)
	le.PutUint64(h[hdrEntries:], entriesAt)
	le.PutUint32(h[hdrSlots:], uint32(t.Slots))
	le.PutUint32(h[hdrEntrySize:], entrySize)
	le.PutUint32(h[hdrEntriesCRC:], crc32.ChecksumIEEE(entries[:t.Slots*entrySize]))
	le.PutUint32(h[hdrCRC:], crc32.ChecksumIEEE(h[:headerSize]))
	return h
}

// mbr is the protective MBR of UEFI 5.2.3.
func (t *Table) mbr() []byte {
	b := make([]byte, t.SectorSize)
	copy(b, t.BootCode)
	le.PutUint32(b[mbrDiskSignature:], t.Signature)
	r := b[mbrRecord:]
	copy(r[1:], []byte{0x00, 0x02, 0x00}) // sector 1 in cylinder, head, sector terms
	r[4] = protectiveMBR
	copy(r[5:], []byte{0xFF, 0xFF, 0xFF})
	le.PutUint32(r[8:], 1)
	le.PutUint32(r[12:], uint32(min(t.Sectors-1, 0xFFFFFFFF)))
	le.PutUint16(b[mbrSignature:], mbrMagic)
	return b
}
