// Package objects keeps objects under names, as object stores do: whole, and with writes that
// happen on a condition alone.
//
//	tag, err := store.Put(ctx, "lease.json", text, objects.Absent)
//	if errors.Is(err, objects.ErrCondition) {
//		// somebody else was first
//	}
//
// Folder keeps them in a folder; an object store that is reached over the network is in package
// bucket.
package objects

import (
	"context"
	"io"
	"iter"
	"strings"
	"time"

	"jugate/core/fault"
)

var (
	// ErrNotFound says that there is no object of that name.
	ErrNotFound = fault.NotFound.Errorf("no such object in the store")
	// ErrCondition says that an object was not written, as there is one, or another one.
	ErrCondition = fault.Conflict.Errorf("the object is not as it was expected")
	// ErrName says that something cannot be the name of an object.
	ErrName = fault.Invalid.Errorf("not a name for an object")
)

// Condition says when Put may write. A tag that was returned for an object means: while it is
// that one.
type Condition string

const (
	Always Condition = ""       // whatever there is
	Absent Condition = "absent" // if there is none of that name
)

// Object is what is told of an object.
type Object struct {
	Name    string
	Size    int64 // bytes
	Changed time.Time
	Tag     string // another one with each content
}

// Store keeps objects. It may be used from several goroutines. Names are of 1 to 512 bytes,
// parts separated by slashes. A write that fails, or is cut off, leaves what there was.
type Store interface {
	// Put writes a small object. Errors wrap ErrCondition, ErrName, or are the store's.
	Put(ctx context.Context, name string, content []byte, when Condition) (tag string, err error)
	// Write writes an object of any size, in the place of one of that name.
	Write(ctx context.Context, name string, content io.Reader) error
	// Open reads length bytes of an object from a place on, fewer if it ends before, and all
	// that there are if length is negative. Errors wrap ErrNotFound.
	Open(ctx context.Context, name string, from, length int64) (io.ReadCloser, error)
	// Stat tells of one object. Errors wrap ErrNotFound.
	Stat(ctx context.Context, name string) (Object, error)
	// List goes through the objects whose names begin with a prefix, in the order of their
	// names.
	List(ctx context.Context, prefix string) iter.Seq2[Object, error]
	// Remove takes an object away, if there is one.
	Remove(ctx context.Context, name string) error
}

// Read reads a small object whole. One of more than most bytes is an error.
func Read(ctx context.Context, s Store, name string, most int64) ([]byte, error) {
	r, err := s.Open(ctx, name, 0, most+1)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	b, err := io.ReadAll(r)
	if err == nil && int64(len(b)) > most {
		err = fault.TooLarge.Errorf("%s has more than %d bytes", name, most)
	}
	return b, err
}

// CheckName is an error that wraps ErrName unless a name is one.
func CheckName(name string) error {
	if name == "" || len(name) > 512 {
		return ErrName
	}
	for part := range strings.SplitSeq(name, "/") {
		if part == "" || strings.HasPrefix(part, ".") || strings.ContainsFunc(part, func(r rune) bool { return r < ' ' || r == '\\' || r == 0x7f }) {
			return ErrName
		}
	}
	return nil
}

// Within is the objects of a store whose names begin with a prefix, without it.
func Within(s Store, prefix string) Store { return within{s, prefix} }

type within struct {
	s      Store
	prefix string
}

func (w within) Put(ctx context.Context, name string, content []byte, when Condition) (string, error) {
	return w.s.Put(ctx, w.prefix+name, content, when)
}

func (w within) Write(ctx context.Context, name string, content io.Reader) error {
	return w.s.Write(ctx, w.prefix+name, content)
}

func (w within) Open(ctx context.Context, name string, from, length int64) (io.ReadCloser, error) {
	return w.s.Open(ctx, w.prefix+name, from, length)
}

func (w within) Stat(ctx context.Context, name string) (Object, error) {
	o, err := w.s.Stat(ctx, w.prefix+name)
	o.Name = name
	return o, err
}

func (w within) List(ctx context.Context, prefix string) iter.Seq2[Object, error] {
	return func(yield func(Object, error) bool) {
		for o, err := range w.s.List(ctx, w.prefix+prefix) {
			o.Name = strings.TrimPrefix(o.Name, w.prefix)
			if !yield(o, err) {
				return
			}
		}
	}
}

func (w within) Remove(ctx context.Context, name string) error { return w.s.Remove(ctx, w.prefix+name) }
