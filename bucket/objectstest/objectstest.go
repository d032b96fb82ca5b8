// Package objectstest tries what every store of objects has to do.
package objectstest

import (
	"bytes"
	"io"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/fault"
	"jugate/core/objects"
)

// names are those of the objects under a prefix.
func names(t *testing.T, s objects.Store, prefix string) (all []string) {
	t.Helper()
	for o, err := range s.List(t.Context(), prefix) {
		require.NoError(t, err)
		all = append(all, o.Name)
	}
	return all
}

// Try tries a store that is empty.
func Try(t *testing.T, s objects.Store) {
	ctx := t.Context()
	read := func(name string, from, length int64) string {
		r, err := s.Open(ctx, name, from, length)
		require.NoError(t, err)
		defer r.Close()
		b, err := io.ReadAll(r)
		require.NoError(t, err)
		return string(b)
	}

	tag, err := s.Put(ctx, "a/one", []byte("Draba"), objects.Absent)
	require.NoError(t, err)
	_, err = s.Put(ctx, "a/one", []byte("other"), objects.Absent)
	assert.ErrorIs(t, err, objects.ErrCondition)
	assert.ErrorIs(t, err, fault.Conflict)
	second, err := s.Put(ctx, "a/one", []byte("Draba alpina"), objects.Condition(tag))
	require.NoError(t, err)
	assert.NotEqual(t, tag, second)
	_, err = s.Put(ctx, "a/one", []byte("third"), objects.Condition(tag))
	assert.ErrorIs(t, err, objects.ErrCondition)
	_, err = s.Put(ctx, "a/none", []byte("third"), objects.Condition(tag))
	assert.ErrorIs(t, err, objects.ErrCondition)
	told, err := s.Stat(ctx, "a/one")
	require.NoError(t, err)
	assert.Equal(t, int64(12), told.Size)
	assert.Equal(t, second, told.Tag)

	assert.Equal(t, "Draba alpina", read("a/one", 0, -1))
	assert.Equal(t, "alpina", read("a/one", 6, -1))
	assert.Equal(t, "alp", read("a/one", 6, 3))
	assert.Equal(t, "alpina", read("a/one", 6, 100))
	assert.Empty(t, read("a/one", 100, 3))
	assert.Empty(t, read("a/one", 0, 0))
	_, err = objects.Read(ctx, s, "a/one", 11)
	assert.ErrorIs(t, err, fault.TooLarge)
	_, err = s.Open(ctx, "a/none", 0, -1)
	assert.ErrorIs(t, err, objects.ErrNotFound)
	_, err = s.Stat(ctx, "a/none")
	assert.ErrorIs(t, err, objects.ErrNotFound)

	large := make([]byte, 20<<20+7) // in several parts, where there are such
	r := rand.NewChaCha8([32]byte{1})
	r.Read(large)
	require.NoError(t, s.Write(ctx, "b/large", bytes.NewReader(large)))
	got, err := objects.Read(ctx, s, "b/large", 1<<30)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(large, got))
	_, err = s.Put(ctx, "b/empty", nil, objects.Always)
	require.NoError(t, err)
	assert.Empty(t, read("b/empty", 0, -1))

	assert.Equal(t, []string{"a/one", "b/empty", "b/large"}, names(t, s, ""))
	assert.Equal(t, []string{"b/empty", "b/large"}, names(t, s, "b/"))
	assert.Equal(t, []string{"b/large"}, names(t, s, "b/l"))
	assert.Empty(t, names(t, s, "c/"))
	within := objects.Within(s, "b/")
	assert.Equal(t, []string{"empty", "large"}, names(t, within, ""))
	told, err = within.Stat(ctx, "large")
	require.NoError(t, err)
	assert.Equal(t, int64(len(large)), told.Size)

	require.NoError(t, s.Remove(ctx, "b/large"))
	require.NoError(t, s.Remove(ctx, "b/large"))
	assert.Equal(t, []string{"b/empty"}, names(t, s, "b/"))
	for _, name := range []string{"", "/a", "a//b", "../a", "a/../b", "a/.b", "a\x00", strings.Repeat("a", 600)} {
		_, err := s.Put(ctx, name, nil, objects.Always)
		assert.ErrorIs(t, err, objects.ErrName, "%q", name)
	}
}
