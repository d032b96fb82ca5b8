package delivery

import (
	"context"
	"iter"
	"net/netip"
)

// Channel is where a stream goes.
type Channel struct {
	Group   netip.AddrPort // multicast address and port
	Session uint32         // tells this stream from others on the same group
	Rate    int64          // bits a second on the wire, packet headers included
}

// Frame is a slab on its way: its number in the version's slab map and the
// compressed bytes as they are stored.
type Frame struct {
	Slab  int
	Bytes []byte
}

// Sender brings frames to everyone who listens to a channel. It promises no
// arrival: receivers know what they lack and have it mended.
type Sender interface {
	// Send sends the frames in the order given, at the channel's rate, and tells
	// sent after each how many bytes have gone out so far, packet headers
	// included. An error of the sequence ends it and is returned.
	Send(ctx context.Context, to Channel, frames iter.Seq2[Frame, error], sent func(slab int, wireBytes int64)) error
}
