package disk_test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/disk"
)

func fill(t *testing.T, size int) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "disk")
	require.NoError(t, os.WriteFile(path, bytes.Repeat([]byte{7}, size), 0o600))
	return path
}

// loop makes a block device of a file.
func loop(t *testing.T, path string, argv ...string) string {
	t.Helper()
	out, err := exec.Command("losetup", append(argv, "--find", "--show", path)...).CombinedOutput()
	require.NoError(t, err, string(out))
	name := strings.TrimSpace(string(out))
	t.Cleanup(func() { exec.Command("losetup", "-d", name).Run() })
	return name
}

func TestFilesAndDevicesBehaveAlike(t *testing.T) {
	const size = 4 << 20
	for name, open := range map[string]func(t *testing.T) string{
		"file":         func(t *testing.T) string { return fill(t, size) },
		"block device": func(t *testing.T) string { return loop(t, fill(t, size)) },
	} {
		t.Run(name, func(t *testing.T) {
			d, err := disk.Open(open(t), disk.Options{Write: true})
			require.NoError(t, err)
			defer d.Close()
			assert.EqualValues(t, size, d.Size())
			assert.Equal(t, 512, d.SectorSize())

			require.NoError(t, d.Zero(1<<20, 1<<20))
			require.NoError(t, d.Trim(3<<20, 1<<20))
			_, err = d.WriteAt([]byte("leaf"), size-4)
			require.NoError(t, err)
			_, err = d.WriteAt([]byte("leaf"), size-3)
			assert.Error(t, err, "a disk does not grow")
			assert.Error(t, d.Zero(size-1, 2))
			assert.Error(t, d.Trim(-1, 2))
			require.NoError(t, d.Sync())

			b := make([]byte, size)
			_, err = d.ReadAt(b, 0)
			require.NoError(t, err)
			assert.Equal(t, bytes.Repeat([]byte{7}, 1<<20), b[:1<<20])
			assert.Equal(t, make([]byte, 1<<20), b[1<<20:2<<20])
			assert.Equal(t, bytes.Repeat([]byte{7}, 1<<20), b[2<<20:3<<20])
			assert.Equal(t, "leaf", string(b[size-4:]))
		})
	}
}

func TestADeviceKnowsItsSectorsAndIsOpenedOnce(t *testing.T) {
	name := loop(t, fill(t, 1<<20), "--sector-size", "4096")
	d, err := disk.Open(name, disk.Options{Write: true, SectorSize: 512})
	require.NoError(t, err)
	defer d.Close()
	assert.Equal(t, 4096, d.SectorSize())
	_, err = disk.Open(name, disk.Options{Write: true})
	assert.ErrorContains(t, err, "in use")
	again, err := disk.Open(name, disk.Options{})
	require.NoError(t, err, "reading is always possible")
	assert.NoError(t, again.Close())
	_, err = disk.Open(filepath.Join(t.TempDir(), "none"), disk.Options{})
	assert.ErrorIs(t, err, os.ErrNotExist)
}
