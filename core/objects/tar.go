package objects

import (
	"archive/tar"
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"maps"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"jugate/core/fault"
)

// TarWriter writes objects into a tar, one after the other, each once. It tells of what it has
// written and reads nothing back.
type TarWriter struct {
	mu      sync.Mutex
	tar     *tar.Writer
	scratch string
	sizes   map[string]int64
	now     time.Time
}

// NewTarWriter begins a tar. What is too long for the memory waits in a file in scratch.
func NewTarWriter(w io.Writer, scratch string, now time.Time) *TarWriter {
	return &TarWriter{tar: tar.NewWriter(w), scratch: scratch, sizes: map[string]int64{}, now: now}
}

// Close ends the tar.
func (t *TarWriter) Close() error { return t.tar.Close() }

// Put is Store's; of conditions only Absent can hold, as what is written stays.
func (t *TarWriter) Put(ctx context.Context, name string, content []byte, when Condition) (string, error) {
	return tagOf(content), t.write(name, int64(len(content)), strings.NewReader(string(content)))
}

// Write is Store's.
func (t *TarWriter) Write(ctx context.Context, name string, content io.Reader) error {
	f, err := os.CreateTemp(t.scratch, "object")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	defer f.Close()
	n, err := io.Copy(f, content)
	if err == nil {
		_, err = f.Seek(0, io.SeekStart)
	}
	if err != nil {
		return explain(err)
	}
	return t.write(name, n, f)
}

func (t *TarWriter) write(name string, size int64, content io.Reader) error {
	if err := CheckName(name); err != nil {
		return fmt.Errorf("%w: %q", err, name)
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if _, there := t.sizes[name]; there {
		return fmt.Errorf("%w: %s is written", ErrCondition, name)
	}
	if err := t.tar.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: size, ModTime: t.now, Format: tar.FormatPAX}); err != nil {
		return err
	}
	if _, err := io.Copy(t.tar, content); err != nil {
		return err
	}
	t.sizes[name] = size
	return nil
}

// Open is Store's, and reads nothing.
func (t *TarWriter) Open(context.Context, string, int64, int64) (io.ReadCloser, error) {
	return nil, errors.ErrUnsupported
}

// Stat is Store's.
func (t *TarWriter) Stat(_ context.Context, name string) (Object, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	size, there := t.sizes[name]
	if !there {
		return Object{}, fmt.Errorf("%w: %s", ErrNotFound, name)
	}
	return Object{Name: name, Size: size}, nil
}

// List is Store's.
func (t *TarWriter) List(_ context.Context, prefix string) iter.Seq2[Object, error] {
	return func(yield func(Object, error) bool) {
		t.mu.Lock()
		sizes := maps.Clone(t.sizes)
		t.mu.Unlock()
		listed(sizes, prefix, yield)
	}
}

func listed(sizes map[string]int64, prefix string, yield func(Object, error) bool) {
	for _, name := range slices.Sorted(maps.Keys(sizes)) {
		if strings.HasPrefix(name, prefix) && !yield(Object{Name: name, Size: sizes[name]}, nil) {
			return
		}
	}
}

// Remove is Store's, and removes nothing.
func (t *TarWriter) Remove(context.Context, string) error { return errors.ErrUnsupported }

// Tar reads objects from a tar; it is a Store into which nothing can be written.
type Tar struct {
	from   io.ReaderAt
	places map[string]*io.SectionReader
}

// maxInTar is how many objects a tar can have.
const maxInTar = 1 << 20

// OpenTar reads what is in a tar of size bytes.
func OpenTar(from io.ReaderAt, size int64) (*Tar, error) {
	section := io.NewSectionReader(from, 0, size)
	t := &Tar{from, map[string]*io.SectionReader{}}
	for r := tar.NewReader(section); ; {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			return t, nil
		}
		if err != nil {
			return nil, fault.Invalid.Errorf("not a tar of objects, or one that was cut off: %w", err)
		}
		at, err := section.Seek(0, io.SeekCurrent)
		if err != nil {
			return nil, err
		}
		if len(t.places) == maxInTar || h.Size < 0 || h.Size > size-at || CheckName(h.Name) != nil {
			return nil, fault.Invalid.Errorf("not a tar of objects: %q with %d bytes", h.Name, h.Size)
		}
		t.places[h.Name] = io.NewSectionReader(from, at, h.Size)
	}
}

// Put is Store's, and writes nothing.
func (t *Tar) Put(context.Context, string, []byte, Condition) (string, error) {
	return "", errors.ErrUnsupported
}

// Write is Store's, and writes nothing.
func (t *Tar) Write(context.Context, string, io.Reader) error { return errors.ErrUnsupported }

// Open is Store's.
func (t *Tar) Open(_ context.Context, name string, from, length int64) (io.ReadCloser, error) {
	at, there := t.places[name]
	if !there {
		return nil, fmt.Errorf("%w: %s", ErrNotFound, name)
	}
	if length < 0 {
		length = 1<<62 - from
	}
	return io.NopCloser(io.NewSectionReader(at, from, length)), nil
}

// Stat is Store's.
func (t *Tar) Stat(_ context.Context, name string) (Object, error) {
	at, there := t.places[name]
	if !there {
		return Object{}, fmt.Errorf("%w: %s", ErrNotFound, name)
	}
	return Object{Name: name, Size: at.Size()}, nil
}

// List is Store's.
func (t *Tar) List(_ context.Context, prefix string) iter.Seq2[Object, error] {
	return func(yield func(Object, error) bool) {
		sizes := map[string]int64{}
		for name, at := range t.places {
			sizes[name] = at.Size()
		}
		listed(sizes, prefix, yield)
	}
}

// Remove is Store's, and removes nothing.
func (t *Tar) Remove(context.Context, string) error { return errors.ErrUnsupported }
