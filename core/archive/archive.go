// Package archive unpacks what drivers come in: zip and tar archives, cabinets,
// Debian packages and the images of optical media.
//
//	root, err := os.OpenRoot(emptyFolder)
//	skipped, err := archive.Unpack(file, size, root, archive.Limits{})
//
// What an archive is, its first bytes say, not its name. Only folders and plain
// files come out; links and devices are skipped, and told. No name leads out of the
// folder, and there are limits on how much comes out of how little.
package archive

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"bytes"
	"compress/bzip2"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"

	"jugate/core/fault"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"
)

var (
	// ErrUnknown says that a file is not an archive that is known here.
	ErrUnknown = fault.Invalid.Errorf("not an archive that is known here (zip, tar, cab, Debian package, ISO 9660 or UDF image)")
	// ErrDamaged says that an archive makes no sense.
	ErrDamaged = fault.Invalid.Errorf("the archive is damaged")
	// ErrTooMuch says that more comes out of an archive than the limits allow.
	ErrTooMuch = fault.Invalid.Errorf("more comes out of the archive than is allowed")
)

// Limits bound what comes out of one archive. Zero values take the defaults.
type Limits struct {
	Bytes int64 // 8 GiB by default
	Files int   // files and folders, 200,000 by default
	// Ratio is how many bytes may come out of each byte of the archive, 200 by
	// default; the first 64 MiB come out whatever the ratio.
	Ratio int64
	// Only, if it is set, says which files come out, by their names below the folder.
	Only func(name string) bool
}

// freeBytes come out of any archive.
const freeBytes = 64 << 20

// IsDisc tells whether a file begins as an image of optical media does (ECMA-119, 8; ECMA-167, 2/9).
func IsDisc(r io.ReaderAt) bool {
	magic := make([]byte, 5)
	_, err := r.ReadAt(magic, 16*sector+1)
	return err == nil && (string(magic) == "CD001" || string(magic) == "BEA01")
}

// headLength is what is looked at to tell an archive's kind: a tar archive says it
// at 257, ISO 9660 and UDF in sector 16 and after.
const headLength = 20 * sector

// sector is that of optical media, in bytes.
const sector = 2048

// Unpack unpacks an archive of size bytes into a folder. skipped tells what was left
// out, and why. Errors wrap ErrUnknown, ErrDamaged or ErrTooMuch, or are the
// folder's.
func Unpack(r io.ReaderAt, size int64, into *os.Root, l Limits) (skipped []string, err error) {
	o := &output{root: into, files: 200_000, bytes: 8 << 30, ratio: 200, only: l.Only}
	if l.Bytes > 0 {
		o.bytes = l.Bytes
	}
	if l.Files > 0 {
		o.files = l.Files
	}
	if l.Ratio > 0 {
		o.ratio = l.Ratio
	}
	o.bytes = min(o.bytes, freeBytes+size*o.ratio)
	defer func() {
		if p := recover(); p != nil { // the libraries trust what they read
			err = fmt.Errorf("%w: %v", ErrDamaged, p)
		}
	}()
	err = o.unpack(r, size)
	return o.skipped, err
}

func (o *output) unpack(r io.ReaderAt, size int64) error {
	head := make([]byte, min(size, headLength))
	if _, err := r.ReadAt(head, 0); err != nil && err != io.EOF {
		return err
	}
	in := io.NewSectionReader(r, 0, size)
	begins := func(magic string) bool { return bytes.HasPrefix(head, []byte(magic)) }
	at := func(offset int, magic string) bool {
		return len(head) > offset && bytes.HasPrefix(head[offset:], []byte(magic))
	}
	switch {
	case begins("PK\x03\x04"), begins("PK\x05\x06"):
		return o.zip(r, size)
	case begins("MSCF"):
		return o.cabinet(r, size)
	case begins("!<arch>\n"):
		return o.debian(r)
	case at(16*sector+1, "CD001") || at(16*sector+1, "BEA01"):
		if isUDF(head) {
			return o.udf(r, size)
		}
		return o.iso(r)
	case at(257, "ustar"):
		return o.tar(tar.NewReader(in))
	case begins("07070"): // cpio
		return ErrUnknown
	}
	plain, done, err := Decompress(in)
	if err != nil {
		return err
	}
	defer done()
	return o.tar(tar.NewReader(plain))
}

// Decompress reads what is compressed by gzip, bzip2, xz or zstd, or is a plain tar or cpio archive, until done is called.
// Errors wrap ErrUnknown or ErrDamaged.
func Decompress(r io.Reader) (plain io.Reader, done func(), err error) {
	in := bufio.NewReader(r)
	head, err := in.Peek(512)
	if err != nil && err != io.EOF {
		return nil, nil, err
	}
	done = func() {}
	begins := func(magic string) bool { return bytes.HasPrefix(head, []byte(magic)) }
	switch err = nil; {
	case begins("\x1f\x8b"):
		plain, err = gzip.NewReader(in)
	case begins("\xfd7zXZ\x00"):
		plain, err = xz.NewReader(in)
	case begins("BZh"):
		plain = bzip2.NewReader(in)
	case begins("\x28\xb5\x2f\xfd"):
		var z *zstd.Decoder
		if z, err = zstd.NewReader(in, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(256<<20)); err == nil {
			plain, done = z, z.Close
		}
	case len(head) > 262 && string(head[257:262]) == "ustar", begins("07070"):
		plain = in
	default:
		return nil, nil, ErrUnknown
	}
	if err != nil {
		return nil, nil, fmt.Errorf("%w: %v", ErrDamaged, err)
	}
	return plain, done, nil
}

// output is the folder with what it may still take.
type output struct {
	root    *os.Root
	bytes   int64
	files   int
	ratio   int64
	only    func(name string) bool
	skipped []string
}

// maxSkipped bounds the list of what was left out.
const maxSkipped = 1000

func (o *output) skip(name, why string) {
	if len(o.skipped) < maxSkipped {
		o.skipped = append(o.skipped, name+": "+why)
	}
}

// clean makes a name in an archive a path below the folder, or says that it cannot be one.
func clean(name string) (string, bool) {
	name = path.Clean(strings.ReplaceAll(name, `\`, "/"))
	name = strings.TrimPrefix(name, "./")
	return name, name != "." && fs.ValidPath(name)
}

// count takes one more file or folder into account.
func (o *output) count() error {
	if o.files--; o.files < 0 {
		return fmt.Errorf("%w: it has too many files", ErrTooMuch)
	}
	return nil
}

func (o *output) folder(name string) error {
	clean, ok := clean(name)
	if !ok {
		return nil
	}
	if err := o.count(); err != nil {
		return err
	}
	return o.root.MkdirAll(clean, 0o755)
}

// file writes one file. The first of two that have one name stays.
func (o *output) file(name string, in io.Reader) error {
	at, ok := clean(name)
	if !ok {
		o.skip(name, "its name leads out of the archive")
		return nil
	}
	if err := o.count(); err != nil || o.only != nil && !o.only(at) {
		return err
	}
	if err := o.root.MkdirAll(path.Dir(at), 0o755); err != nil {
		return err
	}
	f, err := o.root.OpenFile(at, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if errors.Is(err, fs.ErrExist) {
		o.skip(name, "the archive has this name twice")
		return nil
	}
	if err != nil {
		return err
	}
	n, err := io.Copy(f, io.LimitReader(in, o.bytes+1))
	closed := f.Close()
	if o.bytes -= n; o.bytes < 0 {
		return fmt.Errorf("%w: %s makes it too large", ErrTooMuch, name)
	}
	if err != nil {
		return fmt.Errorf("%w: %s: %v", ErrDamaged, name, err)
	}
	return closed
}

func (o *output) zip(r io.ReaderAt, size int64) error {
	z, err := zip.NewReader(r, size)
	if err != nil {
		return fmt.Errorf("%w: %v", ErrDamaged, err)
	}
	for _, f := range z.File {
		switch mode := f.Mode(); {
		case mode.IsDir():
			err = o.folder(f.Name)
		case !mode.IsRegular():
			o.skip(f.Name, "a link or a device")
			continue
		default:
			err = o.zipFile(f)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (o *output) zipFile(f *zip.File) error {
	in, err := f.Open()
	if err != nil {
		return fmt.Errorf("%w: %s: %v", ErrDamaged, f.Name, err)
	}
	defer in.Close()
	return o.file(f.Name, in)
}

func (o *output) tar(in *tar.Reader) error {
	for {
		h, err := in.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return fmt.Errorf("%w: %v", ErrDamaged, err)
		}
		name := strings.TrimLeft(h.Name, "/")
		switch h.Typeflag {
		case tar.TypeDir:
			err = o.folder(name)
		case tar.TypeReg:
			err = o.file(name, in)
		case tar.TypeXGlobalHeader:
		default:
			o.skip(name, "a link or a device")
		}
		if err != nil {
			return err
		}
	}
}

// debian takes the files that a Debian package would install.
func (o *output) debian(r io.ReaderAt) error {
	pack, err := OpenDebian(r)
	if err != nil {
		return err
	}
	defer pack.Close()
	return o.tar(pack.Data)
}
