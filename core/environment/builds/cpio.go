package builds

import (
	"fmt"
	"io"
	"strings"
)

// The archive format of the kernel's "initramfs buffer format": cpio newc. Each
// entry is a header of 110 bytes in ASCII, the name with a zero byte, and the
// content, all padded to four bytes; the entry TRAILER!!! ends the archive.
const (
	cpioMagic   = "070701"
	cpioTrailer = "TRAILER!!!"
	cpioAlign   = 4
)

// File types in the mode of an entry, as in stat(2).
const (
	modeFolder  = 0o040000
	modeFile    = 0o100000
	modeSymlink = 0o120000
	modeChar    = 0o020000
)

// cpioWriter writes one archive. Times are zero, so that equal content gives equal
// bytes.
type cpioWriter struct {
	w       io.Writer
	written int64
	inode   uint32
}

func (c *cpioWriter) Write(b []byte) (int, error) {
	n, err := c.w.Write(b)
	c.written += int64(n)
	return n, err
}

// entry writes the head of an entry; size bytes of content have to follow, and pad.
func (c *cpioWriter) entry(name string, mode uint32, size int64, major, minor uint32) error {
	if size < 0 || size > 0xffffffff {
		return fmt.Errorf("%s: %d bytes are too many for an archive of this kind", name, size)
	}
	links := 1
	if mode&modeFolder == modeFolder && mode&modeFile != modeFile {
		links = 2
	}
	c.inode++
	_, err := fmt.Fprintf(c, "%s%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%s\x00",
		cpioMagic, c.inode, mode, 0, 0, links, 0, size, 0, 0, major, minor, len(name)+1, 0, name)
	if err != nil {
		return err
	}
	return c.pad()
}

func (c *cpioWriter) pad() error {
	if over := c.written % cpioAlign; over != 0 {
		_, err := c.Write(make([]byte, cpioAlign-over))
		return err
	}
	return nil
}

// content writes an entry with what is read, exactly size bytes.
func (c *cpioWriter) content(name string, mode uint32, size int64, r io.Reader) error {
	if err := c.entry(name, mode, size, 0, 0); err != nil {
		return err
	}
	n, err := io.Copy(c, io.LimitReader(r, size))
	if err != nil {
		return err
	}
	if n < size {
		return fmt.Errorf("%s: %w after %d of %d bytes", name, io.ErrUnexpectedEOF, n, size)
	}
	return c.pad()
}

func (c *cpioWriter) symlink(name, target string) error {
	return c.content(name, modeSymlink|0o777, int64(len(target)), strings.NewReader(target))
}

// close ends the archive.
func (c *cpioWriter) close() error {
	c.inode = 0
	return c.entry(cpioTrailer, 0, 0, 0, 0)
}
