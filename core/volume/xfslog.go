package volume

import (
	"encoding/binary"
	"fmt"
)

// The log of XFS is a ring of basic blocks of 512 bytes. Each begins with the
// number of the round (cycle) it was written in, so the place where writing
// stopped is where that number drops. A file system that was unmounted has, right
// before it, a record with a single operation that says so.
const (
	basicBlock     = 512
	xfsLogMagic    = 0xFEEDBABE
	xfsUnmountFlag = 0x20
	xfsMaxRecord   = 256 << 10                                            // bytes
	xfsHeaderSpan  = 32 << 10                                             // bytes of a record for which one header block suffices
	xfsLookBack    = xfsMaxRecord/basicBlock + xfsMaxRecord/xfsHeaderSpan // blocks
)

// logIsClean tells whether the last thing in the log is an unmount.
func (f *xfs) logIsClean() (bool, error) {
	group, in := f.log>>f.groupBits, f.log&(1<<f.groupBits-1)
	start := (group*f.perGroup + in) * f.block
	n := f.logBlocks * f.block / basicBlock
	if group >= f.groups || in >= f.perGroup || n < 2 || start+n*basicBlock > f.blocks*f.block {
		return false, fmt.Errorf("%w: block %d and %d more", ErrDamaged, f.log, f.logBlocks)
	}
	be := binary.BigEndian
	b := make([]byte, basicBlock)
	read := func(i int64) error { return readAt(f.r, b, start+i*basicBlock) }
	cycle := func(i int64) (uint32, error) {
		if err := read(i); err != nil {
			return 0, err
		}
		if be.Uint32(b) == xfsLogMagic {
			return be.Uint32(b[4:]), nil
		}
		return be.Uint32(b), nil
	}
	first, err := cycle(0)
	if err != nil {
		return false, err
	}
	last, err := cycle(n - 1)
	if err != nil {
		return false, err
	}
	if first == 0 {
		return last == 0, nil // never written to
	}
	// The first block of an older round; behind the end if all are of one.
	end := int64(0)
	if last != first {
		low, high := int64(0), n-1 // low is of the first block's round, high is not
		for high-low > 1 {
			middle := (low + high) / 2
			c, err := cycle(middle)
			if err != nil {
				return false, err
			}
			if c == first {
				low = middle
			} else {
				high = middle
			}
		}
		end = high
	}
	for back := int64(1); back <= min(xfsLookBack, n); back++ {
		at := (end - back + n) % n
		if err := read(at); err != nil {
			return false, err
		}
		if be.Uint32(b) != xfsLogMagic {
			continue
		}
		headers := int64(1)
		if size := int64(be.Uint32(b[320:])); be.Uint32(b[8:])&2 != 0 && size > xfsHeaderSpan && size <= xfsMaxRecord {
			headers = (size + xfsHeaderSpan - 1) / xfsHeaderSpan
		}
		length := int64(be.Uint32(b[12:]))
		if length > xfsMaxRecord || be.Uint32(b[40:]) != 1 || back != headers+(length+basicBlock-1)/basicBlock {
			return false, nil // there is more in it than an unmount, or it was cut off
		}
		if err := read((at + headers) % n); err != nil {
			return false, err
		}
		return b[9]&xfsUnmountFlag != 0, nil
	}
	return false, nil
}
