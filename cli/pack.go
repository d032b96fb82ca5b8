package cli

import (
	"archive/tar"
	"io"
	"os"
)

// openOrPack opens a file, or a folder as a tar archive.
func openOrPack(path string) (io.ReadCloser, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if !info.IsDir() {
		return os.Open(path)
	}
	return tarOf(func(t *tar.Writer) error { return t.AddFS(os.DirFS(path)) }), nil
}

// tarOf is a tar archive, made while it is read.
func tarOf(fill func(*tar.Writer) error) io.ReadCloser {
	r, w := io.Pipe()
	go func() {
		t := tar.NewWriter(w)
		err := fill(t)
		if err == nil {
			err = t.Close()
		}
		w.CloseWithError(err)
	}()
	return r
}

func addFile(t *tar.Writer, path, name string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if err := t.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: name, Size: info.Size(), Mode: 0o644, ModTime: info.ModTime()}); err != nil {
		return err
	}
	_, err = io.Copy(t, f)
	return err
}
