package fileview

import (
	"encoding/binary"
	"errors"
	"io"
)

// secondTable shows a FAT32 volume with a single table as one with two, as the library
// compares them: behind the table it comes once more, and everything else moves by its
// length. The numbers of clusters count from there, so they stay right.
type secondTable struct {
	r           io.ReaderAt
	first, size int64 // of the table, in bytes
}

// withTwoTables is a FAT32 volume as the library reads it, and how long that is.
func withTwoTables(r io.ReaderAt, size int64) (io.ReaderAt, int64, error) {
	const (
		bytesPerSector = 0x0B
		reserved       = 0x0E
		tables         = 0x10
		perTable       = 0x24
	)
	b := make([]byte, 512)
	if _, err := r.ReadAt(b, 0); err != nil && !errors.Is(err, io.EOF) {
		return nil, 0, err
	}
	if b[tables] != 1 {
		return r, size, nil
	}
	sector := int64(binary.LittleEndian.Uint16(b[bytesPerSector:]))
	t := &secondTable{r, sector * int64(binary.LittleEndian.Uint16(b[reserved:])), sector * int64(binary.LittleEndian.Uint32(b[perTable:]))}
	return t, size + t.size, nil
}

func (t *secondTable) ReadAt(b []byte, off int64) (done int, err error) {
	behind := t.first + t.size
	for done < len(b) && err == nil {
		at, part := off+int64(done), b[done:]
		from := at - t.size
		if at < behind {
			from = at
			part = part[:min(int64(len(part)), behind-at)]
		} else if at < behind+t.size {
			part = part[:min(int64(len(part)), behind+t.size-at)]
		}
		var n int
		n, err = t.r.ReadAt(part, from)
		done += n
		if n == len(part) {
			err = nil
		}
	}
	return done, err
}
