package norm

import (
	"io"
	"slices"
	"time"

	"jugate/core/fec"
)

// txObject is an object of a sender's window.
type txObject struct {
	Object
	id     ObjectID
	layout layout
	stream *txStream // for Kind Stream
	oti    FTI

	infoLeft bool
	block    uint32 // the next symbol to go out for the first time
	symbol   int
	active   time.Time // when something of it was sent last
	gone     bool

	infoAsked bool
	blocks    map[uint32]*txBlock // those that were asked for
}

func newTxObject(o Object, l layout) *txObject {
	return &txObject{Object: o, layout: l, infoLeft: len(o.Info) > 0, blocks: map[uint32]*txBlock{}}
}

func (o *txObject) flags() (f uint8) {
	if len(o.Info) > 0 {
		f |= flagInfo
	}
	switch o.Kind {
	case File:
		f |= flagFile
	case Stream:
		f |= flagStream
	}
	return f
}

// finished reports that all of it went out once. A stream never is by itself.
func (o *txObject) finished() bool {
	return o.stream == nil && !o.infoLeft && o.block >= o.layout.blocks
}

// advance goes on to the next symbol behind the source symbol last, ahead of
// parity included.
func (o *txObject) advance(last, ahead int) {
	if o.symbol++; o.symbol > last+ahead {
		o.block, o.symbol = o.block+1, 0
	}
}

// wasSent tells whether a block has begun to go out.
func (o *txObject) wasSent(block uint32) bool {
	return block < o.block || block == o.block && o.symbol > 0
}

// txBlock is a block of which something was asked for.
type txBlock struct {
	object *txObject
	number uint32

	queued   bool
	parity   int       // fresh parity symbols to send
	explicit [4]uint64 // encoding symbol ids to send, a bit each
	used     int       // parity symbols that were sent ever, those ahead included

	burstAt time.Time // of the last repair
	burst   int       // repairs sent since they began to go out
}

func (o *txObject) repairBlock(n uint32, ahead int) *txBlock {
	b := o.blocks[n]
	if b == nil {
		b = &txBlock{object: o, number: n, used: ahead}
		o.blocks[n] = b
	}
	return b
}

// blockCache holds the blocks that symbols are taken from.
type blockCache struct {
	blocks []*cachedBlock // the one used last comes first
}

type cachedBlock struct {
	object *txObject
	number uint32
	bytes  []byte
	source [][]byte
}

const cachedBlocks = 8

func (c *blockCache) get(o *txObject, n uint32) (*cachedBlock, error) {
	i := slices.IndexFunc(c.blocks, func(b *cachedBlock) bool { return b.object == o && b.number == n })
	if i < 0 {
		block := &cachedBlock{}
		if i = len(c.blocks); i == cachedBlocks {
			i--
			block = c.blocks[i]
		} else {
			c.blocks = append(c.blocks, block)
		}
		if err := block.read(o, n); err != nil {
			c.blocks = slices.Delete(c.blocks, i, i+1)
			return nil, err
		}
		c.blocks[i] = block
	}
	b := c.blocks[i]
	copy(c.blocks[1:i+1], c.blocks[:i])
	c.blocks[0] = b
	return b, nil
}

func (b *cachedBlock) read(o *txObject, n uint32) error {
	b.object, b.number, b.source = o, n, b.source[:0]
	if o.stream != nil {
		b.source = o.stream.block(n, b.source)
		return nil
	}
	l := o.layout
	b.bytes = slices.Grow(b.bytes[:0], l.Symbol*l.large)[:l.blockBytes(n)]
	if got, err := o.Content.ReadAt(b.bytes, l.blockStart(n)); got < len(b.bytes) {
		if err == io.EOF {
			err = io.ErrUnexpectedEOF
		}
		return err
	}
	for left := b.bytes; len(left) > 0; {
		k := min(l.Symbol, len(left))
		b.source, left = append(b.source, left[:k]), left[k:]
	}
	return nil
}

func (c *blockCache) drop(o *txObject) {
	c.blocks = slices.DeleteFunc(c.blocks, func(b *cachedBlock) bool { return b.object == o })
}

// symbol returns the bytes of a symbol, source or parity, good until the next call.
func (s *Sender) symbol(o *txObject, block uint32, esi int) ([]byte, error) {
	if o.stream != nil && esi < o.layout.Max {
		return o.stream.symbolBytes(block, esi), nil
	}
	b, err := s.cache.get(o, block)
	if err != nil {
		return nil, err
	}
	if esi < len(b.source) {
		return b.source[esi], nil
	}
	size := o.layout.Symbol
	if o.stream != nil {
		size += streamHeader
	}
	parity := make([]byte, size)
	code := fec.Shortened(s.config.Points, o.layout.Max, len(b.source))
	return parity, code.Parity(parity, esi, b.source)
}
