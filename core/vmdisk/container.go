package vmdisk

import (
	"bytes"
	"errors"
	"fmt"
	"io"
)

// What is neither a disk nor a disk file, and would pass for a raw disk that holds
// something unknown. Signatures are those of the formats' own descriptions.
var containers = []struct {
	at    int64
	magic string
	what  string
	do    string
}{
	{0, "\x1f\x8b\x08", "compressed by gzip", "unpack it first (gunzip)"},
	{0, "\xfd7zXZ\x00", "compressed by xz", "unpack it first (unxz)"},
	{0, "BZh", "compressed by bzip2", "unpack it first (bunzip2)"},
	{0, "\x28\xb5\x2f\xfd", "compressed by Zstandard", "unpack it first (unzstd)"},
	{0, "\x04\x22\x4d\x18", "compressed by LZ4", "unpack it first (unlz4)"},
	{0, "\x89LZO\x00\x0d\x0a\x1a\x0a", "compressed by lzop", "unpack it first"},
	{0, "7z\xbc\xaf\x27\x1c", "a 7z archive", "unpack it first"},
	{0, "PK\x03\x04", "a zip archive", "unpack it first (unzip)"},
	{0, "Rar!\x1a\x07", "a RAR archive", "unpack it first"},
	{0, "MSCF\x00\x00\x00\x00", "a cabinet", "unpack it first"},
	{257, "ustar", "a tar archive (virtual appliances are such ones)", "unpack it first, and take the disk inside"},
	{0, "MSWIM\x00\x00\x00", "a WIM archive of files", "it is not a disk: apply it to one, and take that"},
	{0, "EVF\x09\x0d\x0a\xff\x00", "an evidence file", "convert it to a raw disk first"},
	{0, "hsqs", "a squashfs archive", "it is not a disk"},
	{0, "WithoutFreeSpace", "a disk file of a virtual machine (HDD)", "convert it to a raw disk first"},
	{0, "WithouFreSpacExt", "a disk file of a virtual machine (HDD)", "convert it to a raw disk first"},
	{0, "QED\x00", "a QED disk file", "convert it to qcow2 first"},
	{0, "OOOM\x00", "a copy-on-write file of a user-mode kernel", "convert it to a raw disk first"},
	{0, "COWD", "a VMDK file of an old kind (COWD)", "convert it to a raw disk first"},
	{0, "<?xml", "a text", "it is not a disk"},
	{0x8001, "CD001", "an ISO 9660 image, of an optical disc", "it is not a golden disk: install from it, and capture that machine"},
	{0x8001, "BEA01", "a UDF image, of an optical disc", "it is not a golden disk: install from it, and capture that machine"},
}

// contained refuses what only holds a disk, or none at all. Errors wrap ErrUnsupported,
// or are the file's.
func contained(f io.ReaderAt, size int64) error {
	for _, c := range containers {
		b := make([]byte, len(c.magic))
		n, err := f.ReadAt(b, c.at)
		if n < len(b) {
			if err == nil || errors.Is(err, io.EOF) {
				continue
			}
			return err
		}
		if string(b) == c.magic && !(c.magic == "BZh" && !bzip(f)) {
			return fmt.Errorf("%w: it is %s; %s", ErrUnsupported, c.what, c.do)
		}
	}
	trailer := make([]byte, 512)
	if size >= 512 {
		if n, err := f.ReadAt(trailer, size-512); n < len(trailer) && err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		if bytes.HasPrefix(trailer, []byte("koly\x00\x00\x00\x04\x00\x00\x02\x00")) {
			return fmt.Errorf("%w: it is a compressed disk image of macOS; convert it to a raw disk first", ErrUnsupported)
		}
	}
	return nil
}

// bzip tells whether the first block follows: three letters alone may be boot code.
func bzip(f io.ReaderAt) bool {
	b := make([]byte, 10)
	n, _ := f.ReadAt(b, 0)
	return n == len(b) && b[3] >= '1' && b[3] <= '9' && (string(b[4:]) == "1AY&SY" || string(b[4:]) == "\x17\x72\x45\x38\x50\x90")
}
