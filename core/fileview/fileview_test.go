package fileview_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/fileview"
	"jugate/core/volume"
	"jugate/demo/golddisk"
)

func TestFilesAreSeenWithoutMounting(t *testing.T) {
	label := strings.Repeat("pressed leaf\n", 20_000)
	for _, mkfs := range []string{"mkfs.ext4 -q -F", "mkfs.ext4 -q -F -O bigalloc -C 65536", "mkfs.ntfs -q -F -f", "mkfs.ntfs -q -F -f -c 65536",
		"mkfs.ext4 -q -F -I 128", "mkfs.ext2 -q -F", "mkfs.ext3 -q -F", "mkfs.ext2 -q -F -b 1024 -I 128", "mkfs.ext4 -q -F -O ^metadata_csum", "mkfs.ext4 -q -F -O meta_bg,^resize_inode -b 1024", "mkfs.ext4 -q -F -O inline_data", "mkfs.ext4 -q -F -O ^64bit,^extents",
		"mkfs.ext4 -q -F -O ^dir_index", "mkfs.ntfs -q -F -f -c 131072", "mkfs.ntfs -q -F -f -c 1048576"} {
		t.Run(mkfs, func(t *testing.T) {
			path := filepath.Join(t.TempDir(), "volume")
			require.NoError(t, golddisk.BuildVolume(t.Context(), golddisk.VolumeSpec{Path: path, Size: 64 << 20, Mkfs: strings.Fields(mkfs),
				Fill: func(dir string) error {
					if err := os.MkdirAll(filepath.Join(dir, "etc", "ssh"), 0o755); err != nil {
						return err
					}
					for i := range 80 {
						if err := os.WriteFile(filepath.Join(dir, "etc", "ssh", "key-"+strings.Repeat("x", i)), []byte("short"), 0o644); err != nil {
							return err
						}
					}
					if err := os.WriteFile(filepath.Join(dir, "etc", "small"), []byte("a few words that fit into an inode, and some more that do not quite"), 0o644); err != nil {
						return err
					}
					return os.WriteFile(filepath.Join(dir, "etc", "label"), []byte(label), 0o644)
				}}))
			files := view(t, path)
			got, err := fs.ReadFile(files, "etc/label")
			require.NoError(t, err)
			assert.Equal(t, label, string(got))
			f, err := files.Open("etc/label")
			require.NoError(t, err)
			assert.NoError(t, iotest.TestReader(f, []byte(label)), "any part of it, too")
			got, err = fs.ReadFile(files, "etc/small")
			require.NoError(t, err)
			assert.Equal(t, "a few words that fit into an inode, and some more that do not quite", string(got))
			names, err := fs.Glob(files, "etc/ssh/key-*")
			require.NoError(t, err)
			assert.Len(t, names, 80)
			_, err = fs.Stat(files, "etc/none")
			assert.Error(t, err)
			info, err := fs.Stat(files, "etc")
			require.NoError(t, err)
			assert.True(t, info.IsDir())
		})
	}
}

func TestFilesOfFAT32WithOneTableAndWithTwo(t *testing.T) {
	text := strings.Repeat("pressed leaf\n", 20_000)
	for _, tables := range []string{"1", "2"} {
		t.Run(tables, func(t *testing.T) {
			dir := t.TempDir()
			path, file := filepath.Join(dir, "volume"), filepath.Join(dir, "label")
			require.NoError(t, golddisk.Blank(path, 64<<20))
			require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
			for _, argv := range [][]string{{"mkfs.vfat", "-F", "32", "-s", "1", "-f", tables, path}, {"mmd", "-i", path, "::etc"}, {"mcopy", "-i", path, file, "::etc/label"}} {
				_, err := golddisk.Run(t.Context(), argv...)
				require.NoError(t, err)
			}
			files := view(t, path)
			got, err := fs.ReadFile(files, "etc/label")
			require.NoError(t, err)
			assert.Equal(t, text, string(got))
		})
	}
}

func view(t *testing.T, path string) fs.FS {
	t.Helper()
	f, err := os.Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	info, err := f.Stat()
	require.NoError(t, err)
	v, err := volume.Open(f, info.Size())
	require.NoError(t, err)
	files, err := fileview.Open(f, info.Size(), v.Kind)
	require.NoError(t, err)
	return files
}

func TestKindsWithoutAReaderSaySo(t *testing.T) {
	_, err := fileview.Open(strings.NewReader(""), 0, volume.XFS)
	assert.ErrorIs(t, err, fileview.ErrNoView)
}

func TestABrokenVolumeIsAnErrorAndNoPanic(t *testing.T) {
	noise := strings.Repeat("no file system here ", 10_000)
	for _, kind := range []volume.Kind{volume.Ext, volume.NTFS, volume.FAT12, volume.FAT16, volume.FAT32} {
		_, err := fileview.Open(strings.NewReader(noise), int64(len(noise)), kind)
		assert.Error(t, err, kind)
	}
}
