package agent

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"jugate/core/disk"
	"jugate/core/volume"
	"jugate/demo/golddisk"
)

func mayUseResources(t *testing.T) bool {
	var data [2]unix.CapUserData
	require.NoError(t, unix.Capget(&unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}, &data[0]))
	return data[0].Effective&(1<<unix.CAP_SYS_RESOURCE) != 0
}

func TestFileSystemsGrowWithTheirPartition(t *testing.T) {
	for name, fs := range map[string]struct {
		mkfs  string
		check string
		grows bool
	}{
		"ext4":  {"mkfs.ext4 -q -F", "e2fsck -fn", true},
		"XFS":   {"mkfs.xfs -q -f", "xfs_repair -n", true},
		"btrfs": {"mkfs.btrfs -q -f", "btrfs check --readonly", true},
	} {
		t.Run(name, func(t *testing.T) {
			path := filepath.Join(t.TempDir(), "disk")
			const before, after = 320 * mib, 700 * mib
			vol := filepath.Join(t.TempDir(), "volume")
			require.NoError(t, golddisk.BuildVolume(t.Context(), golddisk.VolumeSpec{Path: vol, Size: before, Mkfs: strings.Fields(fs.mkfs),
				Fill: func(dir string) error { return os.WriteFile(filepath.Join(dir, "seeds.txt"), []byte("poppy\n"), 0o644) }}))
			require.NoError(t, golddisk.Blank(path, after+2*mib))
			require.NoError(t, golddisk.Put(path, mib, vol))
			d, err := disk.Open(path, disk.Options{Write: true})
			require.NoError(t, err)
			defer d.Close()

			was, err := hardwareDisk{d}.Grow(mib, after)
			if name == "ext4" && errors.Is(err, unix.EPERM) && !mayUseResources(t) {
				t.Skip("the kernel grows ext4 for processes with CAP_SYS_RESOURCE alone, which this one lacks; `make lab` tests it")
			}
			require.NoError(t, err)
			v, err := volume.Open(volumeAt{d, mib}, after)
			require.NoError(t, err)
			if fs.grows {
				assert.InDelta(t, before, was, slack)
				assert.InDelta(t, after, v.Needs, slack)
			} else {
				assert.Zero(t, was)
			}
			again, err := hardwareDisk{d}.Grow(mib, after)
			require.NoError(t, err)
			assert.Zero(t, again, "it fills its partition")

			whole := filepath.Join(t.TempDir(), "grown")
			require.NoError(t, exec.CommandContext(t.Context(), "dd", "if="+path, "of="+whole, "bs=1M", "skip=1", "count=700", "conv=sparse", "status=none").Run())
			words := strings.Fields(fs.check)
			out, err := exec.CommandContext(t.Context(), words[0], append(words[1:], whole)...).CombinedOutput()
			assert.NoError(t, err, "%s", out)
		})
	}
}
