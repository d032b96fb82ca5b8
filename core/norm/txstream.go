package norm

import (
	"encoding/binary"
	"fmt"
	"time"
)

// streamHeader is the length of what stands before the bytes of a stream's
// symbol (section 4.2.1); it is part of the symbol and covered by the parity:
//
//	|          payload_len          |       payload_msg_start       |
//	|                        payload_offset                         |
//
// A payload_len of 0 is a control code in payload_msg_start, and the only one is
// the end of the stream.
const (
	streamHeader = 8
	streamEnd    = 0
)

// txStream is the sending end of a stream: the blocks that can still be repaired.
type txStream struct {
	symbol, perBlock int // bytes without header, symbols
	capacity         int // blocks

	first  uint32     // number of the oldest block
	blocks [][][]byte // symbols, the last block growing
	sentAt []time.Time
	open   []byte // the symbol that is being filled; nil if none is
	offset uint32 // bytes written, wrapping
	closed bool

	object *txObject
}

// OpenStream begins a stream that keeps about this many bytes for repair.
func (s *Sender) OpenStream(now time.Time, info []byte, buffer int) (ObjectID, error) {
	if len(info) > s.config.SymbolSize {
		return 0, fmt.Errorf("%w: a stream with %d bytes of information", ErrObject, len(info))
	}
	k := s.config.MaxBlock
	l := layout{Size: int64(buffer), Symbol: s.config.SymbolSize, Max: k, large: k, small: k, blocks: maxBlocks}
	o := newTxObject(Object{Kind: Stream, Info: info}, l)
	o.stream = &txStream{symbol: l.Symbol, perBlock: k, capacity: max(buffer/(k*l.Symbol), 2), object: o}
	return s.enqueue(now, o)
}

// WriteStream appends to a stream and returns how many bytes there was room for.
func (s *Sender) WriteStream(now time.Time, id ObjectID, p []byte) int {
	o := s.object(id)
	if o == nil || o.stream == nil || o.stream.closed {
		return 0
	}
	st, n := o.stream, 0
	for n < len(p) {
		if st.open == nil && !s.makeRoom(now, o) {
			break
		}
		k := min(len(p)-n, st.symbol+streamHeader-len(st.open))
		st.open = append(st.open, p[n:n+k]...)
		n += k
		if len(st.open) == st.symbol+streamHeader {
			st.push()
		}
	}
	if n > 0 {
		s.flush.restart(now)
	}
	return n
}

// FlushStream lets go what does not fill a symbol.
func (s *Sender) FlushStream(id ObjectID) {
	if o := s.object(id); o != nil && o.stream != nil && len(o.stream.open) > streamHeader {
		o.stream.push()
	}
}

// CloseStream ends a stream behind what was written; it is false when there is no
// room to say so yet.
func (s *Sender) CloseStream(now time.Time, id ObjectID) bool {
	o := s.object(id)
	if o == nil || o.stream == nil || o.stream.closed {
		return true
	}
	s.FlushStream(id)
	if o.stream.open == nil && !s.makeRoom(now, o) {
		return false
	}
	o.stream.push() // a symbol without bytes is the end
	o.stream.closed = true
	s.flush.restart(now)
	return true
}

// makeRoom begins a symbol; for a new block the oldest has to be old enough.
func (s *Sender) makeRoom(now time.Time, o *txObject) bool {
	st := o.stream
	if n := len(st.blocks); n == 0 || len(st.blocks[n-1]) == st.perBlock {
		if n >= st.capacity {
			if st.first >= o.block || now.Sub(st.sentAt[0]) < s.keep() {
				return false
			}
			if b := o.blocks[st.first]; b != nil {
				if b.queued {
					return false
				}
				delete(o.blocks, st.first)
			}
			st.blocks, st.sentAt, st.first = st.blocks[1:], st.sentAt[1:], st.first+1
		}
		st.blocks = append(st.blocks, make([][]byte, 0, st.perBlock))
		st.sentAt = append(st.sentAt, now)
	}
	st.open = make([]byte, streamHeader, streamHeader+st.symbol)
	return true
}

// push makes the open symbol ready to be sent.
func (st *txStream) push() {
	n := len(st.open) - streamHeader
	binary.BigEndian.PutUint16(st.open, uint16(n))
	binary.BigEndian.PutUint16(st.open[2:], streamEnd)
	binary.BigEndian.PutUint32(st.open[4:], st.offset)
	st.offset += uint32(n)
	last := len(st.blocks) - 1
	st.blocks[last] = append(st.blocks[last], st.open)
	st.open = nil
}

// end is the number behind the newest block.
func (st *txStream) end() uint32 { return st.first + uint32(len(st.blocks)) }

// pending reports that there is a symbol that was never sent.
func (st *txStream) pending() bool {
	o := st.object
	if o.infoLeft {
		return true
	}
	if o.block < st.first || o.block >= st.end() {
		return false
	}
	return o.symbol >= st.perBlock || o.symbol < len(st.blocks[o.block-st.first])
}

func (st *txStream) sentAll() bool { return !st.pending() && st.open == nil }

// last is the position of the last symbol that was sent.
func (st *txStream) last() (position, bool) {
	o := st.object
	switch {
	case o.symbol > 0:
		return position{Block: o.block, Symbol: uint8(min(o.symbol, st.perBlock) - 1)}, true
	case o.block > 0:
		return position{Block: o.block - 1, Symbol: uint8(st.perBlock - 1)}, true
	}
	return position{}, false
}

// block returns the symbols of a block that is full.
func (st *txStream) block(n uint32, into [][]byte) [][]byte {
	return append(into, st.blocks[n-st.first]...)
}

// symbolBytes returns a source symbol, header included.
func (st *txStream) symbolBytes(block uint32, i int) []byte { return st.blocks[block-st.first][i] }
