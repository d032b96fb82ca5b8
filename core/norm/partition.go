package norm

import "fmt"

// layout is how an object is cut into source blocks of source symbols (RFC 5052,
// section 9.1).
type layout struct {
	Size   int64 // bytes of the object
	Symbol int   // bytes
	Max    int   // source symbols of a block, at most

	symbols    int64 // of the object
	blocks     uint32
	large      int    // source symbols of the first blocks
	small      int    // and of the others
	largeCount uint32 // how many blocks are large
}

func newLayout(size int64, symbol, maxBlock int) (layout, error) {
	l := layout{Size: size, Symbol: symbol, Max: maxBlock}
	if size < 0 || size > maxObjectSize || symbol < 1 || maxBlock < 1 || maxBlock > 255 {
		return l, fmt.Errorf("%w: %d bytes in symbols of %d, %d to a block", ErrObject, size, symbol, maxBlock)
	}
	l.symbols = (size + int64(symbol) - 1) / int64(symbol)
	if l.symbols == 0 {
		return l, nil
	}
	n := (l.symbols + int64(maxBlock) - 1) / int64(maxBlock)
	if n > maxBlocks {
		return l, fmt.Errorf("%w: %d bytes are more than %d blocks of %d symbols of %d bytes", ErrObject, size, maxBlocks, maxBlock, symbol)
	}
	l.blocks = uint32(n)
	l.large, l.small = int((l.symbols+n-1)/n), int(l.symbols/n)
	l.largeCount = uint32(l.symbols - int64(l.small)*n)
	return l, nil
}

// blockSymbols is how many source symbols block b has.
func (l layout) blockSymbols(b uint32) int {
	if b < l.largeCount {
		return l.large
	}
	return l.small
}

// blockStart is where block b begins in the object, in bytes.
func (l layout) blockStart(b uint32) int64 {
	n := int64(b) * int64(l.small)
	n += int64(min(b, l.largeCount)) * int64(l.large-l.small)
	return n * int64(l.Symbol)
}

// blockBytes is how many bytes of the object block b has.
func (l layout) blockBytes(b uint32) int {
	return int(min(int64(l.blockSymbols(b))*int64(l.Symbol), l.Size-l.blockStart(b)))
}

// symbolBytes is the length of source symbol s of block b; the last of an object
// may be short.
func (l layout) symbolBytes(b uint32, s int) int {
	return max(min(l.Symbol, l.blockBytes(b)-s*l.Symbol), 0)
}
