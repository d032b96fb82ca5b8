// Package boottest lets tests share what a machine has one of.
package boottest

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/gofrs/flock"
)

// Ports gives the ports of network boot on loopback to a test until it ends. Tests of other packages, which run at the same time, wait.
func Ports(t testing.TB) {
	t.Helper()
	held := flock.New(filepath.Join(os.TempDir(), "jugate-test-boot-ports.lock"))
	if err := held.Lock(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { held.Unlock() })
}
