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

const mib = golddisk.MiB

// open opens the volume in a file.
func open(t *testing.T, path string) (*volume.Volume, *os.File) {
	t.Helper()
	f, err := os.Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	info, err := f.Stat()
	require.NoError(t, err)
	v, err := volume.Open(f, info.Size())
	require.NoError(t, err)
	return v, f
}

// shapes are volumes made with the real tools in many ways. slack is how many
// bytes more than the tool counts may be called used.
var shapes = []struct {
	name  string
	kind  volume.Kind
	mkfs  string
	size  int64
	data  int64
	mixed bool
	slack int64
}{
	{"ntfs", volume.NTFS, "mkfs.ntfs -q -F -f -L desk", 64 * mib, 20 * mib, true, 4096},
	{"ntfs empty", volume.NTFS, "mkfs.ntfs -q -F -f", 40*mib + 3*512, 0, false, 4096},
	{"ntfs 512", volume.NTFS, "mkfs.ntfs -q -F -f -c 512", 32 * mib, 8 * mib, true, 1024},
	{"ntfs 1 KiB nearly full", volume.NTFS, "mkfs.ntfs -q -F -f -c 1024", 40 * mib, 33 * mib, false, 1024},
	{"ntfs 64 KiB", volume.NTFS, "mkfs.ntfs -q -F -f -c 65536", 100 * mib, 30 * mib, true, 65536},
	{"ntfs 2 MiB", volume.NTFS, "mkfs.ntfs -q -F -f -c 2097152", 600 * mib, 12 * mib, false, 2 * mib},
	{"ntfs 4K sectors", volume.NTFS, "mkfs.ntfs -q -F -f -s 4096", 64 * mib, 10 * mib, true, 8192},
	{"exfat", volume.ExFAT, "mkfs.exfat -L desk", 64 * mib, 20 * mib, true, 0},
	{"exfat empty", volume.ExFAT, "mkfs.exfat", 32*mib + 512*7, 0, false, 0},
	{"exfat 128 KiB", volume.ExFAT, "mkfs.exfat -c 128K", 200 * mib, 40 * mib, false, 0},
	{"xfs", volume.XFS, "mkfs.xfs -q -f -L desk", 320 * mib, 60 * mib, true, 64 << 10},
	{"xfs empty", volume.XFS, "mkfs.xfs -q -f", 310 * mib, 0, false, 64 << 10},
	{"xfs 8 groups", volume.XFS, "mkfs.xfs -q -f -d agcount=8", 640 * mib, 30 * mib, true, 512 << 10},
	{"xfs 4K sectors", volume.XFS, "mkfs.xfs -q -f -s size=4096", 310 * mib, 20 * mib, false, 64 << 10},
	{"btrfs", volume.Btrfs, "mkfs.btrfs -q -f -m single -L desk", 300 * mib, 60 * mib, true, mib + 4096},
	{"btrfs empty", volume.Btrfs, "mkfs.btrfs -q -f -m single", 120 * mib, 0, false, mib + 4096},
	{"btrfs xxhash", volume.Btrfs, "mkfs.btrfs -q -f -m single --csum xxhash", 200 * mib, 20 * mib, true, mib + 4096},
	{"btrfs blake2", volume.Btrfs, "mkfs.btrfs -q -f -m single --csum blake2 -n 4096", 200 * mib, 20 * mib, true, mib + 4096},
	{"btrfs sha256", volume.Btrfs, "mkfs.btrfs -q -f -m single --csum sha256 -n 65536", 200 * mib, 5 * mib, false, mib + 4096},
	{"btrfs mixed", volume.Btrfs, "mkfs.btrfs -q -f -M", 120 * mib, 30 * mib, true, mib + 4096},
	{"btrfs two copies", volume.Btrfs, "mkfs.btrfs -q -f -m dup", 300 * mib, 30 * mib, true, 8 * mib},
	{"ext4 64 KiB clusters", volume.Ext, "mkfs.ext4 -q -F -O bigalloc -C 65536", 100 * mib, 30 * mib, true, -1},
	{"ext4 1 KiB fragmented", volume.Ext, "mkfs.ext4 -q -F -b 1024 -L desk", 80 * mib, 30 * mib, true, -1},
	{"ext4 4 KiB nearly full", volume.Ext, "mkfs.ext4 -q -F -b 4096 -m 0", 64 * mib, 52 * mib, false, -1},
}

func TestEveryKindOfVolumeIsKeptByItsUsedBytes(t *testing.T) {
	for i, c := range shapes {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			path, mkfs := filepath.Join(dir, "volume"), strings.Fields(c.mkfs)
			tool := strings.TrimPrefix(mkfs[0], "mkfs.")
			require.NoError(t, golddisk.BuildVolume(t.Context(), golddisk.VolumeSpec{
				Path: path, Size: c.size, Mkfs: mkfs, Data: c.data, Seed: uint64(i), Fragmented: c.mixed}))
			want, err := golddisk.VolumeFiles(t.Context(), path, tool)
			require.NoError(t, err)

			v, f := open(t, path)
			assert.Equal(t, c.kind, v.Kind)
			assert.True(t, v.Clean)
			assert.False(t, v.MapsStale)
			if strings.Contains(c.mkfs, "-L desk") {
				assert.Equal(t, "desk", v.Label)
			}
			out, err := os.Create(filepath.Join(dir, "copy"))
			require.NoError(t, err)
			defer out.Close()
			keepUsed(t, v, f, out, 0)
			assert.NoError(t, golddisk.CheckVolume(t.Context(), out.Name(), tool))
			got, err := golddisk.VolumeFiles(t.Context(), out.Name(), tool)
			require.NoError(t, err)
			assert.Equal(t, want, got)

			used, err := v.UsedBytes()
			require.NoError(t, err)
			assert.LessOrEqual(t, used, v.Needs)
			if c.slack >= 0 {
				told, err := golddisk.VolumeUsed(t.Context(), path, tool)
				require.NoError(t, err)
				assert.GreaterOrEqual(t, used, told)
				assert.LessOrEqual(t, used-told, c.slack, "used %d, the tool says %d", used, told)
			}
		})
	}
}

func TestIdentitiesAreThoseThatTheToolsPrint(t *testing.T) {
	for _, mkfs := range []string{"mkfs.ntfs -q -F -f", "mkfs.exfat", "mkfs.xfs -q -f", "mkfs.btrfs -q -f", "mkswap -q -L desk", "mkfs.vfat"} {
		path := filepath.Join(t.TempDir(), "volume")
		require.NoError(t, golddisk.BuildVolume(t.Context(), golddisk.VolumeSpec{Path: path, Size: 320 * mib, Mkfs: strings.Fields(mkfs)}))
		v, _ := open(t, path)
		out, err := golddisk.Run(t.Context(), "blkid", "-p", "-o", "value", "-s", "UUID", path)
		require.NoError(t, err)
		assert.Equal(t, strings.TrimSpace(string(out)), v.UUID, mkfs)
	}
}

func TestSwapKeepsItsHeaderOnly(t *testing.T) {
	path := filepath.Join(t.TempDir(), "swap")
	require.NoError(t, golddisk.BuildVolume(t.Context(), golddisk.VolumeSpec{Path: path, Size: 8 * mib, Mkfs: []string{"mkswap", "-q", "-L", "desk-swap"}}))
	v, _ := open(t, path)
	assert.Equal(t, volume.Swap, v.Kind)
	assert.Equal(t, "desk-swap", v.Label)
	assert.EqualValues(t, 8*mib, v.Needs)
	used, err := v.UsedBytes()
	require.NoError(t, err)
	assert.EqualValues(t, 4096, used)
	assert.False(t, v.Hibernated)

	b, err := os.ReadFile(path)
	require.NoError(t, err)
	copy(b[4086:], "S1SUSPEND\x00")
	require.NoError(t, os.WriteFile(path, b, 0o600))
	v, _ = open(t, path)
	assert.True(t, v.Hibernated)
}

func TestEncryptedVolumesAreKnown(t *testing.T) {
	for _, version := range []string{"luks1", "luks2"} {
		path := filepath.Join(t.TempDir(), "secret")
		require.NoError(t, golddisk.Blank(path, 32*mib))
		key := filepath.Join(t.TempDir(), "key")
		require.NoError(t, os.WriteFile(key, []byte("sorrel"), 0o600))
		_, err := golddisk.Run(t.Context(), "cryptsetup", "luksFormat", "-q", "--type", version, "--pbkdf", "pbkdf2", "--pbkdf-force-iterations", "1000",
			"--uuid", "5b1d9d1c-53a5-4a4c-9c06-0f0f6ad7b0aa", path, key)
		require.NoError(t, err)
		v, _ := open(t, path)
		assert.Equal(t, volume.LUKS, v.Kind)
		assert.True(t, v.Encrypted)
		assert.Equal(t, "5b1d9d1c-53a5-4a4c-9c06-0f0f6ad7b0aa", v.UUID)
		used, err := v.UsedBytes()
		require.NoError(t, err)
		assert.EqualValues(t, 32*mib, used)
	}
	b := make([]byte, 8192)
	copy(b[3:], "-FVE-FS-")
	v, err := volume.Open(strings.NewReader(string(b)), 8192)
	require.NoError(t, err)
	assert.Equal(t, volume.BitLocker, v.Kind)
	assert.True(t, v.Encrypted)
}

// The page and hibernation files of a system volume, one of them in pieces.
func TestPageAndHibernationFilesAreFleeting(t *testing.T) {
	path := filepath.Join(t.TempDir(), "system")
	page := strings.Repeat("paged out ", 400_000)
	build := func(hibernation string) *volume.Volume {
		require.NoError(t, golddisk.BuildVolume(t.Context(), golddisk.VolumeSpec{
			Path: path, Size: 64 * mib, Mkfs: strings.Fields("mkfs.ntfs -q -F -f"),
			Fill: func(dir string) error {
				for i := range 300 { // so that the root folder needs more than its record
					if err := os.WriteFile(filepath.Join(dir, fmt.Sprintf("file-%03d", i)), []byte("leaf"), 0o644); err != nil {
						return err
					}
				}
				if err := os.WriteFile(filepath.Join(dir, "hiberfil.sys"), []byte(hibernation), 0o644); err != nil {
					return err
				}
				return os.WriteFile(filepath.Join(dir, "PageFile.sys"), []byte(page), 0o644)
			},
		}))
		v, _ := open(t, path)
		return v
	}
	v := build("hibr" + strings.Repeat("asleep ", 10_000))
	assert.True(t, v.Hibernated)
	var sum int64
	for _, e := range v.Fleeting {
		sum += e.Length
	}
	clusters := func(n int) int64 { return int64(n+4095) / 4096 * 4096 }
	assert.Equal(t, clusters(len(page))+clusters(70_004), sum)
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Contains(t, string(b[v.Fleeting[0].Start:][:20])+string(b[v.Fleeting[len(v.Fleeting)-1].Start:][:20]), "paged out ")

	assert.False(t, build(strings.Repeat("\x00", 70_000)).Hibernated)
}

// The kernel mounts no version 4 any more; mkfs puts the files in, and xfs_repair
// and the count of free blocks judge.
func TestXFSVersion4(t *testing.T) {
	dir := t.TempDir()
	var proto strings.Builder
	proto.WriteString("/boot\n0 0\nd--755 0 0\n")
	for i := range 200 {
		name := filepath.Join(dir, fmt.Sprintf("sheet-%03d", i))
		require.NoError(t, os.WriteFile(name, []byte(strings.Repeat("pressed leaf ", 1+i*71)), 0o644))
		fmt.Fprintf(&proto, "sheet-%03d ---644 0 0 %s\n", i, name)
	}
	proto.WriteString("$\n")
	list, path := filepath.Join(dir, "proto"), filepath.Join(dir, "volume")
	require.NoError(t, os.WriteFile(list, []byte(proto.String()), 0o644))
	require.NoError(t, golddisk.BuildVolume(t.Context(), golddisk.VolumeSpec{Path: path, Size: 310 * mib,
		Mkfs: []string{"mkfs.xfs", "-q", "-f", "-m", "crc=0", "-b", "size=1024", "-n", "size=4096", "-p", list}}))
	v, f := open(t, path)
	assert.True(t, v.Clean)
	out, err := os.Create(filepath.Join(dir, "copy"))
	require.NoError(t, err)
	defer out.Close()
	keepUsed(t, v, f, out, 0)
	assert.NoError(t, golddisk.CheckVolume(t.Context(), out.Name(), "xfs"))
	told, err := golddisk.VolumeUsed(t.Context(), path, "xfs")
	require.NoError(t, err)
	used, err := v.UsedBytes()
	require.NoError(t, err)
	assert.InDelta(t, told, used, 32<<10)
}
