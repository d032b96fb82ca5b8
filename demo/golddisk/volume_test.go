package golddisk_test

import (
	"bufio"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/demo/golddisk"
)

// Another program's mount namespace keeps a volume in use for a moment after it was unmounted
// here, and until then its journal is not written back.
func TestAVolumeIsReadWhenNobodyUsesItAnyMore(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("mounting needs root")
	}
	path, elsewhere := filepath.Join(t.TempDir(), "volume"), t.TempDir()
	var other *exec.Cmd
	require.NoError(t, golddisk.BuildVolume(t.Context(), golddisk.VolumeSpec{Path: path, Size: 64 << 20, Mkfs: []string{"mkfs.ext4", "-q"}, Fill: func(dir string) error {
		other = exec.CommandContext(t.Context(), "unshare", "--mount", "sh", "-c",
			fmt.Sprintf("mount --bind %[1]s %[2]s && echo there && while grep -q %[1]s /proc/%[3]d/mountinfo; do :; done", dir, elsewhere, os.Getpid()))
		out, err := other.StdoutPipe()
		if err != nil {
			return err
		}
		if err := other.Start(); err != nil {
			return err
		}
		if _, err := bufio.NewReader(out).ReadString('\n'); err != nil {
			return err
		}
		return os.WriteFile(filepath.Join(dir, "sheet"), []byte("Draba alpina"), 0o644)
	}}))
	content, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.NoError(t, other.Wait())
	captured := filepath.Join(t.TempDir(), "captured")
	require.NoError(t, os.WriteFile(captured, content, 0o600))
	files, err := golddisk.VolumeFiles(t.Context(), captured, "ext4")
	assert.NoError(t, err)
	assert.Len(t, files, 1)
}
