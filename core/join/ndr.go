package join

import (
	"encoding/binary"
	"unicode/utf16"

	"github.com/google/uuid"
)

// ndr writes data as NDR has it on the wire (C706, chapter 14): little-endian, each number at a
// multiple of its size. What pointers point to comes behind the structure that has them.
type ndr struct {
	b        []byte
	pointers uint32
	behind   []func()
}

// serialized is one value by itself (MS-RPCE, 2.2.6, type serialization version 1): a pointer to
// what write writes.
func serialized(write func(n *ndr)) []byte {
	var n ndr
	n.pointer(true, func() { write(&n) })
	n.follow()
	n.align(8)
	head := []byte{1, 0x10, 8, 0, 0xcc, 0xcc, 0xcc, 0xcc} // version 1, little-endian, 8 bytes
	head = binary.LittleEndian.AppendUint32(head, uint32(len(n.b)))
	head = binary.LittleEndian.AppendUint32(head, 0)
	return append(head, n.b...)
}

func (n *ndr) align(to int) {
	for len(n.b)%to != 0 {
		n.b = append(n.b, 0)
	}
}

func (n *ndr) u16(v uint16) {
	n.align(2)
	n.b = binary.LittleEndian.AppendUint16(n.b, v)
}

func (n *ndr) u32(v uint32) {
	n.align(4)
	n.b = binary.LittleEndian.AppendUint32(n.b, v)
}

// guid is 16 bytes, of which the first three numbers are little-endian (C706, appendix A).
func (n *ndr) guid(id uuid.UUID) {
	n.u32(binary.BigEndian.Uint32(id[:]))
	n.u16(binary.BigEndian.Uint16(id[4:]))
	n.u16(binary.BigEndian.Uint16(id[6:]))
	n.b = append(n.b, id[8:]...)
}

// pointer writes a pointer, and notes what it points to; without anything there it is null.
func (n *ndr) pointer(there bool, write func()) {
	if !there {
		n.u32(0)
		return
	}
	n.u32(0x20000 + 4*n.pointers)
	n.pointers++
	n.behind = append(n.behind, write)
}

// follow writes what was pointed to, with what that points to in turn.
func (n *ndr) follow() {
	for len(n.behind) > 0 {
		all := n.behind
		n.behind = nil
		for _, write := range all {
			write()
			n.follow()
		}
	}
}

// text is a pointer to a text that ends with a null character; empty, it is null.
func (n *ndr) text(s string) {
	n.pointer(s != "", func() {
		units := append(utf16.Encode([]rune(s)), 0)
		n.units(units, len(units))
	})
}

// units are characters in a conformant and varying array of room.
func (n *ndr) units(units []uint16, room int) {
	n.u32(uint32(room))
	n.u32(0)
	n.u32(uint32(len(units)))
	for _, u := range units {
		n.u16(u)
	}
}

// counted is a text with its length (RPC_UNICODE_STRING, MS-DTYP 2.3.10), with room for a null
// character if it has end.
func (n *ndr) counted(s string, end int) {
	units := utf16.Encode([]rune(s))
	n.u16(uint16(2 * len(units)))
	n.u16(uint16(2 * (len(units) + end)))
	n.pointer(true, func() { n.units(units, len(units)+end) })
}

// blob is the length of bytes, and a pointer to them (OP_BLOB).
func (n *ndr) blob(b []byte) {
	n.u32(uint32(len(b)))
	n.pointer(len(b) > 0, func() {
		n.u32(uint32(len(b)))
		n.b = append(n.b, b...)
	})
}

// sid is a pointer to a security identifier (RPC_SID, MS-DTYP 2.4.2.3).
func (n *ndr) sid(s SID) {
	n.pointer(len(s) > 0, func() {
		n.u32(uint32(s[1]))
		n.b = append(n.b, s...)
	})
}
