package volume_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/volume"
	"jugate/demo/golddisk"
)

// NTFS made longer and as short as it can be, judged by ntfsfix, by mounting it,
// and by filling it up to its new size.
func TestNTFSIsResized(t *testing.T) {
	for _, mkfs := range []string{"mkfs.ntfs -q -F -f", "mkfs.ntfs -q -F -f -c 512", "mkfs.ntfs -q -F -f -c 65536", "mkfs.ntfs -q -F -f -s 4096"} {
		for name, to := range map[string]func(v *volume.Volume) int64{
			"a little longer": func(v *volume.Volume) int64 { return v.Size + 200*512*8 },
			"much longer":     func(*volume.Volume) int64 { return 700 * mib },
			"a bit shorter":   func(v *volume.Volume) int64 { return max((v.Needs+4095)/4096, (v.Size-3*mib)/4096) * 4096 },
			"shortest":        func(v *volume.Volume) int64 { return (v.Needs + 4095) / 4096 * 4096 },
		} {
			t.Run(mkfs+", "+name, func(t *testing.T) {
				t.Parallel()
				path := filepath.Join(t.TempDir(), "volume")
				require.NoError(t, golddisk.BuildVolume(t.Context(), golddisk.VolumeSpec{Path: path, Size: 64 * mib, Mkfs: strings.Fields(mkfs), Data: 20 * mib, Fragmented: true}))
				want, err := golddisk.VolumeFiles(t.Context(), path, "ntfs")
				require.NoError(t, err)
				v, _ := open(t, path)
				size := to(v)
				f, err := os.OpenFile(path, os.O_RDWR, 0)
				require.NoError(t, err)
				defer f.Close()
				require.NoError(t, f.Truncate(size))
				resized, err := volume.Resize(f, v.Size, size)
				require.NoError(t, err)
				assert.Equal(t, size != v.Size, resized)

				require.NoError(t, golddisk.CheckVolume(t.Context(), path, "ntfs"))
				got, err := golddisk.VolumeFiles(t.Context(), path, "ntfs")
				require.NoError(t, err)
				assert.Equal(t, want, got)
				again, _ := open(t, path)
				used, err := again.UsedBytes()
				require.NoError(t, err)
				told, err := golddisk.VolumeUsed(t.Context(), path, "ntfs")
				require.NoError(t, err)
				assert.Equal(t, told, used)
				if size > v.Size {
					require.NoError(t, golddisk.Mounted(t.Context(), path, "ntfs", false, func(dir string) error {
						return os.WriteFile(filepath.Join(dir, "filling"), make([]byte, size-used-2*mib-(size-used)/20), 0o644)
					}), "the new room can be used")
					require.NoError(t, golddisk.CheckVolume(t.Context(), path, "ntfs"))
				}
			})
		}
	}
}

func TestOthersKeepTheirSize(t *testing.T) {
	for _, mkfs := range []string{"mkfs.ext4 -q -F", "mkfs.exfat", "mkfs.vfat"} {
		path := filepath.Join(t.TempDir(), "volume")
		require.NoError(t, golddisk.BuildVolume(t.Context(), golddisk.VolumeSpec{Path: path, Size: 32 * mib, Mkfs: strings.Fields(mkfs)}))
		before, err := os.ReadFile(path)
		require.NoError(t, err)
		f, err := os.OpenFile(path, os.O_RDWR, 0)
		require.NoError(t, err)
		defer f.Close()
		resized, err := volume.Resize(f, 32*mib, 64*mib)
		require.NoError(t, err)
		assert.False(t, resized, mkfs)
		after, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.True(t, string(before) == string(after), mkfs)
	}
}

func TestAPartitionsNewPlaceIsToldToItsBootSector(t *testing.T) {
	for _, mkfs := range []string{"mkfs.ntfs -q -F -f -p 2048", "mkfs.vfat -F 32 -s 1 -h 2048", "mkfs.vfat -F 16 -h 2048"} {
		path := filepath.Join(t.TempDir(), "volume")
		require.NoError(t, golddisk.BuildVolume(t.Context(), golddisk.VolumeSpec{Path: path, Size: 64 * mib, Mkfs: strings.Fields(mkfs)}))
		f, err := os.OpenFile(path, os.O_RDWR, 0)
		require.NoError(t, err)
		defer f.Close()
		require.NoError(t, volume.Relocate(f, 64*mib, 63, 5000), "it was not there, so it is left alone")
		require.NoError(t, volume.Relocate(f, 64*mib, 2048, 4096))
		require.NoError(t, volume.Relocate(f, 64*mib, 2048, 5000))
		b := make([]byte, 4)
		_, err = f.ReadAt(b, 0x1C)
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprint([]byte{0, 16, 0, 0}), fmt.Sprint(b), mkfs)
		tool := strings.TrimPrefix(strings.Fields(mkfs)[0], "mkfs.")
		assert.NoError(t, golddisk.CheckVolume(t.Context(), path, tool), mkfs)
	}
	path := filepath.Join(t.TempDir(), "volume")
	require.NoError(t, golddisk.BuildVolume(t.Context(), golddisk.VolumeSpec{Path: path, Size: 64 * mib, Mkfs: []string{"mkfs.exfat"}}))
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	require.NoError(t, err)
	defer f.Close()
	require.NoError(t, volume.Relocate(f, 64*mib, 0, 4096))
	b := make([]byte, 8)
	_, err = f.ReadAt(b, 64)
	require.NoError(t, err)
	assert.Equal(t, []byte{0, 16, 0, 0, 0, 0, 0, 0}, b)
	assert.NoError(t, golddisk.CheckVolume(t.Context(), path, "exfat"), "with its checksum")
}
