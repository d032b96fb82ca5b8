package backup_test

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"iter"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/backup"
	"jugate/core/fault"
	"jugate/core/objects"
)

var day = time.Date(2026, 11, 29, 2, 0, 0, 0, time.UTC)

// folder has files, by their names.
func folder(t *testing.T, files map[string]string) (all []backup.Source) {
	t.Helper()
	dir := t.TempDir()
	for name, content := range files {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(content), 0o640))
		all = append(all, backup.Source{Path: name, At: path})
	}
	return all
}

func save(t *testing.T, s objects.Store, at time.Time, files map[string]string) backup.Backup {
	t.Helper()
	b, err := backup.Save(t.Context(), s, backup.Backup{Taken: at, Service: "garden"}, folder(t, files))
	require.NoError(t, err)
	return b
}

func restored(t *testing.T, s objects.Store, id string) (map[string]string, error) {
	t.Helper()
	b, err := backup.Find(t.Context(), s, id)
	if err != nil {
		return nil, err
	}
	dir := filepath.Join(t.TempDir(), "jugate")
	if err := backup.Restore(t.Context(), s, b, dir); err != nil {
		assert.NoDirExists(t, dir)
		return nil, err
	}
	files := map[string]string{}
	for _, f := range b.Files {
		content, err := os.ReadFile(filepath.Join(dir, f.Path))
		require.NoError(t, err)
		info, err := os.Stat(filepath.Join(dir, f.Path))
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o640), info.Mode())
		files[f.Path] = string(content)
	}
	return files, nil
}

func TestEachFileIsKeptOnce(t *testing.T) {
	s := objects.OpenFolder(t.TempDir())
	one := map[string]string{"jugate.db": strings.Repeat("records ", 100_000), "drivers/sundial": "a driver", "drivers/copy": "a driver", "empty": ""}
	first := save(t, s, day, one)
	assert.Equal(t, int64(len(one["jugate.db"])+len("a driver")), first.Sent)
	two := map[string]string{"jugate.db": "other records", "drivers/sundial": "a driver"}
	second := save(t, s, day.AddDate(0, 0, 1), two)
	assert.Equal(t, int64(len("other records")), second.Sent)
	assert.Equal(t, []string{first.ID()}, second.Earlier)
	_, err := backup.Save(t.Context(), s, backup.Backup{Taken: day}, nil)
	assert.ErrorIs(t, err, objects.ErrCondition, "what is there stays")

	all, err := backup.List(t.Context(), s)
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, second.ID(), all[0].ID())
	got, err := restored(t, s, first.ID())
	require.NoError(t, err)
	assert.Equal(t, one, got)
	got, err = restored(t, s, "")
	require.NoError(t, err)
	assert.Equal(t, two, got)
	_, err = restored(t, s, "2026-01-01T00-00-00.000Z")
	assert.ErrorIs(t, err, fault.NotFound)
	_, err = backup.Find(t.Context(), objects.OpenFolder(t.TempDir()), "")
	assert.ErrorIs(t, err, fault.NotFound)
	faults, err := backup.Check(t.Context(), s, second)
	require.NoError(t, err)
	assert.Empty(t, faults)
}

// cut fails from its nth write on, or lists nothing of a prefix.
type cut struct {
	objects.Store
	left *int
	hide string
}

var errCut = errors.New("cut")

func (c cut) Put(ctx context.Context, name string, content []byte, when objects.Condition) (string, error) {
	if c.left != nil {
		if *c.left--; *c.left < 0 {
			return "", errCut
		}
	}
	return c.Store.Put(ctx, name, content, when)
}

func (c cut) Write(ctx context.Context, name string, content io.Reader) error {
	if c.left != nil {
		if *c.left--; *c.left < 0 {
			io.CopyN(io.Discard, content, 10)
			return errCut
		}
	}
	return c.Store.Write(ctx, name, content)
}

func (c cut) List(ctx context.Context, prefix string) iter.Seq2[objects.Object, error] {
	return func(yield func(objects.Object, error) bool) {
		for o, err := range c.Store.List(ctx, prefix) {
			if c.hide != "" && strings.Contains(o.Name, c.hide) {
				continue
			}
			if !yield(o, err) {
				return
			}
		}
	}
}

// Wherever it is cut off, there is no backup, and the next one is whole.
func TestABackupThatIsCutOffIsNone(t *testing.T) {
	files := map[string]string{"a": "one", "b": "two", "c": strings.Repeat("three", 1000)}
	for n := range 4 {
		s := objects.OpenFolder(t.TempDir())
		left := n
		_, err := backup.Save(t.Context(), cut{Store: s, left: &left}, backup.Backup{Taken: day}, folder(t, files))
		require.ErrorIs(t, err, errCut)
		_, err = backup.Find(t.Context(), s, "")
		require.ErrorIs(t, err, fault.NotFound)
		save(t, s, day, files)
		got, err := restored(t, s, "")
		require.NoError(t, err)
		assert.Equal(t, files, got)
	}
}

func TestOldBackupsGo(t *testing.T) {
	s := objects.OpenFolder(t.TempDir())
	first := save(t, s, day, map[string]string{"a": "old", "b": "both"})
	second := save(t, s, day.AddDate(0, 0, 1), map[string]string{"a": "middle", "b": "both"})
	third := save(t, s, day.AddDate(0, 0, 2), map[string]string{"a": "new", "b": "other"})
	// A list that lacks the second one makes nothing of it go.
	require.NoError(t, backup.Remove(t.Context(), cut{Store: s, hide: second.ID()}, []backup.Backup{first}, time.Now().Add(48*time.Hour)))
	for id, want := range map[string]map[string]string{second.ID(): {"a": "middle", "b": "both"}, third.ID(): {"a": "new", "b": "other"}} {
		got, err := restored(t, s, id)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	_, err := backup.Find(t.Context(), s, first.ID())
	assert.ErrorIs(t, err, fault.NotFound)
	require.NoError(t, backup.Remove(t.Context(), s, []backup.Backup{second}, time.Now()))
	left := 0
	for range s.List(t.Context(), "backups/files/") {
		left++
	}
	assert.Equal(t, 2, left)
}

// Whatever a list says, nothing is written beside the folder, or as somebody else could.
func TestAListThatReachesBeyond(t *testing.T) {
	s := objects.OpenFolder(t.TempDir())
	b := save(t, s, day, map[string]string{"a": "one"})
	for _, path := range []string{"../a", "/etc/passwd", "", "a/../../b"} {
		bad := b
		bad.Files = []backup.File{b.Files[0]}
		bad.Files[0].Path = path
		text, err := json.Marshal(bad)
		require.NoError(t, err)
		_, err = s.Put(t.Context(), "backups/lists/"+b.ID()+".json", text, objects.Always)
		require.NoError(t, err)
		_, err = restored(t, s, "")
		assert.ErrorIs(t, err, fault.Invalid, path)
	}
	bad := b
	bad.Files = []backup.File{b.Files[0]}
	bad.Files[0].Mode |= os.ModeSetuid
	text, err := json.Marshal(bad)
	require.NoError(t, err)
	_, err = s.Put(t.Context(), "backups/lists/"+b.ID()+".json", text, objects.Always)
	require.NoError(t, err)
	_, err = restored(t, s, "")
	assert.ErrorIs(t, err, fault.Invalid)
}

// A frame that says it is longer than the list says is not read to its end.
func TestAFileThatIsNotWhatTheListSays(t *testing.T) {
	s := objects.OpenFolder(t.TempDir())
	b := save(t, s, day, map[string]string{"a": strings.Repeat("one", 100)})
	other := save(t, s, day.Add(time.Hour), map[string]string{"a": strings.Repeat("two", 1_000_000)})
	long, err := objects.Read(t.Context(), s, "backups/files/"+other.Files[0].Digest.String(), 1<<30)
	require.NoError(t, err)
	_, err = s.Put(t.Context(), "backups/files/"+b.Files[0].Digest.String(), long, objects.Always)
	require.NoError(t, err)
	faults, err := backup.Check(t.Context(), s, b)
	require.NoError(t, err)
	require.Len(t, faults, 1)
	assert.Contains(t, faults[0], "it is damaged: 301 bytes")
	_, err = restored(t, s, b.ID())
	assert.Error(t, err)
}
