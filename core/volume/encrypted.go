package volume

import (
	"bytes"
	"encoding/binary"
	"io"
)

// Where encrypted volumes name themselves: LUKS in its first bytes, BitLocker in
// place of a file system's name; on removable media, which carry a small FAT for
// other systems, by an identity in the boot code.
var (
	luksMagic        = []byte("LUKS\xBA\xBE")
	bitLockerName    = []byte("-FVE-FS-")
	bitLockerOnMedia = []byte{0x3B, 0xD6, 0x67, 0x49, 0x29, 0x2E, 0xD8, 0x4A, 0x83, 0x99, 0xF6, 0xA3, 0x39, 0xE3, 0xD0, 0x01}
)

func probeEncrypted(r io.ReaderAt, size int64) (*Volume, error) {
	b, err := head(r, size, 0, 512)
	if b == nil || err != nil {
		return nil, err
	}
	v := &Volume{ClusterSize: 1, Clean: true, Encrypted: true}
	switch {
	case bytes.HasPrefix(b, luksMagic):
		v.Kind = LUKS
		v.UUID = untilZero(b[168:208])
		if binary.BigEndian.Uint16(b[6:]) >= 2 {
			v.Label = untilZero(b[24:72])
		}
	case bytes.Equal(b[3:11], bitLockerName), bytes.Equal(b[424:440], bitLockerOnMedia):
		v.Kind = BitLocker
	default:
		return nil, nil
	}
	return v, nil
}

func untilZero(b []byte) string {
	text, _, _ := bytes.Cut(b, []byte{0})
	return string(text)
}
