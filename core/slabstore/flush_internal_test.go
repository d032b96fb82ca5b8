package slabstore

import (
	"errors"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFlushForgetsNoFolder(t *testing.T) {
	store, err := Open(t.TempDir())
	require.NoError(t, err)
	for i := range 20 {
		plain := []byte{byte(i)}
		_, err := store.Put(Sum(plain), Compress(nil, plain))
		require.NoError(t, err)
	}
	marked := len(store.dirty)
	require.Greater(t, marked, 5)
	defer func(f func(string) error) { syncDir = f }(syncDir)
	calls := 0
	syncDir = func(string) error {
		calls++
		return errors.New("the disk is gone")
	}
	require.Error(t, store.Flush())
	assert.Equal(t, marked, calls, "one that fails keeps none from being tried")
	assert.Len(t, store.dirty, marked, "and all are tried again")
	syncDir = func(string) error { return nil }
	require.NoError(t, store.Flush())
	assert.Empty(t, store.dirty)
}

func TestAFlushBesideAnotherWaitsForIt(t *testing.T) {
	store := &Store{dir: "slabs", dirty: map[string]bool{"slabs/ab": true}}
	defer func(f func(string) error) { syncDir = f }(syncDir)
	began, goOn := make(chan bool), make(chan bool)
	syncDir = func(string) error {
		close(began)
		<-goOn
		return nil
	}
	var first sync.WaitGroup
	first.Go(func() { assert.NoError(t, store.Flush()) })
	<-began
	assert.False(t, store.flushing.TryLock(), "a second one cannot pass")
	close(goOn)
	first.Wait()
	assert.NoError(t, store.Flush())
}
