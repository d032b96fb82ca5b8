package agent

import (
	"bytes"
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"jugate/core/volume"
	"jugate/demo/golddisk"
)

// cancels ends something once a word is written to it.
type cancels struct {
	said bytes.Buffer
	word string
	end  context.CancelFunc
}

func (c *cancels) Write(b []byte) (int, error) {
	n, err := c.said.Write(b)
	if strings.Contains(c.said.String(), c.word) {
		c.end()
	}
	return n, err
}

// A command runs within the system on a disk, changes that, and leaves nothing running: neither when it ends nor when it is ended.
func TestCommandsRunWithinTheSystem(t *testing.T) {
	path := filepath.Join(t.TempDir(), "disk")
	require.NoError(t, golddisk.BuildVolume(t.Context(), golddisk.VolumeSpec{Path: path, Size: 32 * mib, Mkfs: []string{"mkfs.ext4", "-q", "-F"},
		Fill: func(dir string) error {
			for _, link := range []string{"lib", "lib64", "bin"} { // as systems have it now
				if err := os.Symlink("usr/"+link, filepath.Join(dir, link)); err != nil {
					return err
				}
			}
			bring(t, dir, "/bin/sh", "/usr/bin/env", "/usr/bin/sleep", "/usr/bin/seq", "/usr/bin/touch")
			return errors.Join(os.Mkdir(filepath.Join(dir, "proc"), 0o755), os.Mkdir(filepath.Join(dir, "etc"), 0o755),
				os.Mkdir(filepath.Join(dir, "dev"), 0o755), os.WriteFile(filepath.Join(dir, "dev/null"), nil, 0o644)) // which what runs beside a shell reads from
		}}))
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	require.NoError(t, err)
	defer f.Close()
	run := func(ctx context.Context, out interface{ Write([]byte) (int, error) }, script string) error {
		system, err := MountForWriting(f, 0, &volume.Volume{Kind: volume.Ext, Size: 32 * mib})
		require.NoError(t, err)
		require.True(t, hasShell(system))
		err = system.(Commander).Run(ctx, Program{Argv: []string{"sh", "-c", script}, Env: []string{"JUGATE_WORKSTATION=herb-01"}, Out: out})
		dir := system.(systemMount).dir
		require.NoError(t, system.Close(), "nothing has a file of it open")
		assert.NoDirExists(t, dir)
		return err
	}

	var out bytes.Buffer
	require.NoError(t, run(t.Context(), &out, "touch /etc/ready; echo ready for $JUGATE_WORKSTATION; sleep 1000 & echo and gone"))
	assert.Equal(t, "ready for herb-01\nand gone\n", out.String())
	files, err := mountAs(f, 0, 32*mib, "ext4", "", false)
	require.NoError(t, err)
	_, err = fs.Stat(files, "etc/ready")
	assert.NoError(t, err)
	require.NoError(t, files.Close())

	assert.ErrorIs(t, run(t.Context(), &out, "exit 3"), ExitStatus(3))
	assert.ErrorIs(t, run(t.Context(), &out, "there-is-no-such-program"), ExitStatus(127))
	long := &tail{most: 100}
	require.NoError(t, run(t.Context(), long, "seq 1 1000"))
	assert.True(t, strings.HasSuffix(string(long.kept), "999\n1000\n"))
	assert.EqualValues(t, 3893, int64(len(long.kept))+long.dropped)
	assert.Len(t, long.kept, 100)

	ctx, cancel := context.WithCancel(t.Context())
	waits := &cancels{word: "begun", end: cancel}
	assert.ErrorIs(t, run(ctx, waits, "sleep 1000 & echo begun; sleep 1000"), ExitStatus(128+int(unix.SIGKILL)))
}

// The boot environment has a shell, or says how it gets one.
func TestCommandsRunInTheBootEnvironment(t *testing.T) {
	var out bytes.Buffer
	require.NoError(t, Hardware{}.Run(t.Context(), Program{Argv: []string{"sh", "-c", "echo $$ on $JUGATE_WORKSTATION"}, Env: []string{"JUGATE_WORKSTATION=herb-01"}, Out: &out}))
	assert.Equal(t, "1 on herb-01\n", out.String(), "it is the first process of its own")
	assert.Equal(t, ExitStatus(2), Hardware{}.Run(t.Context(), Program{Argv: []string{"sh", "-c", "exit 2"}, Out: &out}))
	assert.Error(t, Hardware{}.Run(t.Context(), Program{Argv: []string{"there-is-no-such-program"}, Out: &out}))
}
