// Package fault has the kinds of error that the interfaces of Jugate tell apart, and
// keeps faults of the program within what they were at.
//
//	if taken {
//		return fault.Conflict.Errorf("another workstation is called %s", name)
//	}
//	...
//	if errors.Is(err, fault.NotFound) {
//
// A room says what went wrong in words for the engineer and gives the error a kind.
// What a kind is in HTTP, or as an exit code, the room at the edge decides.
package fault

import (
	"errors"
	"fmt"
	"runtime/debug"
)

// Kind is a kind of error. It is an error itself, so that errors.Is finds it.
type Kind string

// The kinds. Everything that has none is the program's own failure.
const (
	NotFound    Kind = "not found"   // what was named does not exist
	Conflict    Kind = "conflict"    // it contradicts how things are
	Invalid     Kind = "invalid"     // it can never be done like this
	Forbidden   Kind = "forbidden"   // whoever asks may not
	Stranger    Kind = "stranger"    // nobody knows who asks
	TooLarge    Kind = "too large"   // more bytes than are taken
	TooMany     Kind = "too many"    // it may be asked again later
	Full        Kind = "full"        // a disk has no room
	Unreachable Kind = "unreachable" // a machine or network that is needed does not answer
	CutOff      Kind = "cut off"     // the request ended before it was whole
	Unready     Kind = "unready"     // the service cannot do its work now
)

// Error is what errors.Is of a Kind is for: the kind's name.
func (k Kind) Error() string { return string(k) }

// Errorf makes an error of this kind. It reads like fmt.Errorf, %w included, and says
// nothing of the kind.
func (k Kind) Errorf(format string, args ...any) *Error {
	return &Error{kind: k, err: fmt.Errorf(format, args...)}
}

// Mark gives an error a kind, and keeps nil nil.
func (k Kind) Mark(err error) error {
	if err == nil {
		return nil
	}
	return &Error{kind: k, err: err}
}

// Error is an error with a kind, and with details where one line does not say it.
type Error struct {
	kind    Kind
	err     error
	Details []string
}

// With adds details, a line each.
func (e *Error) With(details ...string) *Error {
	e.Details = append(e.Details, details...)
	return e
}

func (e *Error) Error() string { return e.err.Error() }

// Unwrap gives what was marked, and the kind.
func (e *Error) Unwrap() []error { return []error{e.err, e.kind} }

// KindOf is the kind of an error, the outermost if there are several; empty if it has
// none.
func KindOf(err error) Kind {
	var e *Error
	if errors.As(err, &e) {
		return e.kind
	}
	var k Kind
	errors.As(err, &k)
	return k
}

// DetailsOf are the details of an error.
func DetailsOf(err error) []string {
	var e *Error
	if errors.As(err, &e) {
		return e.Details
	}
	return nil
}

// Err is what Guard makes of a panic.
var Err = errors.New("a fault of the program")

// Guard runs f, and makes a panic of its goroutine an error that wraps Err, with the
// stack: one workstation, one packet or one transfer must not end the service for all
// others.
func Guard(f func() error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("%w: %v\n%s", Err, p, debug.Stack())
		}
	}()
	return f()
}
