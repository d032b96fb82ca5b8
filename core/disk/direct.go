package disk

import (
	"errors"
	"os"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Large pieces go between memory and medium directly, past the page cache: they would go
// through it once, push out what others need, and be copied on the way. Small ones, and
// those that do not lie as a medium wants it, take the way through the cache; the kernel
// keeps the two alike.
const (
	// alignment is how pieces lie in memory and on the medium, in bytes: what the largest
	// sectors want.
	alignment = 4096
	// leastDirect is how long a piece is at least, in bytes: shorter ones are gathered by the
	// cache.
	leastDirect = 64 << 10
)

// Waiting is how many processors (runtime.GOMAXPROCS) a program that works on disks should
// have beyond those that there are: a request holds one for as long as it waits.
const Waiting = 2

// Buffer is n bytes that lie so that a disk can take them, and give them, directly.
func Buffer(n int) []byte {
	b := make([]byte, n+alignment)
	skip := -uintptr(unsafe.Pointer(&b[0])) & (alignment - 1)
	return b[skip : int(skip)+n : int(skip)+n]
}

// openDirect opens a disk a second time, for large pieces; nil where that is not possible.
func openDirect(path string, write bool) *os.File {
	flags := os.O_RDONLY
	if write {
		flags = os.O_RDWR
	}
	f, err := os.OpenFile(path, flags|unix.O_DIRECT, 0)
	if err != nil {
		return nil
	}
	return f
}

// goesDirectly tells whether a piece can take the short way.
func (d *Disk) goesDirectly(b []byte, off int64) bool {
	return d.direct != nil && len(b) >= leastDirect && len(b)%alignment == 0 && off%alignment == 0 &&
		off+int64(len(b)) <= d.size && uintptr(unsafe.Pointer(&b[0]))%alignment == 0
}

// ReadAt reads as a file does.
func (d *Disk) ReadAt(b []byte, off int64) (int, error) {
	if d.goesDirectly(b, off) {
		if n, err := d.direct.ReadAt(b, off); !errors.Is(err, unix.EINVAL) {
			return n, err
		}
	}
	return d.File.ReadAt(b, off)
}

// put writes a piece that lies within the disk.
func (d *Disk) put(b []byte, off int64) (int, error) {
	if d.goesDirectly(b, off) {
		if n, err := d.direct.WriteAt(b, off); !errors.Is(err, unix.EINVAL) {
			return n, err
		}
	}
	n, err := d.File.WriteAt(b, off)
	if total := d.written.Add(int64(n)); total/writeBehind != (total-int64(n))/writeBehind {
		// Advice only: Sync tells whether it came to pass.
		_ = unix.SyncFileRange(int(d.Fd()), 0, 0, unix.SYNC_FILE_RANGE_WRITE)
	}
	return n, err
}

// Close closes the disk.
func (d *Disk) Close() error {
	if d.direct != nil {
		d.direct.Close() // what it failed to write, WriteAt has told
	}
	return d.File.Close()
}
