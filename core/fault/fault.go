// Package fault keeps a fault of the program within what it was at: one workstation, one
// packet or one transfer must not end the service for all others.
package fault

import (
	"errors"
	"fmt"
	"runtime/debug"
)

// Err is what Guard makes of a panic.
var Err = errors.New("a fault of the program")

// Guard runs f, and makes a panic of its goroutine an error that wraps Err, with the
// stack.
func Guard(f func() error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("%w: %v\n%s", Err, p, debug.Stack())
		}
	}()
	return f()
}
