package service

import (
	"fmt"
	"runtime/debug"
)

// guarded runs f, and makes a panic an error: what one workstation, one packet or one
// fault of the program does must not end the service for all others.
func guarded(f func() error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("a fault of the program: %v\n%s", p, debug.Stack())
		}
	}()
	return f()
}
