package agent

import (
	"context"
	"encoding/binary"
	"fmt"
	"os"
	"strconv"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"
)

const (
	// pieceBytes is how much memory is taken at once.
	pieceBytes = 16 << 20
	// leftFree is what the rest of the machine keeps.
	leftFree = 96 << 20
)

// freeMemory is all memory that nobody has: taken and held piece by piece, so that each is another part of the machine's.
type freeMemory struct {
	pieces [][]byte
	words  [][]uint64
}

// Pieces is check.Memory's.
func (m *freeMemory) Pieces(ctx context.Context) ([][]uint64, error) {
	for ctx.Err() == nil {
		free, err := availableMemory()
		if err != nil {
			return nil, err
		}
		if free < leftFree+pieceBytes {
			break
		}
		b, err := unix.Mmap(-1, 0, pieceBytes, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_PRIVATE|unix.MAP_ANONYMOUS|unix.MAP_POPULATE)
		if err != nil {
			break
		}
		_ = unix.Mlock(b) // keeps it from being swapped out; the boot environment has no swap anyway
		m.pieces = append(m.pieces, b)
		m.words = append(m.words, unsafe.Slice((*uint64)(unsafe.Pointer(&b[0])), len(b)/8))
	}
	if len(m.words) == 0 {
		return nil, fmt.Errorf("too little memory is free: %d MiB are left for the machine itself", leftFree>>20)
	}
	return m.words, ctx.Err()
}

// Settle is check.Memory's: what was written is far more than caches hold.
func (m *freeMemory) Settle() {}

// Address is check.Memory's, by the kernel's pagemap (Documentation/admin-guide/mm/pagemap.rst).
func (m *freeMemory) Address(piece, word int) (uint64, bool) {
	f, err := os.Open("/proc/self/pagemap")
	if err != nil {
		return 0, false
	}
	defer f.Close()
	page := uint64(os.Getpagesize())
	at := uint64(uintptr(unsafe.Pointer(&m.words[piece][word])))
	var entry [8]byte
	if _, err := f.ReadAt(entry[:], int64(at/page*8)); err != nil {
		return 0, false
	}
	const present, frames = 1 << 63, 1<<55 - 1
	e := binary.NativeEndian.Uint64(entry[:])
	if e&present == 0 || e&frames == 0 { // the kernel hides frames from who may not see them
		return 0, false
	}
	return e&frames*page + at%page, true
}

// Close is check.Memory's.
func (m *freeMemory) Close() error {
	for _, b := range m.pieces {
		if err := unix.Munmap(b); err != nil {
			return err
		}
	}
	m.pieces, m.words = nil, nil
	return nil
}

// availableMemory is how much the kernel would give away without trouble, in bytes.
func availableMemory() (int64, error) {
	text, err := os.ReadFile("/proc/meminfo")
	if err != nil {
		return 0, err
	}
	for line := range strings.Lines(string(text)) {
		if rest, is := strings.CutPrefix(line, "MemAvailable:"); is {
			n, err := strconv.ParseInt(strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(rest), "kB")), 10, 64)
			return n << 10, err
		}
	}
	return 0, fmt.Errorf("the kernel does not say how much memory is free")
}
