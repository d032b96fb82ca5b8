package norm

import (
	"encoding/binary"
)

// rxStream is the receiving end of a stream: its bytes are handed on in order.
type rxStream struct {
	begun  bool
	block  uint32 // the next symbol to hand on
	symbol int
	heard  uint32 // number behind the newest block
	offset int64  // bytes handed on
}

// start begins with the block that is heard first, or with the first of all.
func (st *rxStream) start(o *rxObject, d *dataMessage) {
	if !st.begun {
		st.begun = true
		if !o.m.r.config.FromStart {
			st.block = d.Block
		}
	}
	st.heard = max(st.heard, d.Block+1)
}

// read hands on what is there.
func (st *rxStream) read(o *rxObject) {
	for {
		b := o.blocks[st.block]
		if b == nil || !b.has(st.symbol) {
			return
		}
		size := o.symbolSize()
		s := b.bytes[st.symbol*size:][:size]
		n := int(binary.BigEndian.Uint16(s))
		if n == 0 && binary.BigEndian.Uint16(s[2:]) == streamEnd || n > o.layout.Symbol {
			o.drop()
			o.m.r.events = append(o.m.r.events, ReceiverEvent{Kind: Completed, Head: o.head(), Info: o.info, Sink: o.sink})
			return
		}
		if _, err := o.sink.WriteAt(s[streamHeader:][:n], st.offset); err != nil {
			o.m.broken(o, err)
			return
		}
		st.offset += int64(n)
		if st.symbol++; st.symbol == o.layout.Max {
			o.release(st.block, b)
			st.block, st.symbol = st.block+1, 0
		}
	}
}

// skip gives a stream up whose sender does not have the bytes any more that come
// next.
func (st *rxStream) skip(o *rxObject, first uint32) {
	if st.block < first {
		o.m.broken(o, nil)
	}
}
