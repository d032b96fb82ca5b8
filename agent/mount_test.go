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
	"golang.org/x/sys/unix"

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

// A program that was being started just then had a file of the volume for a moment longer: the
// copy is right, and nothing has failed.
func TestAVolumeInUseForAMomentIsUnmountedAllTheSame(t *testing.T) {
	path := filepath.Join(t.TempDir(), "disk")
	require.NoError(t, golddisk.BuildVolume(t.Context(), golddisk.VolumeSpec{Path: path, Size: 16 * mib, Mkfs: []string{"mkfs.ext4", "-q", "-F"},
		Fill: func(dir string) error { return os.WriteFile(filepath.Join(dir, "held"), nil, 0o644) }}))
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	require.NoError(t, err)
	defer f.Close()
	m, err := mountAs(f, 0, 16*mib, "ext4", "", true)
	require.NoError(t, err)
	inUse, err := m.root.Open("held")
	require.NoError(t, err)
	require.NoError(t, m.root.Close())

	assert.ErrorIs(t, unmount(m.dir, func(tried int) bool { return tried < 3 }), unix.EBUSY, "who has it does not let go")
	tries := 0
	require.NoError(t, unmount(m.dir, func(tried int) bool {
		tries = tried
		return assert.NoError(t, inUse.Close())
	}))
	assert.Equal(t, 1, tries)
	assert.NoDirExists(t, m.dir)
}

type volumeAt struct {
	d     *disk.Disk
	start int64
}

func (v volumeAt) ReadAt(b []byte, off int64) (int, error) { return v.d.ReadAt(b, v.start+off) }
