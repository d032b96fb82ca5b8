// Package fileview shows the files of a volume, read-only, without mounting it.
// It joins libraries that know file systems to io/fs; whoever can mount, such as
// the boot environment, has the kernel's view instead.
package fileview

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"sync/atomic"

	"github.com/diskfs/go-diskfs/backend"
	"github.com/diskfs/go-diskfs/filesystem/fat12"
	"github.com/diskfs/go-diskfs/filesystem/fat16"
	"github.com/diskfs/go-diskfs/filesystem/fat32"

	"jugate/core/volume"
)

// ErrNoView says that no library here reads files of that kind of volume.
var ErrNoView = errors.New("no reader for files")

// maxRead bounds how many bytes are read for one view, so that a volume whose
// folders go round in a circle comes to an end.
const maxRead = 512 << 20

// Open shows the files of a volume of size bytes. Errors wrap ErrNoView or tell
// why the library will not read it. A view is for one goroutine.
func Open(r io.ReaderAt, size int64, kind volume.Kind) (files fs.FS, err error) {
	// The libraries trust what they read more than one should.
	defer func() {
		if p := recover(); p != nil {
			files, err = nil, fmt.Errorf("its files cannot be read: %v", p)
		}
	}()
	r = &rationed{r: r}
	s := &storage{r: r, size: size}
	switch kind {
	case volume.Ext:
		files, err = openExt(r, size)
	case volume.FAT12:
		files, err = fat12.Read(s, size, 0, 512)
	case volume.FAT16:
		files, err = fat16.Read(s, size, 0, 512)
	case volume.FAT32:
		two, long, bad := withTwoTables(r, size)
		if bad != nil {
			return nil, bad
		}
		files, err = fat32.Read(&storage{r: two, size: long}, long, 0, 512)
	case volume.NTFS:
		files, err = openNTFS(r, size)
	default:
		return nil, fmt.Errorf("%w of %s", ErrNoView, kind)
	}
	if err != nil {
		return nil, err
	}
	return files, nil
}

// rationed ends a reader that reads without end.
type rationed struct {
	r    io.ReaderAt
	read atomic.Int64
}

func (r *rationed) ReadAt(b []byte, off int64) (int, error) {
	if r.read.Add(int64(len(b))+512) > maxRead {
		return 0, errors.New("its folders have no end")
	}
	return r.r.ReadAt(b, off)
}

// storage is a volume as the library wants it: a file that is never written.
type storage struct {
	r    io.ReaderAt
	size int64
	at   int64
}

func (s *storage) ReadAt(b []byte, off int64) (int, error) { return s.r.ReadAt(b, off) }

func (s *storage) Read(b []byte) (int, error) {
	n, err := s.r.ReadAt(b, s.at)
	s.at += int64(n)
	return n, err
}

func (s *storage) Seek(off int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		off += s.at
	case io.SeekEnd:
		off += s.size
	}
	if off < 0 {
		return 0, fs.ErrInvalid
	}
	s.at = off
	return off, nil
}

func (s *storage) Stat() (fs.FileInfo, error)              { return nil, fs.ErrInvalid }
func (s *storage) Close() error                            { return nil }
func (s *storage) Path() string                            { return "" }
func (s *storage) Sys() (*os.File, error)                  { return nil, backend.ErrNotSuitable }
func (s *storage) Writable() (backend.WritableFile, error) { return nil, backend.ErrIncorrectOpenMode }
