package volume

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// ReadWriterAt is a volume that can be changed.
type ReadWriterAt interface {
	io.ReaderAt
	io.WriterAt
}

// Relocate tells a volume of size bytes that its partition now begins at sector
// to of the disk instead of from. FAT, exFAT and NTFS keep that number in the
// boot sector and its backup, for the boot code; others do not care. A number
// that was not from is left alone.
func Relocate(v ReadWriterAt, size int64, from, to uint64) error {
	b, err := head(v, size, 0, 512)
	le := binary.LittleEndian
	if b == nil || err != nil || le.Uint16(b[510:]) != 0xAA55 {
		return err
	}
	sector := int64(le.Uint16(b[11:]))
	switch {
	case string(b[3:11]) == "EXFAT   ":
		if le.Uint64(b[64:]) != from || b[108] < 9 || b[108] > 12 {
			return nil
		}
		sector = 1 << b[108]
		return errors.Join(relocateExFAT(v, 0, sector, to), relocateExFAT(v, exfatRegion*sector, sector, to))
	case string(b[3:11]) == "NTFS    ":
		err := relocateHidden(v, 0, from, to)
		// In a partition that became shorter the backup is not there; Resize makes it.
		if backup := int64(le.Uint64(b[0x28:])); backup > 0 && sector > 0 && backup < size/sector {
			err = errors.Join(err, relocateHidden(v, backup*sector, from, to))
		}
		return err
	}
	fat, err := probeFAT(v, size)
	if err != nil || fat == nil {
		return err
	}
	err = relocateHidden(v, 0, from, to)
	if backup := int64(le.Uint16(b[50:])); fat.Kind == FAT32 && backup > 0 && backup < int64(le.Uint16(b[14:])) {
		err = errors.Join(err, relocateHidden(v, backup*sector, from, to))
	}
	return err
}

// relocateHidden changes the count of "hidden" sectors in a boot sector.
func relocateHidden(v ReadWriterAt, at int64, from, to uint64) error {
	b := make([]byte, 512)
	if err := readAt(v, b, at); err != nil {
		return err
	}
	le := binary.LittleEndian
	if le.Uint16(b[510:]) != 0xAA55 || uint64(le.Uint32(b[0x1C:])) != from || to >= 1<<32 {
		return nil
	}
	le.PutUint32(b[0x1C:], uint32(to))
	return writeBack(v, b, at)
}

// relocateExFAT changes one boot region, whose checksum covers the number.
func relocateExFAT(v ReadWriterAt, at, sector int64, to uint64) error {
	b := make([]byte, exfatRegion*sector)
	if err := readAt(v, b, at); err != nil {
		return err
	}
	binary.LittleEndian.PutUint64(b[64:], to)
	sum := exfatChecksum(b[:11*sector])
	for i := 11 * sector; i < 12*sector; i += 4 {
		binary.LittleEndian.PutUint32(b[i:], sum)
	}
	return writeBack(v, b, at)
}

// writeBack writes and makes sure that it was written.
func writeBack(v ReadWriterAt, b []byte, at int64) error {
	if _, err := v.WriteAt(b, at); err != nil {
		return err
	}
	got := make([]byte, len(b))
	if err := readAt(v, got, at); err != nil {
		return err
	}
	if !bytes.Equal(got, b) {
		return fmt.Errorf("byte %d reads back differently from what was written; the disk is failing", at)
	}
	return nil
}
