package objects_test

import (
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

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

// What a kill has left goes once it is old: somebody else may be writing now.
func TestWhatACutHasLeftGoes(t *testing.T) {
	dir := t.TempDir()
	old, young := filepath.Join(dir, ".new-1"), filepath.Join(dir, ".new-2")
	for _, path := range []string{old, young} {
		require.NoError(t, os.WriteFile(path, nil, 0o600))
	}
	past := time.Now().Add(-48 * time.Hour)
	require.NoError(t, os.Chtimes(old, past, past))
	_, err := objects.OpenFolder(dir).Put(t.Context(), "a", nil, objects.Always)
	require.NoError(t, err)
	assert.NoFileExists(t, old)
	assert.FileExists(t, young)
}
