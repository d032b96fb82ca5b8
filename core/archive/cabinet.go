package archive

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"

	"github.com/klauspost/compress/flate"
)

// The cabinet format, as its maker documents it ([MS-CAB] 2): a header, a list of
// folders that say where their data begins, a list of files that say where in the
// plain bytes of their folder they lie, and the data in blocks.
const (
	cabHeader      = 36
	cabHasPrevious = 1
	cabHasNext     = 2
	cabHasReserve  = 4
	cabFolder      = 8
	cabFile        = 16
	cabData        = 8

	cabKinds   = 0x000f // of a folder's compression
	cabStored  = 0
	cabMSZIP   = 1
	cabQuantum = 2
	cabLZX     = 3

	cabBlock    = 32 << 10 // plain bytes of a block, at most
	maxCabFiles = 65535
	maxCabName  = 256
)

type cabFileEntry struct {
	name         string
	offset, size int64
	folder       int
}

// cabinet reads a cabinet that is whole in one file.
func (o *output) cabinet(r io.ReaderAt, size int64) error {
	head := make([]byte, cabHeader)
	if _, err := r.ReadAt(head, 0); err != nil {
		return fmt.Errorf("%w: its header is cut off", ErrDamaged)
	}
	le := binary.LittleEndian
	files, flags := int(le.Uint16(head[28:])), le.Uint16(head[30:])
	folders, firstFile := int(le.Uint16(head[26:])), int64(le.Uint32(head[16:]))
	if flags&(cabHasPrevious|cabHasNext) != 0 {
		return fmt.Errorf("%w: it is one of several cabinets that belong together; give the whole set unpacked", ErrDamaged)
	}
	at, folderReserve, dataReserve := int64(cabHeader), 0, 0
	if flags&cabHasReserve != 0 {
		sizes := make([]byte, 4)
		if _, err := r.ReadAt(sizes, at); err != nil {
			return fmt.Errorf("%w: its header is cut off", ErrDamaged)
		}
		at += 4 + int64(le.Uint16(sizes))
		folderReserve, dataReserve = int(sizes[2]), int(sizes[3])
	}
	entries, err := cabFiles(r, firstFile, files)
	if err != nil {
		return err
	}
	for n := range folders {
		f := make([]byte, cabFolder)
		if _, err := r.ReadAt(f, at+int64(n*(cabFolder+folderReserve))); err != nil {
			return fmt.Errorf("%w: folder %d is cut off", ErrDamaged, n)
		}
		data := &cabReader{r: r, at: int64(le.Uint32(f)), blocks: int(le.Uint16(f[4:])), reserve: dataReserve}
		switch kind := le.Uint16(f[6:]) & cabKinds; kind {
		case cabStored:
		case cabMSZIP:
			data.zipped = true
		default:
			name := map[uint16]string{cabQuantum: "Quantum", cabLZX: "LZX"}[kind]
			for _, e := range entries {
				if e.folder == n {
					o.skip(e.name, "it is compressed by "+name+", which is not read here; unpack the cabinet first")
				}
			}
			continue
		}
		if err := o.cabFolder(data, n, entries); err != nil {
			return err
		}
	}
	return nil
}

func cabFiles(r io.ReaderAt, at int64, count int) ([]cabFileEntry, error) {
	var all []cabFileEntry
	b := make([]byte, cabFile+maxCabName)
	for i := range min(count, maxCabFiles) {
		n, _ := r.ReadAt(b, at)
		end := -1
		if n > cabFile {
			end = bytes.IndexByte(b[cabFile:n], 0)
		}
		if end < 0 {
			return nil, fmt.Errorf("%w: the entry of file %d is cut off", ErrDamaged, i)
		}
		le := binary.LittleEndian
		all = append(all, cabFileEntry{name: string(b[cabFile : cabFile+end]), size: int64(le.Uint32(b)), offset: int64(le.Uint32(b[4:])), folder: int(le.Uint16(b[8:]))})
		at += int64(cabFile + end + 1)
	}
	return all, nil
}

// cabFolder writes the files of one folder, which lie one after the other.
func (o *output) cabFolder(data *cabReader, number int, entries []cabFileEntry) error {
	var done int64
	for _, e := range entries {
		if e.folder != number {
			continue
		}
		if e.offset < done {
			return fmt.Errorf("%w: %s overlaps the file before it", ErrDamaged, e.name)
		}
		if _, err := io.CopyN(io.Discard, data, e.offset-done); err != nil {
			return fmt.Errorf("%w: %s: %v", ErrDamaged, e.name, err)
		}
		body := &exactly{r: data, left: e.size}
		if err := o.file(e.name, body); err != nil {
			return err
		}
		if _, err := io.Copy(io.Discard, body); err != nil { // it may have been skipped
			return fmt.Errorf("%w: %s: %v", ErrDamaged, e.name, err)
		}
		done = e.offset + e.size
	}
	return nil
}

// exactly is a part of a reader that has to be there in full.
type exactly struct {
	r    io.Reader
	left int64
}

func (e *exactly) Read(b []byte) (int, error) {
	if e.left == 0 {
		return 0, io.EOF
	}
	n, err := e.r.Read(b[:min(int64(len(b)), e.left)])
	if e.left -= int64(n); err == io.EOF && e.left > 0 {
		err = io.ErrUnexpectedEOF
	}
	return n, err
}

// cabReader gives the plain bytes of a folder.
type cabReader struct {
	r       io.ReaderAt
	at      int64
	blocks  int
	reserve int
	zipped  bool
	plain   []byte // what is left of the block
	last    []byte // the block before, which the next may refer to
}

func (c *cabReader) Read(b []byte) (int, error) {
	for len(c.plain) == 0 {
		if c.blocks == 0 {
			return 0, io.EOF
		}
		if err := c.next(); err != nil {
			return 0, err
		}
	}
	n := copy(b, c.plain)
	c.plain = c.plain[n:]
	return n, nil
}

func (c *cabReader) next() error {
	c.blocks--
	head := make([]byte, cabData)
	if _, err := c.r.ReadAt(head, c.at); err != nil {
		return io.ErrUnexpectedEOF
	}
	packed, plain := int(binary.LittleEndian.Uint16(head[4:])), int(binary.LittleEndian.Uint16(head[6:]))
	body := make([]byte, packed)
	c.at += int64(cabData + c.reserve)
	if _, err := c.r.ReadAt(body, c.at); err != nil {
		return io.ErrUnexpectedEOF
	}
	c.at += int64(packed)
	if plain > cabBlock {
		return fmt.Errorf("a block of %d bytes", plain)
	}
	if want := binary.LittleEndian.Uint32(head); want != 0 && c.reserve == 0 && want != cabSum(head[4:8], cabSum(body, 0)) {
		return fmt.Errorf("the checksum of a block is wrong")
	}
	if !c.zipped {
		c.plain = body
		return nil
	}
	if !bytes.HasPrefix(body, []byte("CK")) {
		return fmt.Errorf("a block that is not MSZIP")
	}
	out := make([]byte, plain)
	z := flate.NewReaderDict(bytes.NewReader(body[2:]), c.last)
	if _, err := io.ReadFull(z, out); err != nil {
		return err
	}
	c.plain, c.last = out, out
	return nil
}

// cabSum is the checksum of [MS-CAB] 3.1, over whole words and a rest that counts
// from its end.
func cabSum(b []byte, sum uint32) uint32 {
	for ; len(b) >= 4; b = b[4:] {
		sum ^= binary.LittleEndian.Uint32(b)
	}
	var rest uint32
	for _, c := range b {
		rest = rest<<8 | uint32(c)
	}
	return sum ^ rest
}
