package volume_test

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/volume"
	"jugate/demo/golddisk"
)

// hfsPlus makes an HFS+ volume: xorriso puts one without free blocks into a
// hybrid image; here it gets more blocks, all free.
func hfsPlus(tb testing.TB, free int) string {
	tb.Helper()
	dir := tb.TempDir()
	files := filepath.Join(dir, "files")
	require.NoError(tb, os.MkdirAll(filepath.Join(files, "herbarium"), 0o755))
	for i := range 20 {
		require.NoError(tb, os.WriteFile(filepath.Join(files, "herbarium", fmt.Sprintf("sheet-%02d", i)), []byte(strings.Repeat("pressed leaf\n", 1+i*200)), 0o644))
	}
	hybrid := filepath.Join(dir, "hybrid")
	_, err := golddisk.Run(tb.Context(), "xorriso", "-as", "mkisofs", "-quiet", "-hfsplus", "-V", "FERNS", "-o", hybrid, files)
	require.NoError(tb, err)
	b, err := os.ReadFile(hybrid)
	require.NoError(tb, err)
	start := bytes.Index(b, []byte("H+\x00\x04")) - 1024
	require.Positive(tb, start)
	b = b[start:]
	header := b[1024:1536]
	block, blocks := binary.BigEndian.Uint32(header[40:]), binary.BigEndian.Uint32(header[44:])
	require.Less(tb, blocks+uint32(free), 8*block, "the allocation file is one block")
	b = append(b[:blocks*block:blocks*block], make([]byte, free*int(block))...)
	header = b[1024:1536]
	binary.BigEndian.PutUint32(header[44:], blocks+uint32(free))
	binary.BigEndian.PutUint32(header[48:], uint32(free))
	binary.BigEndian.PutUint64(header[112:], uint64(block)) // the allocation file's length
	copy(b[len(b)-1024:], header)
	path := filepath.Join(dir, "volume")
	require.NoError(tb, os.WriteFile(path, b, 0o600))
	return path
}

func TestHFSPlus(t *testing.T) {
	const free = 5000
	path := hfsPlus(t, free)
	list := func(path string) string { // names, lengths and checksums
		out, err := exec.Command("7z", "h", "-scrcsha256", path).CombinedOutput()
		require.NoError(t, err, string(out))
		out, err = exec.Command("7z", "x", "-so", path).Output()
		require.NoError(t, err)
		return string(out)
	}
	want := list(path)
	assert.Contains(t, want, "pressed leaf")
	v, f := open(t, path)
	assert.Equal(t, volume.HFSPlus, v.Kind)
	assert.Equal(t, "FERNS", v.Label)
	assert.True(t, v.Clean)
	used, err := v.UsedBytes()
	require.NoError(t, err)
	assert.EqualValues(t, v.Size-free*v.ClusterSize+1024, used, "all but the free blocks, and the header at the end")
	out, err := os.Create(filepath.Join(t.TempDir(), "copy"))
	require.NoError(t, err)
	defer out.Close()
	keepUsed(t, v, f, out, 0)
	assert.Equal(t, want, list(out.Name()))

	b, err := os.ReadFile(path)
	require.NoError(t, err)
	b[1024+6] &^= 1 // unmounted
	v, err = volume.Open(bytes.NewReader(b), int64(len(b)))
	require.NoError(t, err)
	assert.False(t, v.Clean)
	assert.True(t, v.MapsStale)
}

// The kernel here maps no logical volumes, so a group's text is written by hand
// and brought onto the disk by LVM2's own tool.
const logicalVolumes = `
	logical_volumes {
		root { id = "aaaaaa-bbbb-cccc-dddd-eeee-ffff-gggggg" status = ["READ", "WRITE", "VISIBLE"] flags = [] segment_count = 2
			segment1 { start_extent = 0 extent_count = 5 type = "striped" stripe_count = 1 stripes = [ "pv0", 0 ] }
			segment2 { start_extent = 5 extent_count = 7 type = "striped" stripe_count = 1 stripes = [ "pv0", 20 ] }
		}
		notes { id = "hhhhhh-bbbb-cccc-dddd-eeee-ffff-gggggg" status = ["READ", "WRITE", "VISIBLE"] flags = [] segment_count = 1
			segment1 { start_extent = 0 extent_count = 8 type = "striped" stripe_count = 2 stripe_size = 128 stripes = [ "pv0", 30, "pv0", 40 ] }
		}
	}
}
# behind`

func lvm2(tb testing.TB) string { return lvm2Group(tb, fmt.Sprintf("fennholt%d", os.Getpid())) }

// lvm2Group makes a physical volume with a group, or none if it has no name.
func lvm2Group(tb testing.TB, group string, options ...string) string {
	tb.Helper()
	path := filepath.Join(tb.TempDir(), "pv")
	require.NoError(tb, golddisk.Blank(path, 220*mib))
	out, err := golddisk.Run(tb.Context(), "losetup", "--find", "--show", path)
	require.NoError(tb, err)
	loop := strings.TrimSpace(string(out))
	defer golddisk.Run(tb.Context(), "losetup", "-d", loop)
	lvm := func(argv ...string) {
		argv = append(argv, "--config", fmt.Sprintf(`devices { filter=["a|^%s$|","r|.*|"] use_devicesfile=0 }`, loop))
		_, err := golddisk.Run(tb.Context(), argv...)
		require.NoError(tb, err)
	}
	lvm(append([]string{"pvcreate", "-q", loop}, options...)...)
	if group == "" {
		return path
	}
	lvm("vgcreate", "-q", group, loop)
	backup := filepath.Join(tb.TempDir(), "group")
	lvm("vgcfgbackup", "-q", "-f", backup, group)
	text, err := os.ReadFile(backup)
	require.NoError(tb, err)
	vg := regexp.MustCompile(`(?ms)^` + regexp.QuoteMeta(group) + ` \{.*?^\}`).FindIndex(text)
	require.NotNil(tb, vg)
	text = append(append(bytes.Clone(text[:vg[1]-1]), logicalVolumes...), text[vg[1]:]...)
	require.NoError(tb, os.WriteFile(backup, text, 0o600))
	lvm("vgcfgrestore", "-q", "-f", backup, group)
	return path
}

func TestLVM2KeepsAllocatedExtents(t *testing.T) {
	v, _ := open(t, lvm2(t))
	assert.Equal(t, volume.LVM, v.Kind)
	assert.Contains(t, v.Label, "fennholt")
	assert.Regexp(t, `^\w{6}(-\w{4}){5}-\w{6}$`, v.UUID)
	assert.EqualValues(t, 4*mib, v.ClusterSize)
	var got []volume.Extent
	for e, err := range v.Used() {
		require.NoError(t, err)
		got = append(got, e)
	}
	const extent = 4 * mib
	assert.Equal(t, []volume.Extent{
		{Start: 0, Length: mib + 5*extent},
		{Start: mib + 20*extent, Length: 7 * extent},
		{Start: mib + 30*extent, Length: 4 * extent},
		{Start: mib + 40*extent, Length: 4 * extent},
	}, got)
}

func TestLVM2AsPeopleMakeIt(t *testing.T) {
	t.Run("names with all that names may have", func(t *testing.T) {
		v, _ := open(t, lvm2Group(t, fmt.Sprintf("2024.data-x+y_%d", os.Getpid())))
		assert.Equal(t, volume.LVM, v.Kind)
		assert.Contains(t, v.Label, "2024.data-x+y")
	})
	t.Run("a second metadata area", func(t *testing.T) {
		path := lvm2Group(t, fmt.Sprintf("fennholt2nd%d", os.Getpid()), "--pvmetadatacopies", "2")
		v, _ := open(t, path)
		last := volume.Extent{}
		for e, err := range v.Used() {
			require.NoError(t, err)
			last = e
		}
		b, err := os.ReadFile(path)
		require.NoError(t, err)
		second := int64(bytes.LastIndex(b, []byte(" LVM2 x[5A%r0N*>"))) - 4
		assert.Greater(t, second, int64(210*mib), "it lies at the end")
		assert.True(t, last.Start <= second && second < last.End(), "it is copied: %v has %d", last, second)
		assert.EqualValues(t, 220*mib, v.Needs)
	})
	t.Run("without a group", func(t *testing.T) {
		v, _ := open(t, lvm2Group(t, ""))
		assert.Equal(t, volume.LVM, v.Kind)
		assert.EqualValues(t, 220*mib, v.Needs, "nobody can tell what a tool makes of less")
	})
}

// Volumes that must not be believed, or not without asking.
func TestVolumesInABadState(t *testing.T) {
	build := func(t *testing.T, size int64, mkfs string) []byte {
		path := filepath.Join(t.TempDir(), "volume")
		require.NoError(t, golddisk.BuildVolume(t.Context(), golddisk.VolumeSpec{Path: path, Size: size, Mkfs: strings.Fields(mkfs)}))
		b, err := os.ReadFile(path)
		require.NoError(t, err)
		return b
	}
	put := func(b []byte, at int, what ...byte) { copy(b[at:], what) }
	for name, c := range map[string]struct {
		mkfs  string
		size  int64
		harm  func(b []byte)
		stale bool
		dirty bool
		err   error
	}{
		"ntfs dirty": {"mkfs.ntfs -q -F -f", 16 * mib, func(b []byte) {
			at := int(binary.LittleEndian.Uint64(b[0x30:]))*4096 + 3*1024
			info := bytes.Index(b[at:at+1024], []byte{0x70, 0, 0, 0})
			put(b, at+info+24+10, 1)
		}, true, true, nil},
		"ntfs journal in use": {"mkfs.ntfs -q -F -f", 16 * mib, func(b []byte) {
			log := ntfsFirstCluster(b, 2) * 4096
			clear(b[log : log+4096])
			put(b, log, 'R', 'S', 'T', 'R', 30, 0, 9, 0) // nine fixups at byte 30
			put(b, log+0x18, 0x30, 0)                    // the restart area; a client has the log open
		}, true, true, nil},
		"ntfs too many sectors": {"mkfs.ntfs -q -F -f", 16 * mib, func(b []byte) { b[0x2D] = 1 }, false, false, volume.ErrDamaged},
		"ntfs table elsewhere":  {"mkfs.ntfs -q -F -f", 16 * mib, func(b []byte) { b[0x31] = 1 }, false, false, volume.ErrDamaged},
		"exfat dirty":           {"mkfs.exfat", 16 * mib, func(b []byte) { b[106] |= 2 }, false, true, nil},
		"exfat boot region":     {"mkfs.exfat", 16 * mib, func(b []byte) { b[600] ^= 1 }, false, true, nil},
		"exfat too large":       {"mkfs.exfat", 16 * mib, func(b []byte) { b[77] = 1 }, false, false, volume.ErrDamaged},
		"xfs header":            {"mkfs.xfs -q -f", 310 * mib, func(b []byte) { b[512+60] ^= 1 }, false, false, volume.ErrDamaged},
		"xfs no log":            {"mkfs.xfs -q -f", 310 * mib, func(b []byte) { clear(b[48:56]) }, true, true, nil},
		"btrfs superblock":      {"mkfs.btrfs -q -f", 120 * mib, func(b []byte) { b[65536+300] ^= 1 }, false, false, volume.ErrDamaged},
	} {
		t.Run(name, func(t *testing.T) {
			b := build(t, c.size, c.mkfs)
			c.harm(b)
			v, err := volume.Open(bytes.NewReader(b), int64(len(b)))
			if err == nil {
				_, err = v.UsedBytes()
			}
			require.ErrorIs(t, err, c.err)
			if err == nil {
				assert.Equal(t, c.dirty, !v.Clean)
				assert.Equal(t, c.stale, v.MapsStale)
			}
		})
	}
}

// ntfsFirstCluster finds where the data of a file of the table begins, on a
// volume with clusters of 4 KiB and records of 1 KiB.
func ntfsFirstCluster(b []byte, file int) int {
	le := binary.LittleEndian
	record := b[int(le.Uint64(b[0x30:]))*4096+file*1024:][:1024]
	for at := int(le.Uint16(record[0x14:])); ; at += int(le.Uint32(record[at+4:])) {
		if le.Uint32(record[at:]) == 0x80 {
			run := record[at+int(le.Uint16(record[at+32:])):]
			cluster, lengthSize := 0, int(run[0]&15)
			for i := int(run[0] >> 4); i > 0; i-- {
				cluster = cluster<<8 | int(run[lengthSize+i])
			}
			return cluster
		}
	}
}

// A disk that was pulled out while it was mounted: what the kernel leaves then.
func TestVolumesThatWereNotUnmounted(t *testing.T) {
	for _, mkfs := range []string{"mkfs.xfs -q -f", "mkfs.ext4 -q -F"} {
		path, pulled := filepath.Join(t.TempDir(), "volume"), filepath.Join(t.TempDir(), "pulled")
		require.NoError(t, golddisk.BuildVolume(t.Context(), golddisk.VolumeSpec{Path: path, Size: 310 * mib, Mkfs: strings.Fields(mkfs),
			Fill: func(dir string) error {
				err := os.WriteFile(filepath.Join(dir, "leaf"), []byte("half written"), 0o644)
				_, synced := golddisk.Run(t.Context(), "sync", "-f", dir)
				_, copied := golddisk.Run(t.Context(), "cp", "--sparse=always", path, pulled)
				return errors.Join(err, synced, copied)
			}}))
		v, _ := open(t, path)
		assert.True(t, v.Clean, mkfs)
		v, _ = open(t, pulled)
		assert.False(t, v.Clean, mkfs)
		assert.True(t, v.MapsStale, mkfs)
	}
}
