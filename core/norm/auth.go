package norm

import (
	"crypto/subtle"
	"encoding/binary"

	"github.com/zeebo/blake3"
)

// Everybody in a group who has its key can tell that a packet comes from somebody else
// who has it: each packet carries a MAC in a header extension of the type that RFC 5740,
// 4.1, keeps for that, EXT_AUTH. Its content is Jugate's own, in the manner of RFC 6584:
//
//	 0                   1                   2                   3
//	|   HET = 1     |   HEL = 5     |  scheme = 1   |    reserved   |
//	|                      MAC, 16 bytes                            |
//
// It is the last extension of the header. The MAC is the first 16 bytes of the keyed
// BLAKE3 of the whole packet with zeros in their place, under one key for what senders
// send and another for what receivers send, so that neither passes for the other.
const (
	extAuth    = 1
	authScheme = 1
	macSize    = 16
	// AuthSize is what authentication adds to each packet, in bytes.
	AuthSize = 4 + macSize
)

// Auth signs and checks packets. It is not safe for use by several goroutines.
type Auth struct {
	sender, receiver *blake3.Hasher
}

// NewAuth derives the keys from one that everybody in the group has.
func NewAuth(key []byte) *Auth {
	hasher := func(context string) *blake3.Hasher {
		var derived [32]byte
		blake3.DeriveKey(context, key, derived[:])
		h, err := blake3.NewKeyed(derived[:])
		if err != nil {
			panic(err) // the key has its length
		}
		return h
	}
	return &Auth{hasher("jugate 2026 NORM packets of senders"), hasher("jugate 2026 NORM packets of receivers")}
}

// hasher is the one for a type of message.
func (a *Auth) hasher(t messageType) *blake3.Hasher {
	switch t {
	case typeNack, typeAck, typeReport:
		return a.receiver
	}
	return a.sender
}

// mac computes the MAC of a packet whose header is header bytes long.
func (a *Auth) mac(packet []byte, header int) []byte {
	h := a.hasher(messageType(packet[0] & 15))
	h.Reset()
	h.Write(packet[:header-macSize])
	h.Write(make([]byte, macSize))
	h.Write(packet[header:])
	return h.Sum(nil)[:macSize]
}

// sign adds the extension to a packet; a nil Auth leaves it as it is.
func (a *Auth) sign(packet []byte) []byte {
	if a == nil {
		return packet
	}
	header := 4 * int(packet[1])
	packet = append(packet, make([]byte, AuthSize)...)
	copy(packet[header+AuthSize:], packet[header:len(packet)-AuthSize])
	binary.BigEndian.PutUint32(packet[header:], extAuth<<24|AuthSize/4<<16|authScheme<<8)
	packet[1] += AuthSize / 4
	header += AuthSize
	clear(packet[header-macSize : header])
	copy(packet[header-macSize:], a.mac(packet, header))
	return packet
}

// good tells whether a packet was signed; with a nil Auth every one is.
func (a *Auth) good(packet []byte) bool {
	if a == nil {
		return true
	}
	if len(packet) < commonHeader {
		return false
	}
	header := 4 * int(packet[1])
	if header < commonHeader+AuthSize || header > len(packet) ||
		binary.BigEndian.Uint32(packet[header-AuthSize:]) != extAuth<<24|AuthSize/4<<16|authScheme<<8 {
		return false
	}
	return subtle.ConstantTimeCompare(packet[header-macSize:header], a.mac(packet, header)) == 1
}
