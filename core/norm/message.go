package norm

import (
	"encoding/binary"
	"time"
)

// Messages begin with this (section 4.1), all numbers in network byte order:
//
//	 0                   1                   2                   3
//	|version|  type |    hdr_len    |          sequence             |
//	|                           source_id                           |
//
// hdr_len counts words of 4 bytes, extensions included.
const (
	version      = 1
	commonHeader = 8
)

// messageType is the type field.
type messageType uint8

const (
	typeInfo messageType = iota + 1
	typeData
	typeCmd
	typeNack
	typeAck
	typeReport
)

// Flags of NORM_DATA and NORM_INFO (section 4.2.1).
const (
	flagRepair     = 0x01 // sent again
	flagExplicit   = 0x02 // just this symbol was asked for
	flagInfo       = 0x04 // there is a NORM_INFO
	flagUnreliable = 0x08 // not repaired
	flagFile       = 0x10
	flagStream     = 0x20
)

// fecID is RFC 5510's for GF(2^8), the only one in use.
const fecID = 5

// flavor is the kind of a NORM_CMD (section 4.2.3).
type flavor uint8

const (
	cmdFlush flavor = iota + 1
	cmdEOT
	cmdSquelch
	cmdCC
	cmdRepairAdv
	cmdAckReq
	cmdApplication
)

// Types of NORM_ACK (section 4.3.2).
const (
	ackCC    = 1
	ackFlush = 2
	// AckApplication is the first type that belongs to applications.
	AckApplication = 16
)

// head is common to all messages.
type head struct {
	Sequence uint16
	Source   NodeID
}

// senderHead is common to a sender's messages: how it sees the group.
type senderHead struct {
	head
	Instance  uint16
	GRTT      uint8 // quantized
	Backoff   uint8 // 4 bits
	GroupSize uint8 // 4 bits, quantized
}

// position is a place in what a sender sends: an object and a FEC payload id, a
// source block number of 24 bits and an encoding symbol id of 8 (RFC 5510,
// section 5.1.3).
type position struct {
	Object ObjectID
	Block  uint32
	Symbol uint8
}

// dataMessage is NORM_DATA, or NORM_INFO without Block and Symbol.
type dataMessage struct {
	senderHead
	Info  bool // it is a NORM_INFO
	Flags uint8
	position
	extensions
	Payload []byte
}

func (d *dataMessage) kind() Kind {
	switch {
	case d.Flags&flagStream != 0:
		return Stream
	case d.Flags&flagFile != 0:
		return File
	}
	return Data
}

// cmdMessage is NORM_CMD; which fields it has depends on the flavor.
type cmdMessage struct {
	senderHead
	Flavor   flavor
	position            // FLUSH, SQUELCH
	Nodes    []NodeID   // FLUSH, ACK_REQ: who is to acknowledge
	Invalid  []ObjectID // SQUELCH
	Sequence uint16     // CC: cc_sequence
	SendTime time.Time  // CC
	CCNodes  []ccNode   // CC
	Limited  bool       // REPAIR_ADV: not all requests are in it
	Requests []request  // REPAIR_ADV
	AckType  uint8      // ACK_REQ
	AckID    uint8      // ACK_REQ
	Content  []byte     // APPLICATION
	extensions
}

// ccNode is what a sender tells of one receiver in NORM_CMD(CC).
type ccNode struct {
	Node  NodeID
	Flags uint8
	RTT   uint8
	Rate  uint16
}

// feedback is common to a receiver's messages: to which sender, and when that
// sender's last NORM_CMD(CC) would have been sent had it been answered at once.
type feedback struct {
	head
	Sender   NodeID
	Instance uint16
	Response time.Time // grtt_response; zero if none was heard
}

// nackMessage is NORM_NACK.
type nackMessage struct {
	feedback
	extensions
	Requests []request
}

// ackMessage is NORM_ACK. The position is that of a FLUSH.
type ackMessage struct {
	feedback
	Type uint8
	ID   uint8
	position
	extensions
}

func (h head) append(b []byte, t messageType) []byte {
	b = append(b, version<<4|byte(t), 0)
	b = binary.BigEndian.AppendUint16(b, h.Sequence)
	return binary.BigEndian.AppendUint32(b, uint32(h.Source))
}

// finish writes hdr_len into the message that begins at from.
func finish(b []byte, from int) []byte {
	b[from+1] = byte((len(b) - from) / 4)
	return b
}

func (h senderHead) append(b []byte, t messageType) []byte {
	b = h.head.append(b, t)
	b = binary.BigEndian.AppendUint16(b, h.Instance)
	return append(b, h.GRTT, h.Backoff<<4|h.GroupSize&15)
}

// appendPosition appends fec_payload_id.
func (p position) appendPayloadID(b []byte) []byte {
	return binary.BigEndian.AppendUint32(b, p.Block<<8|uint32(p.Symbol))
}

func (d *dataMessage) append(b []byte) []byte {
	from := len(b)
	t := typeData
	if d.Info {
		t = typeInfo
	}
	b = d.senderHead.append(b, t)
	b = append(b, d.Flags, fecID)
	b = binary.BigEndian.AppendUint16(b, uint16(d.Object))
	if !d.Info {
		b = d.appendPayloadID(b)
	}
	b = finish(d.extensions.append(b), from)
	return append(b, d.Payload...)
}

func (c *cmdMessage) append(b []byte) []byte {
	from := len(b)
	b = append(c.senderHead.append(b, typeCmd), byte(c.Flavor))
	switch c.Flavor {
	case cmdFlush, cmdSquelch:
		b = binary.BigEndian.AppendUint16(append(b, fecID), uint16(c.Object))
		b = finish(c.extensions.append(c.appendPayloadID(b)), from)
		for _, n := range c.Nodes {
			b = binary.BigEndian.AppendUint32(b, uint32(n))
		}
		for _, o := range c.Invalid {
			b = binary.BigEndian.AppendUint16(b, uint16(o))
		}
	case cmdCC:
		b = binary.BigEndian.AppendUint16(append(b, 0), c.Sequence)
		b = finish(c.extensions.append(appendTime(b, c.SendTime)), from)
		for _, n := range c.CCNodes {
			b = binary.BigEndian.AppendUint32(b, uint32(n.Node))
			b = binary.BigEndian.AppendUint16(append(b, n.Flags, n.RTT), n.Rate)
		}
	case cmdRepairAdv:
		flags := byte(0)
		if c.Limited {
			flags = 1
		}
		b = finish(c.extensions.append(append(b, flags, 0, 0)), from)
		b = appendRequests(b, c.Requests)
	case cmdAckReq:
		b = finish(append(b, 0, c.AckType, c.AckID), from)
		for _, n := range c.Nodes {
			b = binary.BigEndian.AppendUint32(b, uint32(n))
		}
	case cmdEOT:
		b = finish(append(b, 0, 0, 0), from)
	case cmdApplication:
		b = append(finish(append(b, 0, 0, 0), from), c.Content...)
	}
	return b
}

func appendTime(b []byte, t time.Time) []byte {
	if t.IsZero() {
		return append(b, 0, 0, 0, 0, 0, 0, 0, 0)
	}
	b = binary.BigEndian.AppendUint32(b, uint32(t.Unix()))
	return binary.BigEndian.AppendUint32(b, uint32(t.Nanosecond()/1000))
}

func (n *nackMessage) append(b []byte) []byte {
	from := len(b)
	b = n.head.append(b, typeNack)
	b = binary.BigEndian.AppendUint32(b, uint32(n.Sender))
	b = append(binary.BigEndian.AppendUint16(b, n.Instance), 0, 0)
	b = finish(n.extensions.append(appendTime(b, n.Response)), from)
	return appendRequests(b, n.Requests)
}

func (a *ackMessage) append(b []byte) []byte {
	from := len(b)
	b = a.head.append(b, typeAck)
	b = binary.BigEndian.AppendUint32(b, uint32(a.Sender))
	b = append(binary.BigEndian.AppendUint16(b, a.Instance), a.Type, a.ID)
	b = finish(a.extensions.append(appendTime(b, a.Response)), from)
	if a.Type == ackFlush {
		b = binary.BigEndian.AppendUint16(append(b, fecID, 0), uint16(a.Object))
		b = a.appendPayloadID(b)
	}
	return b
}
