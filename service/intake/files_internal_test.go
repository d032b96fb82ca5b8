package intake

import (
	"errors"
	"io/fs"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
)

// broken has a folder that cannot be read.
type broken struct {
	fstest.MapFS
	folder string
}

func (b broken) ReadDir(name string) ([]fs.DirEntry, error) {
	if name == b.folder {
		return nil, errors.New("its index is damaged")
	}
	return b.MapFS.ReadDir(name)
}

// What is in a folder that one version does not show has neither come nor gone.
func TestAFolderThatCannotBeReadIsNotTakenForEmpty(t *testing.T) {
	file := func(text string) *fstest.MapFile { return &fstest.MapFile{Data: []byte(text)} }
	before := fstest.MapFS{"etc/motd": file("welcome"), "var/log/a": file("1"), "var/log/deep/b": file("2"), "var/c": file("3")}
	after := broken{fstest.MapFS{"etc/motd": file("goodbye"), "var/log/a": file("1"), "var/log/deep/b": file("9"), "var/d": file("4")}, "var/log"}
	out := api.FilesCompared{}
	require.NoError(t, compare(t.Context(), before, after, &out))
	assert.Equal(t, []api.FileDifference{
		{Path: "etc/motd", Change: "changed", Before: 7, After: 7}, {Path: "var/c", Change: "removed", Before: 1}, {Path: "var/d", Change: "added", After: 1},
	}, out.Files)
	assert.Equal(t, 1, out.Unread)
	out = api.FilesCompared{}
	require.NoError(t, compare(t.Context(), before, broken{after.MapFS, "."}, &out))
	assert.Empty(t, out.Files)
	assert.Equal(t, 1, out.Unread)
}
