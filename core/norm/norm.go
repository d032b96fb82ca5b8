// Package norm is NACK-oriented reliable multicast, RFC 5740: objects go from a
// sender to everyone who listens, and what a receiver lost is asked for and sent
// again, as parity (package fec) that mends the losses of all at once.
//
// Sender and Receiver are state machines. They have no sockets, no clock and no
// goroutines: they take packets and the time, and return packets, events and when
// they want to be called again.
//
//	s := norm.NewSender(norm.SenderConfig{Node: 1, Rate: 200e6}, now)
//	s.Enqueue(norm.Object{Kind: norm.File, Size: n, Content: f, Info: []byte("a.img")})
//	for {
//		for p, ok := s.Next(now, buffer); ok; p, ok = s.Next(now, buffer) { … send p to the group }
//		… until s.Deadline(): s.Handle(now, packet, from) for what comes back
//	}
//
//	r := norm.NewReceiver(norm.ReceiverConfig{Node: 2, Open: …})
//	r.Handle(now, packet, from); r.Advance(now)
//	for m, ok := r.Out(); ok; m, ok = r.Out() { … send m.Packet to m.To, or the group }
//	for e, ok := r.Event(); ok; e, ok = r.Event() { … }
//
// Messages are in message.go and extension.go, as they lie on the wire in the
// RFC's section 4. What a sender and a receiver do is in files named after it;
// the NACK timers are those of RFC 5401, congestion control that of RFC 4654 as
// section 5.5 of RFC 5740 carries it.
package norm

import (
	"errors"
	"time"
)

// NodeID tells the participants of a session apart.
type NodeID uint32

// The node ids that no participant has (RFC 5740, section 3.1).
const (
	NodeNone NodeID = 0
	NodeAny  NodeID = 0xFFFFFFFF
)

// ObjectID is an object's transport id. It wraps.
type ObjectID uint16

// Before tells whether a was sent before b, as long as they are fewer than 32768
// objects apart.
func (a ObjectID) Before(b ObjectID) bool { return int16(a-b) < 0 }

// Kind is what an object is.
type Kind uint8

// The kinds of objects (section 3). A stream has no end until it is closed.
const (
	Data Kind = iota
	File
	Stream
)

func (k Kind) String() string { return [...]string{"data", "file", "stream"}[k] }

const (
	// MaxPacket is the longest UDP payload that is looked at.
	MaxPacket = 65507
	// RobustFactor is how often something that has no answer is said (section
	// 3.4.1, NORM_ROBUST_FACTOR).
	RobustFactor = 20
	// DefaultBackoff is K_sender, the longest backoff in units of GRTT, for large groups.
	DefaultBackoff = 4
	// DefaultGroupSize is how many receivers timers are made for.
	DefaultGroupSize = 100
	// maxObjectSize is what the 48 bits of a transfer length hold.
	maxObjectSize = 1<<48 - 1
	// maxBlocks is what the 24 bits of a source block number hold.
	maxBlocks = 1 << 24
)

var (
	// ErrMessage says that a packet is no NORM message, or a malformed one.
	ErrMessage = errors.New("not a NORM message")
	// ErrForged says that a packet comes from somebody who is not in the group.
	ErrForged = errors.New("a packet from outside the group")
	// ErrFull says that a sender's window has no room for another object.
	ErrFull = errors.New("the sender's window is full")
	// ErrObject says that an object cannot be sent.
	ErrObject = errors.New("an object that cannot be sent")
)

// seconds makes a duration of RFC arithmetic.
func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

// earliest is the first of the times that are set.
func earliest(times ...time.Time) (first time.Time) {
	for _, t := range times {
		if !t.IsZero() && (first.IsZero() || t.Before(first)) {
			first = t
		}
	}
	return first
}
