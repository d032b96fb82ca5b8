// Package stream is the plain paced multicast stream: slabs' frames cut into
// datagrams and put together again. It knows no sockets and mends nothing; what
// a receiver lacks in the end it fetches elsewhere.
//
// It is the simplest thing that brings one stream to a whole group and stands
// behind delivery.Sender.
//
//	for d := range stream.Cut(session, slab, frame) { socket.Write(d.Append(nil)) }
//
//	d, err := stream.Parse(packet)
//	if frame := assembly.Add(d); frame != nil { … all of slab d.Slab is there }
package stream

import (
	"encoding/binary"
	"errors"
	"iter"

	"jugate/core/slabstore"
)

// Layout of a datagram, all numbers in network byte order:
//
//	0   4  "JGS1"
//	4   4  session: tells one delivery's stream from another's
//	8   4  slab: its number in the version's slab map
//	12  4  length of the slab's whole frame in bytes
//	16  4  offset of the payload in the frame
//	20  …  payload
const (
	magic      = "JGS1"
	HeaderSize = 20
	// PayloadSize keeps a datagram with its IPv4 and UDP headers inside the
	// 1500 bytes of an Ethernet frame.
	PayloadSize = 1400
	// MaxDatagram is the length of the longest datagram.
	MaxDatagram = HeaderSize + PayloadSize
	// IPOverhead is what IPv4 and UDP add to each datagram, in bytes.
	IPOverhead = 28

	// maxFrame bounds a frame: Zstandard adds at most three bytes for each
	// 128 KiB block it cannot compress, and a header.
	maxFrame = slabstore.MaxSlab + slabstore.MaxSlab/1024 + 64
)

// ErrDatagram says that a packet is none of this stream's.
var ErrDatagram = errors.New("not a datagram of a delivery's stream")

// Datagram is one packet of the stream.
type Datagram struct {
	Session uint32
	Slab    uint32
	Length  uint32 // of the whole frame
	Offset  uint32 // a multiple of PayloadSize
	Payload []byte
}

// Append appends the datagram's bytes to b.
func (d Datagram) Append(b []byte) []byte {
	b = append(b, magic...)
	b = binary.BigEndian.AppendUint32(b, d.Session)
	b = binary.BigEndian.AppendUint32(b, d.Slab)
	b = binary.BigEndian.AppendUint32(b, d.Length)
	b = binary.BigEndian.AppendUint32(b, d.Offset)
	return append(b, d.Payload...)
}

// Parse reads a packet; the payload stays in b. It accepts only what Cut can
// have made: every error is ErrDatagram.
func Parse(b []byte) (Datagram, error) {
	if len(b) <= HeaderSize || len(b) > MaxDatagram || string(b[:4]) != magic {
		return Datagram{}, ErrDatagram
	}
	d := Datagram{
		Session: binary.BigEndian.Uint32(b[4:]),
		Slab:    binary.BigEndian.Uint32(b[8:]),
		Length:  binary.BigEndian.Uint32(b[12:]),
		Offset:  binary.BigEndian.Uint32(b[16:]),
		Payload: b[HeaderSize:],
	}
	if d.Length > maxFrame || d.Offset >= d.Length || d.Offset%PayloadSize != 0 ||
		uint32(len(d.Payload)) != min(PayloadSize, d.Length-d.Offset) {
		return Datagram{}, ErrDatagram
	}
	return d, nil
}

// Cut goes through the datagrams that carry a frame.
func Cut(session uint32, slab int, frame []byte) iter.Seq[Datagram] {
	return func(yield func(Datagram) bool) {
		for off := 0; off < len(frame); off += PayloadSize {
			end := min(off+PayloadSize, len(frame))
			if !yield(Datagram{session, uint32(slab), uint32(len(frame)), uint32(off), frame[off:end]}) {
				return
			}
		}
	}
}
