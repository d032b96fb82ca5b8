package service_test

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/apiclient"
)

// The files of a version are seen without bringing it to a machine. The disks are mkfs.ext4's.
func TestTheFilesOfAVersion(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	h.start(1, linuxDisk(t, "etc/motd", "welcome", "etc/old", "gone soon"), 0, "desk-gold")
	h.start(2, linuxDisk(t, "etc/motd", "goodbye", "etc/new file \"ü\"", "here", "etc/hosts", "127.0.1.1 desk-gold longer\n"), 0, "desk-gold-2")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	require.EqualValues(t, "done", h.capture("desk-gold-2", "garden-desk").State)
	const partition = 1
	root, err := h.client.Files(ctx, "garden-desk@1", partition, "")
	require.NoError(t, err)
	names := map[string]api.ImageFile{}
	for _, f := range root.Items {
		names[f.Name] = f
	}
	assert.Equal(t, api.ImageFile{Name: "etc", Path: "etc", Kind: "folder"}, names["etc"])
	etc, err := h.client.Files(ctx, "garden-desk@1", partition, "/etc/")
	require.NoError(t, err)
	assert.Equal(t, "folder", etc.Items[0].Kind, "folders come first")
	assert.Contains(t, etc.Items, api.ImageFile{Name: "motd", Path: "etc/motd", Kind: "file", Size: 7})

	var text bytes.Buffer
	require.NoError(t, h.client.File(ctx, "garden-desk@1", partition, "etc/motd", &text))
	assert.Equal(t, "welcome", text.String())

	t.Log("# which files differ, those of one size too")
	found, err := h.client.CompareFiles(ctx, "garden-desk@1", "garden-desk@2", partition)
	require.NoError(t, err)
	assert.Equal(t, []api.FileDifference{
		{Path: "etc/hosts", Change: "changed", Before: 20, After: 27}, {Path: "etc/motd", Change: "changed", Before: 7, After: 7},
		{Path: "etc/new file \"ü\"", Change: "added", After: 4}, {Path: "etc/old", Change: "removed", Before: 9},
	}, found.Files)
	assert.Equal(t, 4, found.Different)
	assert.Zero(t, found.Unread)
	require.NoError(t, h.client.File(ctx, "garden-desk@2", partition, "etc/new file \"ü\"", &text))

	t.Log("# what is not there, or leads out, is refused in words")
	_, err = h.client.Files(ctx, "garden-desk@1", partition, "etc/nowhere")
	assert.True(t, apiclient.IsNotFound(err), "%v", err)
	_, err = h.client.Files(ctx, "garden-desk@1", 7, "")
	assert.True(t, apiclient.IsNotFound(err), "%v", err)
	for _, path := range []string{"../../etc/passwd", "etc/../../x", "a//b", ""} {
		assert.Error(t, h.client.File(ctx, "garden-desk@1", partition, path, &text), path)
	}
	assert.True(t, apiclient.IsInvalid(h.client.File(ctx, "garden-desk@1", partition, "etc", &text)), "a folder is not a file")

	t.Log("# who looks on sees names, and gets no file")
	wren := h.person("wren", everything("reader"))
	_, err = wren.Files(ctx, "garden-desk@1", partition, "etc")
	require.NoError(t, err)
	assert.ErrorContains(t, wren.File(ctx, "garden-desk@1", partition, "etc/shadow", &text), "keep")
}
