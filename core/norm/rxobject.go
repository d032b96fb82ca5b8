package norm

import (
	"slices"

	"jugate/core/fec"
)

// rxObject is an object that is being received.
type rxObject struct {
	m     *remote
	id    ObjectID
	known bool // its layout is
	over  bool // whole, not wanted, or given up

	kind     Kind
	layout   layout
	parity   int // symbols that a block can have, as far as is told
	points   fec.Points
	hasInfo  bool
	infoDone bool
	info     []byte
	sink     Sink
	wanted   bool
	stream   *rxStream

	blocks map[uint32]*rxBlock // begun
	whole  []uint64            // a bit for each block
	low    uint32              // the first block that is not whole
	left   uint32              // blocks that are not
}

// rxBlock is a block of which some symbols have come.
type rxBlock struct {
	have   [4]uint64 // encoding symbol ids
	count  int
	bytes  []byte // of the source symbols
	parity []fec.Received
}

func (b *rxBlock) has(i int) bool { return b.have[i/64]&(1<<(i%64)) != 0 }

func (o *rxObject) head() Head {
	return Head{Sender: o.m.node, From: o.m.from, Instance: o.m.instance, Object: o.id, Kind: o.kind, Size: o.layout.Size}
}

// begin takes the transmission information, and asks where the object goes.
func (o *rxObject) begin(d *dataMessage) bool {
	f := d.FTI
	if f == nil || f.MaxBlock == 0 || f.SymbolSize == 0 {
		return false
	}
	l, err := newLayout(f.TransferLength, int(f.SymbolSize), int(f.MaxBlock))
	if err != nil || d.kind() != Stream && l.Size > o.m.r.config.MaxObject {
		return false
	}
	o.kind, o.layout, o.hasInfo = d.kind(), l, d.Flags&flagInfo != 0
	// The RFC's field is the number of all encoding symbols, which is more than
	// the source symbols alone; a smaller one is what older senders write there,
	// the number of parity symbols. They also count the matrix from zero.
	if f.MaxN > f.MaxBlock {
		o.parity = int(f.MaxN - f.MaxBlock)
	} else {
		o.parity, o.points = min(int(f.MaxN), fec.MaxSymbols-int(f.MaxBlock)), fec.ZeroFirst
	}
	words := int64(l.blocks+63) / 64
	if o.kind != Stream && o.m.r.held+8*words > o.m.r.config.Buffer {
		return false // not now
	}
	o.known = true
	o.sink = o.m.r.config.Open(o.head())
	if o.wanted = o.sink != nil; !o.wanted {
		o.drop()
		return false
	}
	if o.kind == Stream {
		o.layout.large, o.layout.small, o.layout.largeCount, o.layout.blocks = l.Max, l.Max, 0, maxBlocks
		o.stream = &rxStream{}
	} else {
		o.m.r.held += 8 * words
		o.whole = make([]uint64, words)
		o.left = l.blocks
	}
	o.blocks = map[uint32]*rxBlock{}
	return true
}

// drop ends the object and gives its memory back.
func (o *rxObject) drop() {
	for _, b := range o.blocks {
		o.m.r.giveBack(b.bytes)
		o.m.r.held -= int64(len(b.parity) * o.symbolSize())
	}
	o.m.r.held -= 8 * int64(len(o.whole))
	o.blocks, o.whole, o.over = nil, nil, true
}

func (o *rxObject) symbolSize() int {
	if o.kind == Stream {
		return o.layout.Symbol + streamHeader
	}
	return o.layout.Symbol
}

// take takes a message of the object.
func (o *rxObject) take(d *dataMessage) {
	if !o.known && !o.begin(d) {
		return
	}
	if d.Info {
		if !o.infoDone && len(d.Payload) <= o.layout.Symbol {
			o.hasInfo, o.infoDone, o.info = true, true, slices.Clone(d.Payload)
			o.used(d)
			o.finish()
		}
		return
	}
	if o.stream != nil {
		o.stream.start(o, d)
	}
	if d.Block >= o.layout.blocks || o.isWhole(d.Block) {
		return
	}
	if d.Block == 0 && d.Symbol == 0 && o.stream == nil {
		if p, ok := o.sink.(Peeker); ok && !p.Peek(d.Payload) {
			o.wanted = false
			o.drop()
			return
		}
	}
	o.symbol(d)
}

func (o *rxObject) used(d *dataMessage) {
	o.m.r.stats.Symbols++
	if d.Flags&flagRepair != 0 {
		o.m.r.stats.Repairs++
	}
}

func (o *rxObject) isWhole(b uint32) bool {
	if o.stream != nil {
		return b < o.stream.block
	}
	return o.whole[b/64]&(1<<(b%64)) != 0
}

// sourceSize is the length of a source symbol in its block's memory.
func (o *rxObject) sourceSize(block uint32, i int) int {
	if o.stream != nil {
		return o.symbolSize()
	}
	return o.layout.symbolBytes(block, i)
}

// symbol keeps a symbol of a block that is not whole.
func (o *rxObject) symbol(d *dataMessage) {
	n, size, esi := o.layout.blockSymbols(d.Block), o.symbolSize(), int(d.Symbol)
	isParity := esi >= n
	switch {
	case isParity && (len(d.Payload) != size || esi-n >= fec.MaxSymbols-o.layout.Max):
		return
	case !isParity && o.stream != nil && (len(d.Payload) < streamHeader || len(d.Payload) > size):
		return
	case !isParity && o.stream == nil && len(d.Payload) != o.sourceSize(d.Block, esi):
		return
	}
	b := o.blocks[d.Block]
	if b == nil {
		memory := o.m.r.buffer(n * size)
		if memory == nil {
			o.m.r.stats.Refused++
			return // it is asked for again
		}
		b = &rxBlock{bytes: memory}
		o.blocks[d.Block] = b
	}
	if b.has(esi) || b.count >= n {
		return
	}
	if isParity {
		if o.m.r.held+int64(size) > o.m.r.config.Buffer {
			o.m.r.stats.Refused++
			return
		}
		o.m.r.held += int64(size)
		b.parity = append(b.parity, fec.Received{ESI: esi, Bytes: slices.Clone(d.Payload)})
	} else {
		at := b.bytes[esi*size : (esi+1)*size]
		clear(at[copy(at, d.Payload):])
	}
	b.have[esi/64] |= 1 << (esi % 64)
	b.count++
	o.used(d)
	if b.count == n {
		o.recover(d.Block, b, n, size)
	}
	if o.stream != nil {
		o.stream.read(o)
		return
	}
	if b.count == n {
		o.write(d.Block, b)
	}
}

// recover makes the source symbols that did not come.
func (o *rxObject) recover(number uint32, b *rxBlock, n, size int) {
	if len(b.parity) == 0 {
		return
	}
	source := make([][]byte, n)
	var missing []int
	for i := range source {
		source[i] = b.bytes[i*size:][:o.sourceSize(number, i)]
		if !b.has(i) {
			missing = append(missing, i)
		}
	}
	code := fec.Shortened(o.points, o.layout.Max, n)
	if code.Recover(source, missing, b.parity) == nil {
		o.m.r.stats.Recovered += int64(len(missing))
	}
	for _, i := range missing {
		b.have[i/64] |= 1 << (i % 64)
	}
}

// write hands a whole block on.
func (o *rxObject) write(number uint32, b *rxBlock) {
	l := o.layout
	_, err := o.sink.WriteAt(b.bytes[:l.blockBytes(number)], l.blockStart(number))
	o.release(number, b)
	if err != nil {
		o.m.broken(o, err)
		return
	}
	o.whole[number/64] |= 1 << (number % 64)
	o.left--
	for o.low < l.blocks && o.isWhole(o.low) {
		o.low++
	}
	o.finish()
}

func (o *rxObject) release(number uint32, b *rxBlock) {
	delete(o.blocks, number)
	o.m.r.giveBack(b.bytes)
	o.m.r.held -= int64(len(b.parity) * o.symbolSize())
}

// finish tells when everything is there.
func (o *rxObject) finish() {
	if o.stream != nil || o.left > 0 || o.hasInfo && !o.infoDone {
		return
	}
	o.drop()
	o.m.r.events = append(o.m.r.events, ReceiverEvent{Kind: Completed, Head: o.head(), Info: o.info, Sink: o.sink})
}

// limit is the number behind the last block that is due.
func (o *rxObject) limit(due mark) uint32 {
	if o.id != due.object {
		if o.stream != nil {
			return o.stream.heard
		}
		return o.layout.blocks
	}
	end := due.block
	if due.symbol > 0 {
		end++
	}
	return min(end, o.layout.blocks)
}

func (o *rxObject) first() uint32 {
	if o.stream != nil {
		return o.stream.block
	}
	return o.low
}

// needs reports whether something before due is missing.
func (o *rxObject) needs(due mark) bool {
	if o.hasInfo && !o.infoDone && (o.id != due.object || due.block > 0 || due.symbol > 0) {
		return true
	}
	first, limit := o.first(), o.limit(due)
	if first+1 == limit && due.symbol > 0 && o.id == due.object && o.stream != nil {
		return o.stream.symbol < due.symbol
	}
	return first < limit
}

// requests adds what is missing before due.
func (o *rxObject) requests(q *requestBuilder, due mark) (suppressed bool) {
	heard := o.m.cycle.heard
	if heard[blockID{o.id, wholeObject}] > 0 {
		return true
	}
	at := position{Object: o.id}
	if o.hasInfo && !o.infoDone && (o.id != due.object || due.block > 0 || due.symbol > 0) {
		if heard[blockID{o.id, infoOnly}] > 0 {
			suppressed = true
		} else {
			q.add(formItems, wantInfo, at)
		}
	}
	// No more at a time than a sane sender can be ahead: the rest is for next time.
	limit := min(o.limit(due), o.first()+maxAhead)
	for n := o.first(); n < limit && !q.full(); n++ {
		if o.isWhole(n) {
			continue
		}
		at.Block = n
		size := o.layout.blockSymbols(n)
		partial := o.stream != nil && o.id == due.object && n == due.block && due.symbol > 0
		if partial {
			size = due.symbol
		}
		b := o.blocks[n]
		missing := size
		if b != nil {
			missing -= b.count
			if partial {
				missing = 0
				for i := range size {
					if !b.has(i) {
						missing++
					}
				}
			}
		}
		switch {
		case missing <= 0:
		case heard[blockID{o.id, n}] >= missing:
			suppressed = true
		case b == nil && !partial:
			q.addRange(wantBlock, at, at)
		case b == nil:
			q.add(formRanges, wantSegment, at, position{o.id, n, uint8(size - 1)})
		case partial:
			o.askSource(q, at, b, size, missing)
		default:
			o.askBlock(q, at, b, size, missing)
		}
	}
	return suppressed
}

// maxAhead bounds how many blocks of an object are looked at for one NACK.
const maxAhead = 1 << 12

// askBlock asks for so many symbols of a block: parity that has not come, and if
// there is too little of it, source symbols as well (section 5.3).
func (o *rxObject) askBlock(q *requestBuilder, at position, b *rxBlock, size, missing int) {
	free := o.parity - len(b.parity)
	if missing > free {
		o.askSource(q, at, b, size, missing-max(free, 0))
		missing = max(free, 0)
	}
	if o.m.r.config.Erasures && missing > 0 {
		at.Symbol = uint8(missing)
		q.add(formErasures, wantSegment, at)
		return
	}
	o.ask(q, at, b, size, size+o.parity, missing)
}

func (o *rxObject) askSource(q *requestBuilder, at position, b *rxBlock, size, count int) {
	o.ask(q, at, b, 0, size, count)
}

// ask asks for the first count symbols from i to end that have not come.
func (o *rxObject) ask(q *requestBuilder, at position, b *rxBlock, i, end, count int) {
	for ; i < end && count > 0; i++ {
		if b.has(i) {
			continue
		}
		from := i
		for i+1 < end && i-from+1 < count && !b.has(i+1) {
			i++
		}
		count -= i - from + 1
		first, last := at, at
		first.Symbol, last.Symbol = uint8(from), uint8(i)
		if !q.add(formRanges, wantSegment, first, last) {
			return
		}
	}
}
