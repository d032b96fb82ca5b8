package agent

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"jugate/core/capture"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/disk"
	"jugate/core/volume"
	"jugate/demo/golddisk"
)

const mib = 1 << 20

// The kernel shows what the agent's own readers cannot, and lets go of the disk.
func TestTheKernelShowsVolumes(t *testing.T) {
	path := filepath.Join(t.TempDir(), "disk")
	require.NoError(t, golddisk.Blank(path, 700*mib))
	require.NoError(t, golddisk.Partition(t.Context(), path, 512, "label: gpt\nstart=1M, size=310M, type=linux\nsize=200M, type=linux\nsize=64M, type=linux\n"))
	for i, mkfs := range []string{"mkfs.xfs -q -f", "mkfs.btrfs -q -f", "mkfs.ntfs -q -F -f"} {
		vol := filepath.Join(t.TempDir(), "volume")
		require.NoError(t, golddisk.BuildVolume(t.Context(), golddisk.VolumeSpec{Path: vol, Size: []int64{310, 200, 64}[i] * mib, Mkfs: strings.Fields(mkfs),
			Fill: func(dir string) error {
				if err := os.Mkdir(filepath.Join(dir, "etc"), 0o755); err != nil {
					return err
				}
				if err := os.Symlink("/etc/passwd", filepath.Join(dir, "etc", "out")); err != nil {
					return err
				}
				return os.WriteFile(filepath.Join(dir, "etc", "machine-id"), []byte("7f3a\n"), 0o644)
			}}))
		require.NoError(t, golddisk.Put(path, []int64{1, 311, 511}[i]*mib, vol))
	}
	d, err := disk.Open(path, disk.Options{})
	require.NoError(t, err)
	defer d.Close()
	real := hardwareDisk{d}

	v, err := volume.Open(volumeAt{d, mib}, 310*mib)
	require.NoError(t, err)
	files, err := real.Files(mib, v)
	require.NoError(t, err)
	text, err := fs.ReadFile(files, "etc/machine-id")
	require.NoError(t, err)
	assert.Equal(t, "7f3a\n", string(text))
	_, err = fs.ReadFile(files, "etc/out")
	assert.Error(t, err, "no link leads out of the volume")
	dir := files.(*mounted).dir
	require.NoError(t, files.(*mounted).Close())
	assert.NoDirExists(t, dir)

	s, err := capture.Look(d, d.Size(), 512, capture.LookOptions{Files: real.Files})
	require.NoError(t, err)
	found := map[string]bool{}
	for _, f := range s.Findings {
		found[f.Code+" in "+f.Where] = true
	}
	for _, where := range []string{"partition 1", "partition 2", "partition 3"} {
		assert.True(t, found["machine-id in "+where], "%v", found)
	}
	left, err := filepath.Glob(filepath.Join(os.TempDir(), "volume*", "etc"))
	require.NoError(t, err)
	assert.Empty(t, left, "nothing stays mounted")
}

type volumeAt struct {
	d     *disk.Disk
	start int64
}

func (v volumeAt) ReadAt(b []byte, off int64) (int, error) { return v.d.ReadAt(b, v.start+off) }
