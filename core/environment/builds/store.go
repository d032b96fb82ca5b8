package builds

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"jugate/core/durable"
	"jugate/core/fault"
	"jugate/core/parts"
	"jugate/core/slabstore"
)

// Store keeps builds in a folder: builds/N.json and parts/DIGEST.
type Store struct {
	Parts *parts.Store

	dir string
}

// Content is an open part, or several one after the other.
type Content = parts.Content

// Open opens the folder and makes what is not there.
func Open(dir string) (*Store, error) {
	described := filepath.Join(dir, "builds")
	if err := os.MkdirAll(described, 0o755); err != nil {
		return nil, err
	}
	if err := durable.Sweep(described); err != nil {
		return nil, err
	}
	all, err := parts.Open(filepath.Join(dir, "parts"))
	return &Store{all, dir}, err
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

// Description is the text that describes a build. Errors wrap fs.ErrNotExist.
func (s *Store) Description(number int) ([]byte, error) { return os.ReadFile(s.buildFile(number)) }

// Describe reads a description, and tells which parts it needs.
func Describe(text []byte) (*Build, []Part, error) {
	b := &Build{}
	if err := json.Unmarshal(text, b); err != nil {
		return nil, nil, err
	}
	return b, b.parts(), nil
}

// Take makes a build visible that was made elsewhere, by its description. All of its parts are there already.
func (s *Store) Take(number int, text []byte) error {
	b, needs, err := Describe(text)
	if err != nil {
		return err
	}
	if b.Number != number {
		return fmt.Errorf("the description of build %d is that of build %d", number, b.Number)
	}
	for _, p := range needs {
		if have, err := s.Parts.Find(p.Digest); err != nil || have.Size != p.Size {
			return fmt.Errorf("build %d needs %s, which is not there", number, p.Digest.Short())
		}
	}
	return durable.Write(s.buildFile(number), text, 0o644)
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
		if err := s.Parts.Remove(p); err != nil {
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

// Open opens what a loader asks for by name: a part, or InitrdPart, which is all
// layers. Errors wrap ErrNotFound.
func (s *Store) Open(b *Build, name string) (*Content, error) {
	if name != InitrdPart {
		part, there := b.Parts[name]
		if !there {
			return nil, fmt.Errorf("build %d: %s: %w", b.Number, name, ErrNoPart)
		}
		return s.Parts.Open(part)
	}
	return s.OpenInitrd(b, slabstore.Digest{})
}

// OpenInitrd opens the layers of a build without the one of a digest, if it is one of them, and more behind them.
func (s *Store) OpenInitrd(b *Build, without slabstore.Digest, more ...Part) (*Content, error) {
	var all []Part
	for _, l := range b.Layers {
		if l.Part.Digest != without {
			all = append(all, l.Part)
		}
	}
	return s.Parts.Open(append(all, more...)...)
}

// ErrNoPart says that a build has no part of a name.
var ErrNoPart = fault.NotFound.Errorf("the build has no such part")
