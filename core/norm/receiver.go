package norm

import (
	"cmp"
	"io"
	"math/rand/v2"
	"net/netip"
	"time"
)

// ReceiverConfig says how a receiver receives. Node and Open have no default.
type ReceiverConfig struct {
	Node NodeID
	// Open is asked where an object goes when it is first heard of; nil is for one
	// that is not wanted. A stream's bytes come in order.
	Open func(Head) Sink
	// Unicast sends feedback to the sender's own address instead of the group.
	Unicast bool
	// Silent never sends anything; what is lost stays lost.
	Silent bool
	// Erasures asks for parity by count, in a quarter of the bytes. Not every
	// sender understands that.
	Erasures bool
	// FromStart asks for objects that were sent before the receiver joined.
	FromStart bool
	Buffer    int64 // bytes of blocks that are not whole; 64 MiB by default
	MaxObject int64 // bytes; what the protocol can tell by default
	Senders   int   // heard at the same time, 8 by default
	Window    int   // objects of one sender that may be unfinished, 2048 by default
	Seed      uint64
	// From, if valid, is the address that the sender's packets come from; those of
	// others are passed over.
	From netip.Addr
	// Auth, if set, signs feedback, and only signed packets count.
	Auth *Auth
}

// Head is what is known of an object when it begins.
type Head struct {
	Sender   NodeID
	From     netip.AddrPort
	Instance uint16
	Object   ObjectID
	Kind     Kind
	Size     int64 // bytes; of a stream the sender's buffer
}

// Sink takes an object's bytes, a block at a time and in any order.
type Sink = io.WriterAt

// Peeker is a Sink that decides by an object's first symbol whether it is wanted.
type Peeker interface {
	Peek(first []byte) (wanted bool)
}

// ReceiverEvent tells what has happened to a receiver.
type ReceiverEvent struct {
	Kind ReceiverEventKind
	Head // without object for SenderHeard, SenderEnded and SenderLost
	Info []byte
	Sink Sink
	Err  error // Broken: why the sink did not take it; nil if the sender has none
	// Content is that of Commanded.
	Content []byte
}

// ReceiverEventKind is the kind of a ReceiverEvent.
type ReceiverEventKind uint8

// The kinds of receiver events.
const (
	SenderHeard ReceiverEventKind = iota + 1
	SenderEnded                   // it said that nothing more comes
	SenderLost                    // it fell silent
	Completed                     // an object is whole
	Broken                        // an object will not become whole
	Commanded                     // a message of the application
)

// Outgoing is a packet to send.
type Outgoing struct {
	Packet []byte
	To     netip.AddrPort // not valid for the group
}

// ReceiverStats counts what a receiver has heard of all senders.
type ReceiverStats struct {
	Packets, Bytes int64 // of senders; UDP payload
	Lost           int64 // packets that never came, by their sequence numbers
	Repairs        int64 // symbols that were sent again and were of use
	Symbols        int64 // all that were of use
	Recovered      int64 // source symbols made from parity
	Nacks          int64 // sent
	Suppressed     int64 // not sent, since others had asked
	Refused        int64 // symbols for which there was no memory
	Strange        int64 // packets that are not from the sender, or not signed
}

// Receiver receives objects of the senders of a group. It is not safe for use by
// several goroutines.
type Receiver struct {
	config   ReceiverConfig
	remotes  map[remoteKey]*remote
	sequence uint16
	held     int64 // bytes of blocks
	free     [][]byte
	out      []Outgoing
	events   []ReceiverEvent
	stats    ReceiverStats
	dice     *rand.Rand
	data     dataMessage // scratch
}

// A node id that comes from two addresses is two senders: one of them is wrong,
// and must not spoil what the other sends.
type remoteKey struct {
	node NodeID
	from netip.AddrPort
}

// NewReceiver makes a receiver.
func NewReceiver(c ReceiverConfig) *Receiver {
	c.Buffer = cmp.Or(c.Buffer, 64<<20)
	c.MaxObject = cmp.Or(c.MaxObject, maxObjectSize)
	c.Senders = cmp.Or(c.Senders, 8)
	c.Window = min(cmp.Or(c.Window, 2048), 1<<14)
	return &Receiver{config: c, remotes: map[remoteKey]*remote{}, dice: rand.New(rand.NewPCG(c.Seed, uint64(c.Node)))}
}

// Stats tells what was heard so far.
func (r *Receiver) Stats() ReceiverStats { return r.stats }

// Out returns the next packet to send.
func (r *Receiver) Out() (Outgoing, bool) {
	if len(r.out) == 0 {
		return Outgoing{}, false
	}
	o := r.out[0]
	r.out = r.out[1:]
	o.Packet = r.config.Auth.sign(o.Packet)
	return o, true
}

// Event returns what has happened since, one at a time.
func (r *Receiver) Event() (ReceiverEvent, bool) {
	if len(r.events) == 0 {
		return ReceiverEvent{}, false
	}
	e := r.events[0]
	r.events = r.events[1:]
	return e, true
}

// Deadline is when Advance has something to do; zero if nothing but packets can
// change anything.
func (r *Receiver) Deadline() (at time.Time) {
	for _, m := range r.remotes {
		at = earliest(at, m.deadline())
	}
	return at
}

// Advance does what is due at time now.
func (r *Receiver) Advance(now time.Time) {
	for _, m := range r.remotes {
		m.advance(now)
	}
}

// Handle takes a packet that came from an address, to the group or to this
// receiver. It keeps nothing of it. ErrMessage says that a packet is not a message.
func (r *Receiver) Handle(now time.Time, packet []byte, from netip.AddrPort) error {
	if len(packet) == 0 || r.config.From.IsValid() && fromSender(packet) && from.Addr().Unmap() != r.config.From || !r.config.Auth.good(packet) {
		r.stats.Strange++
		return ErrForged
	}
	t, h, header, content, err := split(packet)
	if err != nil {
		return err
	}
	if h.Source == r.config.Node {
		return nil // our own
	}
	switch t {
	case typeData, typeInfo:
		d := &r.data
		if err := d.parse(t, h, header, content); err != nil {
			return err
		}
		if m := r.remote(now, d.senderHead, from, len(packet)); m != nil {
			m.data(now, d)
		}
	case typeCmd:
		var c cmdMessage
		if err := c.parse(h, header, content); err != nil {
			return err
		}
		if m := r.remote(now, c.senderHead, from, len(packet)); m != nil {
			m.command(now, &c)
		}
	case typeNack:
		var n nackMessage
		if err := n.parse(h, header, content); err != nil {
			return err
		}
		for key, m := range r.remotes {
			if key.node == n.Sender && m.instance == n.Instance {
				m.overhear(n.Requests)
			}
		}
	}
	return nil
}

// fromSender tells of a packet that only senders send.
func fromSender(packet []byte) bool {
	switch messageType(packet[0] & 15) {
	case typeNack, typeAck, typeReport:
		return false
	}
	return true
}

// remoteSilence is after how long a sender makes room for another.
const remoteSilence = time.Minute

// remote finds the sender of a message, and counts it.
func (r *Receiver) remote(now time.Time, h senderHead, from netip.AddrPort, bytes int) *remote {
	key := remoteKey{h.Source, from}
	m := r.remotes[key]
	if m == nil {
		if len(r.remotes) >= r.config.Senders {
			for k, other := range r.remotes {
				if now.Sub(other.heard) > remoteSilence {
					other.forget()
					delete(r.remotes, k)
				}
			}
			if len(r.remotes) >= r.config.Senders {
				return nil
			}
		}
		m = newRemote(r, h, from)
		r.remotes[key] = m
		r.events = append(r.events, ReceiverEvent{Kind: SenderHeard, Head: m.about()})
	}
	if m.instance != h.Instance { // it was started anew
		m.forget()
		*m = *newRemote(r, h, from)
		r.events = append(r.events, ReceiverEvent{Kind: SenderHeard, Head: m.about()})
	}
	m.hear(now, h, bytes)
	return m
}

// buffer gives memory for a block; nil if there is none left.
func (r *Receiver) buffer(n int) []byte {
	if r.held+int64(n) > r.config.Buffer {
		return nil
	}
	r.held += int64(n)
	for i, b := range r.free {
		if cap(b) >= n {
			r.free[i] = r.free[len(r.free)-1]
			r.free = r.free[:len(r.free)-1]
			return b[:n]
		}
	}
	return make([]byte, n)
}

func (r *Receiver) giveBack(b []byte) {
	r.held -= int64(len(b))
	if len(r.free) < 32 {
		r.free = append(r.free, b)
	}
}
