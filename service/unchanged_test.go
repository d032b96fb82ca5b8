package service_test

import (
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/demo/golddisk"
)

func TestACaptureOfWhatIsThereAlreadyMakesNoVersion(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	h.start(1, gold(t).Path, 0, "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	again := h.capture("desk-gold", "garden-desk")
	assert.EqualValues(t, "done", again.State)
	assert.Equal(t, 1, again.Version)
	assert.Equal(t, []string{"nothing has changed since garden-desk@1, so no version was made"}, again.Result)

	t.Log("# unless it is asked for, or the version is not in use any more")
	e, err := h.client.Capture(t.Context(), api.NewCapture{Workstation: "desk-gold", Image: "garden-desk", CaptureOptions: api.CaptureOptions{KeepEqual: true}})
	require.NoError(t, err)
	h.eventually(func() bool { e, err = h.client.Errand(t.Context(), e.ID); return err == nil && e.Ended != nil })
	assert.Equal(t, 2, e.Version)
	_, err = h.client.RetireVersion(t.Context(), "garden-desk@2")
	require.NoError(t, err)
	assert.Equal(t, 3, h.capture("desk-gold", "garden-desk").Version)
}

func TestADiskOfAnotherLayoutIsNotTheNextVersion(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	h.start(1, gold(t).Path, 0, "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	other := filepath.Join(t.TempDir(), "other")
	require.NoError(t, golddisk.Blank(other, 64*golddisk.MiB))
	require.NoError(t, golddisk.Partition(t.Context(), other, 512, "label: dos\nstart=2048, size=65536, type=83, bootable\n"))
	out, err := exec.CommandContext(t.Context(), "mkfs.ext4", "-q", "-F", "-E", "offset=1048576", other, "32m").CombinedOutput()
	require.NoError(t, err, "%s", out)
	h.start(2, other, 0, "desk-other")
	e := h.capture("desk-other", "garden-desk")
	assert.EqualValues(t, "failed", e.State)
	assert.Contains(t, e.Error, "it has an MBR with ext4, started by BIOS, and garden-desk@1 has a GPT with fat12, ext4, started by UEFI")
	e, err = h.client.Capture(t.Context(), api.NewCapture{Workstation: "desk-other", Image: "garden-desk", CaptureOptions: api.CaptureOptions{Despite: "the room was rebuilt"}})
	require.NoError(t, err)
	h.eventually(func() bool { e, err = h.client.Errand(t.Context(), e.ID); return err == nil && e.Ended != nil })
	assert.EqualValues(t, "done", e.State, e.Error)
	v, err := h.client.Version(t.Context(), "garden-desk@2")
	require.NoError(t, err)
	assert.Equal(t, "an MBR with ext4, started by BIOS", v.Layout)
	assert.Equal(t, "the room was rebuilt", v.Despite)
}
