package fileview

import (
	"io"
	"io/fs"
	"path"
	"strings"
	"time"

	"www.velocidex.com/golang/go-ntfs/parser"

	"jugate/core/volume"
)

// ntfsFiles is fs.FS over the library's file table. Names are matched without
// regard to case, as the system does.
type ntfsFiles struct{ ntfs *parser.NTFSContext }

// openNTFS gives the library the file table, as it does not read the boot sector of
// volumes with clusters beyond 64 KiB.
func openNTFS(r io.ReaderAt, size int64) (fs.FS, error) {
	table, _, cluster, record, err := volume.NTFSTable(r, size)
	if err != nil {
		return nil, err
	}
	ntfs := parser.GetNTFSContextFromRawMFT(table, cluster, record)
	ntfs.DiskReader = r
	return ntfsFiles{ntfs}, nil
}

const rootRecord = 5

func (f ntfsFiles) Open(name string) (fs.File, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	}
	entry, err := f.ntfs.GetMFT(rootRecord)
	if err == nil && name != "." {
		entry, err = entry.Open(f.ntfs, name)
	}
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	file := &ntfsFile{files: f, entry: entry, name: path.Base(name), folder: entry.IsDir(f.ntfs)}
	if !file.folder {
		if file.data, err = parser.OpenStream(f.ntfs, entry, parser.ATTR_TYPE_DATA, parser.WILDCARD_STREAM_ID, ""); err != nil {
			return nil, &fs.PathError{Op: "open", Path: name, Err: err}
		}
	}
	return file, nil
}

// ntfsFile is a file or a folder, and its own fs.FileInfo and fs.DirEntry.
type ntfsFile struct {
	undated
	files  ntfsFiles
	entry  *parser.MFT_ENTRY
	name   string
	folder bool
	data   parser.RangeReaderAt
	at     int64
	listed listing
}

func (f *ntfsFile) Stat() (fs.FileInfo, error) { return f, nil }
func (f *ntfsFile) Info() (fs.FileInfo, error) { return f, nil }
func (f *ntfsFile) Name() string               { return f.name }
func (f *ntfsFile) IsDir() bool                { return f.folder }
func (f *ntfsFile) Type() fs.FileMode          { return f.Mode().Type() }

func (f *ntfsFile) Mode() fs.FileMode {
	if f.folder {
		return fs.ModeDir | 0o555
	}
	return 0o444
}

func (f *ntfsFile) Size() int64 {
	if f.folder {
		return 0
	}
	return parser.RangeSize(f.data)
}

func (f *ntfsFile) Read(b []byte) (int, error) {
	if f.folder {
		return 0, &fs.PathError{Op: "read", Path: f.name, Err: fs.ErrInvalid}
	}
	n, err := f.ReadAt(b, f.at)
	if f.at += int64(n); n > 0 {
		err = nil
	}
	return n, err
}

// ReadAt is io.ReaderAt's.
func (f *ntfsFile) ReadAt(b []byte, off int64) (int, error) {
	left := f.Size() - off
	switch {
	case off < 0 || f.folder:
		return 0, &fs.PathError{Op: "read", Path: f.name, Err: fs.ErrInvalid}
	case len(b) == 0:
		return 0, nil
	case left <= 0:
		return 0, io.EOF
	}
	n, err := f.data.ReadAt(b[:min(int64(len(b)), left)], off)
	if err == nil && n < len(b) {
		err = io.EOF
	}
	return n, err
}

func (f *ntfsFile) ReadDir(n int) ([]fs.DirEntry, error) {
	if !f.folder {
		return nil, &fs.PathError{Op: "readdir", Path: f.name, Err: fs.ErrInvalid}
	}
	if f.listed == nil {
		f.listed = f.list()
	}
	return f.listed.next(n)
}

// list names what is in the folder; short names and the table's own files are
// left out.
func (f *ntfsFile) list() listing {
	entries := listing{}
	for _, e := range parser.ListDir(f.files.ntfs, f.entry) {
		if e.NameType == "DOS" || e.Name == "." || e.Name == "" || strings.HasPrefix(e.Name, "$") {
			continue
		}
		entries = append(entries, &ntfsEntry{e})
	}
	entries.sort()
	return entries
}

// ntfsEntry is one line of a folder.
type ntfsEntry struct{ info *parser.FileInfo }

func (e *ntfsEntry) Name() string               { return e.info.Name }
func (e *ntfsEntry) IsDir() bool                { return e.info.IsDir }
func (e *ntfsEntry) Info() (fs.FileInfo, error) { return e, nil }
func (e *ntfsEntry) Type() fs.FileMode          { return e.Mode().Type() }
func (e *ntfsEntry) Size() int64                { return e.info.Size }
func (e *ntfsEntry) ModTime() time.Time         { return e.info.Mtime }
func (e *ntfsEntry) Sys() any                   { return nil }

func (e *ntfsEntry) Mode() fs.FileMode {
	if e.info.IsDir {
		return fs.ModeDir | 0o555
	}
	return 0o444
}
