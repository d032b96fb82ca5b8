package volume

import (
	"encoding/binary"
	"errors"
	"io"
)

// mark is what something on a disk names itself by, at a place that counts from the
// beginning, or from the end if it is negative.
type mark struct {
	at   int64
	text string
	what string
}

// others are signatures of what Open has no reader for, or that lie where it does not
// look.
var others = []mark{
	{1024 + 16, "\x7f\x13", "minix"}, {1024 + 16, "\x8f\x13", "minix"}, {1024 + 16, "\x68\x24", "minix"}, {1024 + 16, "\x78\x24", "minix"}, {1024 + 24, "\x5a\x4d", "minix"},
	{0x8000, "JFS1", "jfs"}, {0x10000 + 52, "ReIsEr2Fs", "reiserfs"}, {0x10000 + 52, "ReIsErFs", "reiserfs"},
	{1024, "\x10\x20\xf5\xf2", "f2fs"}, {1024 + 6, "\x34\x34", "nilfs2"}, {0x10000, "\x01\x16\x19\x70", "gfs2"}, {4096 + 24, "\xc6\x85\x73\xf6", "bcache"},
}

// raids are members of a RAID by what lies at their beginning or end, but for those of
// md, which are looked for in raidMember.
var raids = []mark{
	{-512, "\xde\x11\xde\x11", "a DDF RAID"}, {-512, "\x11\xde\x11\xde", "a DDF RAID"},
	{-1024, "Intel Raid ISM Cfg Sig. ", "an Intel RAID"},
}

func (m mark) found(r io.ReaderAt, size int64) (bool, error) {
	at := m.at
	if at < 0 {
		at += size
	}
	if at < 0 || at+int64(len(m.text)) > size {
		return false, nil
	}
	b := make([]byte, len(m.text))
	n, err := r.ReadAt(b, at)
	if n < len(b) && err != nil && !errors.Is(err, io.EOF) {
		return false, err
	}
	return n == len(b) && string(b) == m.text, nil
}

// mdMagic begins superblocks of Linux's software RAID (md(4)).
const mdMagic = 0xa92b4efc

// RAIDMember says in words of what RAID a device of size bytes is a member; empty if it
// is of none. Where that is written at the end, its beginning is a file system like any
// other.
func RAIDMember(r io.ReaderAt, size int64) (string, error) {
	b := make([]byte, 8)
	for _, place := range []struct {
		at    int64
		major uint32
		what  string
	}{
		{(size/512 - 16) &^ 7 * 512, 1, "a software RAID (md, superblock 1.0 at its end)"},
		{0, 1, "a software RAID (md, superblock 1.1)"},
		{4096, 1, "a software RAID (md, superblock 1.2)"},
		{size&^0xffff - 0x10000, 0, "a software RAID (md, superblock 0.90 at its end)"},
	} {
		if place.at < 0 || place.at+8 > size {
			continue
		}
		if n, err := r.ReadAt(b, place.at); n < len(b) && err != nil && !errors.Is(err, io.EOF) {
			return "", err
		}
		for _, order := range []binary.ByteOrder{binary.LittleEndian, binary.BigEndian} {
			if order.Uint32(b) == mdMagic && order.Uint32(b[4:]) == place.major {
				return place.what, nil
			}
		}
	}
	for _, m := range raids {
		if found, err := m.found(r, size); found || err != nil {
			return m.what, err
		}
	}
	return "", nil
}

// Signature names what a device of size bytes begins with, whether Open reads it or not;
// empty if nothing is known.
func Signature(r io.ReaderAt, size int64) (string, error) {
	v, err := Open(r, size)
	switch {
	case errors.Is(err, ErrDamaged):
		return "a damaged file system", nil
	case err != nil:
		return "", err
	case v.Kind != Unknown:
		return string(v.Kind), nil
	}
	for _, m := range others {
		if found, err := m.found(r, size); found || err != nil {
			return m.what, err
		}
	}
	return "", nil
}
