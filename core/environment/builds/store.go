package builds

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/zeebo/blake3"

	"jugate/core/durable"
	"jugate/core/fault"
	"jugate/core/slabstore"
)

// Store keeps builds in a folder: builds/N.json and parts/DIGEST.
type Store struct{ dir string }

// Open opens the folder and makes what is not there.
func Open(dir string) (*Store, error) {
	for _, name := range []string{"builds", "parts"} {
		if err := os.MkdirAll(filepath.Join(dir, name), 0o755); err != nil {
			return nil, err
		}
		if err := durable.Sweep(filepath.Join(dir, name)); err != nil {
			return nil, err
		}
	}
	return &Store{dir}, nil
}

// Builds are the numbers of all builds, in order.
func (s *Store) Builds() ([]int, error) {
	entries, err := os.ReadDir(filepath.Join(s.dir, "builds"))
	if err != nil {
		return nil, err
	}
	var numbers []int
	for _, e := range entries {
		if n, err := strconv.Atoi(strings.TrimSuffix(e.Name(), ".json")); err == nil {
			numbers = append(numbers, n)
		}
	}
	slices.Sort(numbers)
	return numbers, nil
}

// Next is a number that no build has or had.
func (s *Store) Next() (int, error) {
	entries, err := os.ReadDir(filepath.Join(s.dir, "builds"))
	next := 1
	for _, e := range entries {
		number, _, _ := strings.Cut(e.Name(), ".")
		if n, err := strconv.Atoi(number); err == nil {
			next = max(next, n+1)
		}
	}
	return next, err
}

// removedMark is what stays of a build that was removed, so that no other gets its number.
const removedMark = ".removed"

// Remove removes a build and the parts that no other build has. No build may be made
// meanwhile. Errors wrap fs.ErrNotExist.
func (s *Store) Remove(number int) error {
	gone, err := s.Build(number)
	if err != nil {
		return err
	}
	numbers, err := s.Builds()
	if err != nil {
		return err
	}
	kept := map[slabstore.Digest]bool{}
	for _, n := range numbers {
		if n == number {
			continue
		}
		b, err := s.Build(n)
		if err != nil {
			return err // what it needs cannot be told
		}
		for _, p := range b.parts() {
			kept[p.Digest] = true
		}
	}
	mark := strings.TrimSuffix(s.buildFile(number), ".json") + removedMark
	if err := errors.Join(durable.Write(mark, nil, 0o644), os.Remove(s.buildFile(number))); err != nil {
		return err
	}
	for _, p := range gone.parts() {
		if kept[p.Digest] {
			continue
		}
		if err := os.Remove(s.partFile(p)); err != nil && !errors.Is(err, fs.ErrNotExist) { // one may stand in it twice
			return err
		}
	}
	return nil
}

// parts are all parts of a build.
func (b *Build) parts() (all []Part) {
	for _, p := range b.Parts {
		all = append(all, p)
	}
	for _, l := range b.Layers {
		all = append(all, l.Part)
	}
	return all
}

func (s *Store) buildFile(number int) string {
	return filepath.Join(s.dir, "builds", strconv.Itoa(number)+".json")
}

// Build reads the description of a build. Errors wrap fs.ErrNotExist.
func (s *Store) Build(number int) (*Build, error) {
	b, err := os.ReadFile(s.buildFile(number))
	if err != nil {
		return nil, fmt.Errorf("build %d: %w", number, err)
	}
	build := &Build{}
	if err := json.Unmarshal(b, build); err != nil {
		return nil, fmt.Errorf("build %d: %w", number, err)
	}
	return build, nil
}

// save makes a build visible. A number is never used twice.
func (s *Store) save(b *Build) error {
	said := map[string]bool{}
	b.Problems = slices.DeleteFunc(b.Problems, func(p string) bool { // what two parts lack is said once
		again := said[p]
		said[p] = true
		return again
	})
	text, err := json.MarshalIndent(b, "", "\t")
	if err != nil {
		return err
	}
	f, err := durable.Create(s.buildFile(b.Number), 0o644)
	if err != nil {
		return err
	}
	defer f.Drop()
	if _, err := f.Write(text); err != nil {
		return err
	}
	return f.KeepNew()
}

// put stores what fill writes as a part.
func (s *Store) put(fill func(io.Writer) error) (Part, error) {
	f, err := durable.Create(filepath.Join(s.dir, "parts", "part"), 0o644)
	if err != nil {
		return Part{}, err
	}
	defer f.Drop()
	h := blake3.New()
	err = fill(io.MultiWriter(f, h))
	size, seekErr := f.Seek(0, io.SeekCurrent)
	if err = errors.Join(err, seekErr); err != nil {
		return Part{}, err
	}
	part := Part{Digest: slabstore.Digest(h.Sum(nil)), Size: size}
	return part, f.KeepAs(s.partFile(part))
}

func (s *Store) partFile(p Part) string {
	return filepath.Join(s.dir, "parts", p.Digest.String())
}

// Content is an open part, or several one after the other.
type Content struct {
	io.ReaderAt
	Size  int64
	files []*os.File
}

// Close closes the files.
func (c *Content) Close() error {
	var errs []error
	for _, f := range c.files {
		errs = append(errs, f.Close())
	}
	return errors.Join(errs...)
}

// Open opens what a loader asks for by name: a part, or InitrdPart, which is all
// layers. Errors wrap ErrNotFound.
func (s *Store) Open(b *Build, name string) (*Content, error) {
	if name != InitrdPart {
		part, there := b.Parts[name]
		if !there {
			return nil, fmt.Errorf("build %d: %s: %w", b.Number, name, ErrNoPart)
		}
		f, err := os.Open(s.partFile(part))
		if err != nil {
			return nil, err
		}
		return &Content{f, part.Size, []*os.File{f}}, nil
	}
	return s.OpenInitrd(b)
}

// Part finds a stored part by its digest. Errors wrap fs.ErrNotExist.
func (s *Store) Part(d slabstore.Digest) (Part, error) {
	p := Part{Digest: d}
	info, err := os.Stat(s.partFile(p))
	if err != nil {
		return p, err
	}
	p.Size = info.Size()
	return p, nil
}

// OpenInitrd opens the layers of a build, and more behind them.
func (s *Store) OpenInitrd(b *Build, more ...Part) (*Content, error) {
	var parts []Part
	for _, l := range b.Layers {
		parts = append(parts, l.Part)
	}
	c := &Content{}
	var pieces chain
	for _, part := range append(parts, more...) {
		f, err := os.Open(s.partFile(part))
		if err != nil {
			return nil, errors.Join(err, c.Close())
		}
		c.files = append(c.files, f)
		pieces = append(pieces, piece{c.Size, io.NewSectionReader(f, 0, part.Size)})
		if c.Size += part.Size; c.Size != aligned(c.Size) {
			gap := aligned(c.Size) - c.Size
			pieces = append(pieces, piece{c.Size, io.NewSectionReader(bytes.NewReader(make([]byte, gap)), 0, gap)})
			c.Size += gap
		}
	}
	c.ReaderAt = pieces
	return c, nil
}

// ErrNoPart says that a build has no part of a name.
var ErrNoPart = fault.NotFound.Errorf("the build has no such part")

// aligned is where the next segment may begin: the kernel wants multiples of four.
func aligned(n int64) int64 { return (n + cpioAlign - 1) &^ (cpioAlign - 1) }

// chain are readers that follow each other.
type chain []piece

type piece struct {
	start int64
	*io.SectionReader
}

func (c chain) ReadAt(b []byte, off int64) (n int, err error) {
	for _, p := range c {
		if off >= p.start+p.Size() {
			continue
		}
		got, err := p.SectionReader.ReadAt(b[n:], off-p.start)
		n += got
		off += int64(got)
		if n == len(b) {
			return n, nil
		}
		if err != nil && err != io.EOF {
			return n, err
		}
	}
	return n, io.EOF
}
