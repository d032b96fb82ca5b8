package objects_test

import (
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/bucket/objectstest"
	"jugate/core/fault"
	"jugate/core/objects"
)

func TestAFolderIsAStore(t *testing.T) { objectstest.Try(t, objects.OpenFolder(t.TempDir())) }

// A folder of another machine that is away must not become one of this machine.
func TestAFolderThatIsAwayIsNotMade(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "shelf")
	s := objects.OpenFolder(dir)
	_, err := s.Put(t.Context(), "a", nil, objects.Always)
	assert.ErrorIs(t, err, fault.Unreachable)
	for _, err := range s.List(t.Context(), "") {
		assert.ErrorIs(t, err, fault.Unreachable)
	}
	assert.NoDirExists(t, dir)
}

func TestOneOfManyIsFirst(t *testing.T) {
	dir := t.TempDir()
	var first atomic.Int64
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() {
			if _, err := objects.OpenFolder(dir).Put(t.Context(), "lease", []byte("mine"), objects.Absent); err == nil {
				first.Add(1)
			}
		})
	}
	all.Wait()
	assert.Equal(t, int64(1), first.Load())
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, left, 2, "the object and the lock")
}
