package durable_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/durable"
)

func names(t *testing.T, dir string) (all []string) {
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, e := range entries {
		all = append(all, e.Name())
	}
	return all
}

func TestAFileIsThereWholeOrNotAtAll(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "service.pem")
	require.NoError(t, durable.Write(path, []byte("old"), 0o600))
	f, err := durable.Create(path, 0o640)
	require.NoError(t, err)
	_, err = f.Write([]byte("new, half wri"))
	require.NoError(t, err)
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "old", string(b))

	t.Log("# killed here: the next start removes the rest")
	require.NoError(t, durable.Sweep(dir))
	assert.Equal(t, []string{"service.pem"}, names(t, dir))
	f.Drop()

	t.Log("# kept, it replaces, and has the mode that was asked for")
	f, err = durable.Create(path, 0o640)
	require.NoError(t, err)
	defer f.Drop()
	_, err = f.Write([]byte("new"))
	require.NoError(t, err)
	require.NoError(t, f.Keep())
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o640), info.Mode().Perm())
	assert.Equal(t, []string{"service.pem"}, names(t, dir))
}

func TestATakenNameStays(t *testing.T) {
	path := filepath.Join(t.TempDir(), "gold.jugate")
	require.NoError(t, durable.Write(path, []byte("the engineer's"), 0o644))
	f, err := durable.Create(path, 0o644)
	require.NoError(t, err)
	require.ErrorIs(t, f.KeepNew(), fs.ErrExist)
	f.Drop()
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "the engineer's", string(b))
	assert.Len(t, names(t, filepath.Dir(path)), 1)
}

func TestFolders(t *testing.T) {
	dir := t.TempDir()
	to := filepath.Join(dir, "3")
	for _, content := range []string{"one", "two"} {
		f, err := durable.CreateFolder(dir)
		require.NoError(t, err)
		require.NoError(t, durable.Write(filepath.Join(f.Path, "manifest.json"), []byte(content), 0o644))
		require.NoError(t, f.Keep(to))
		f.Drop()
		b, err := os.ReadFile(filepath.Join(to, "manifest.json"))
		require.NoError(t, err)
		assert.Equal(t, content, string(b))
	}
	left, err := durable.CreateFolder(dir)
	require.NoError(t, err)
	left.Drop()
	assert.Equal(t, []string{"3"}, names(t, dir))
	assert.NoError(t, durable.Sweep(filepath.Join(dir, "nothing")))
}
