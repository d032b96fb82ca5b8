package builds

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"

	"github.com/klauspost/compress/zstd"
	"github.com/zeebo/blake3"

	"jugate/core/slabstore"
)

// content is a file on its way into a layer.
type content struct {
	File
	open         func() (io.ReadCloser, error)
	device       bool // a character device
	major, minor uint32
}

// text is a file of a few bytes that Jugate makes itself.
func text(name string, mode fs.FileMode, b []byte) content {
	return content{File: File{Path: name, Mode: mode, Size: int64(len(b)), Origin: "jugate"},
		open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(b)), nil }}
}

func link(name, target string) content {
	return content{File: File{Path: name, Mode: fs.ModeSymlink | 0o777, Link: target, Origin: "jugate"}}
}

// file takes a file of the source.
func (f found) content(name string, mode fs.FileMode) (content, error) {
	info, err := f.place.root.Stat(f.name)
	if err != nil {
		return content{}, err
	}
	return content{File: File{Path: name, Mode: mode, Size: info.Size(), Origin: f.origin, Package: f.pack()}, open: func() (io.ReadCloser, error) { return f.open() }}, nil
}

// writeLayer writes a layer, compressed, and returns the list of its files. Folders
// come from the files' names.
func writeLayer(w io.Writer, files []content) ([]File, error) {
	z, err := zstd.NewWriter(w, zstd.WithEncoderLevel(zstd.SpeedBetterCompression), zstd.WithEncoderConcurrency(1))
	if err != nil {
		return nil, err
	}
	c := &cpioWriter{w: z}
	slices.SortFunc(files, func(a, b content) int { return strings.Compare(a.Path, b.Path) })
	made := map[string]bool{".": true}
	var folder func(name string) error
	folder = func(name string) error {
		if made[name] {
			return nil
		}
		made[name] = true
		if err := folder(path.Dir(name)); err != nil {
			return err
		}
		return c.entry(name, modeFolder|0o755, 0, 0, 0)
	}
	var list []File
	for _, f := range files {
		if err := folder(path.Dir(f.Path)); err != nil {
			return nil, err
		}
		switch {
		case f.device:
			err = c.entry(f.Path, modeChar|uint32(f.Mode.Perm()), 0, f.major, f.minor)
		case f.Link != "":
			err = c.symlink(f.Path, f.Link)
		case f.Mode.IsDir():
			err = folder(f.Path)
		default:
			f.Digest, err = writeContent(c, f)
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", f.Path, err)
		}
		list = append(list, f.File)
	}
	return list, errors.Join(c.close(), z.Close())
}

func writeContent(c *cpioWriter, f content) (d slabstore.Digest, err error) {
	in, err := f.open()
	if err != nil {
		return d, err
	}
	defer in.Close()
	h := blake3.New()
	if err := c.content(f.Path, modeFile|uint32(f.Mode.Perm()), f.Size, io.TeeReader(in, h)); err != nil {
		return d, err
	}
	copy(d[:], h.Sum(nil))
	return d, nil
}

// WriteTrust writes a small root file system in which OpenSSL trusts a certificate (PEM) beside what it trusts already: it is its
// file of certificates by default, in Debian.
func WriteTrust(w io.Writer, certificate []byte) error {
	_, err := writeLayer(w, []content{text("usr/lib/ssl/cert.pem", 0o644, certificate)})
	return err
}
