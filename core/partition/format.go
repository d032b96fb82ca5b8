package partition

import (
	"encoding/binary"
	"unicode/utf16"

	"github.com/google/uuid"
)

// The GUID Partition Table as it lies on the disk (UEFI specification 5.2 and
// 5.3). All numbers are little-endian.
//
//	sector 0        protective MBR: boot code, one record of type 0xEE, 55 AA
//	sector 1        primary header
//	sector 2…       primary entries, usually 128 of 128 bytes
//	…               what partitions may occupy
//	last-n…last-1   backup entries
//	last            backup header
const (
	signature   = "EFI PART"
	revision    = 0x00010000
	headerSize  = 92
	entrySize   = 128
	bootCodeLen = 440

	maxSlots     = 1024 // room for eight times the usual number; more is taken for damage
	maxEntrySize = 4096
)

// Offsets inside a header.
const (
	hdrRevision    = 8
	hdrSize        = 12
	hdrCRC         = 16
	hdrThis        = 24
	hdrOther       = 32
	hdrFirstUsable = 40
	hdrLastUsable  = 48
	hdrDiskID      = 56
	hdrEntries     = 72
	hdrSlots       = 80
	hdrEntrySize   = 84
	hdrEntriesCRC  = 88
)

// Offsets inside an entry.
const (
	entType       = 0
	entID         = 16
	entFirst      = 32
	entLast       = 40
	entAttributes = 48
	entName       = 56
	entNameUnits  = 36 // UTF-16 code units
)

var le = binary.LittleEndian

// guid reads the mixed-endian form of Appendix A: the first three fields are
// little-endian.
func guid(b []byte) uuid.UUID {
	return uuid.UUID{b[3], b[2], b[1], b[0], b[5], b[4], b[7], b[6],
		b[8], b[9], b[10], b[11], b[12], b[13], b[14], b[15]}
}

func putGUID(b []byte, id uuid.UUID) {
	swapped := guid(id[:])
	copy(b, swapped[:])
}

func name(b []byte) string {
	units := make([]uint16, 0, entNameUnits)
	for i := range entNameUnits {
		u := le.Uint16(b[2*i:])
		if u == 0 {
			break
		}
		units = append(units, u)
	}
	return string(utf16.Decode(units))
}

func putName(b []byte, s string) {
	for i, u := range utf16.Encode([]rune(s)) {
		if i == entNameUnits {
			return
		}
		le.PutUint16(b[2*i:], u)
	}
}
