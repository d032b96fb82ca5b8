package partition_test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/partition"
	"jugate/demo/golddisk"
)

const withLogical = `label: dos
label-id: 0x5eedba4c
start=2048, size=20480, type=7, bootable
start=22528, size=81920, type=f
start=24576, size=20480, type=83
start=47104, size=16384, type=82
start=65536, size=4096, type=b
start=106496, size=8192, type=83
`

func sfdisk(t *testing.T, script string, size int64) *golddisk.Disk {
	t.Helper()
	d := &golddisk.Disk{Path: filepath.Join(t.TempDir(), "mbr"), Size: size}
	require.NoError(t, golddisk.Blank(d.Path, size))
	cmd := exec.Command("/usr/sbin/sfdisk", "--quiet", d.Path)
	cmd.Stdin = strings.NewReader(script)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	return d
}

func readFile(t *testing.T, path string) (*partition.Table, []byte) {
	t.Helper()
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	table, err := partition.Read(bytes.NewReader(b), int64(len(b)), 512)
	require.NoError(t, err)
	return table, b
}

func TestAnMBRIsReadAndWrittenAsSfdiskDoes(t *testing.T) {
	d := sfdisk(t, withLogical, 64<<20)
	table, raw := readFile(t, d.Path)
	assert.Equal(t, partition.MBR, table.Scheme)
	assert.EqualValues(t, 0x5eedba4c, table.Signature)
	require.Len(t, table.Partitions, 6)
	var numbers []int
	for _, p := range table.Partitions {
		numbers = append(numbers, p.Number)
	}
	assert.Equal(t, []int{1, 2, 3, 5, 6, 7}, numbers)
	assert.True(t, table.Partitions[0].Active)
	assert.True(t, table.Partitions[1].Extended())
	assert.EqualValues(t, 24576*512, table.Start(table.Partitions[3]))

	want, err := d.Dump(t.Context())
	require.NoError(t, err)
	copied := d.On(filepath.Join(t.TempDir(), "copy"))
	disk := &memory{b: make([]byte, len(raw))}
	require.NoError(t, table.Write(disk))
	require.NoError(t, os.WriteFile(copied.Path, disk.b, 0o600))
	got, err := copied.Dump(t.Context())
	require.NoError(t, err)
	assert.Equal(t, want, got)
	assert.NoError(t, copied.VerifyTable(t.Context()))
	assert.Equal(t, raw[:446], disk.b[:446])
	assert.Equal(t, raw[446:512], disk.b[446:512], "cylinders, heads and sectors too")
}

func TestSfdiskIsContentWithAnMBROnOtherDisks(t *testing.T) {
	d := sfdisk(t, withLogical, 64<<20)
	table, _ := readFile(t, d.Path)
	needs := func(n int) int64 { return 2 << 20 }
	for name, c := range map[string]struct {
		size int64
		grow partition.Grow
	}{
		"larger, last":          {100 << 20, partition.GrowLast},
		"larger, first":         {100 << 20, 1},
		"larger, a logical one": {100 << 20, 6},
		"smaller":               {54 << 20, 0},
		"much smaller":          {20 << 20, 0},
	} {
		t.Run(name, func(t *testing.T) {
			to, err := table.Onto(c.size, 512, partition.Fit{Grow: c.grow, Needs: needs})
			require.NoError(t, err)
			assert.NotEmpty(t, partition.Changes(table, to))
			disk := &memory{b: make([]byte, c.size)}
			require.NoError(t, to.Write(disk))
			copied := d.On(filepath.Join(t.TempDir(), "copy"))
			require.NoError(t, os.WriteFile(copied.Path, disk.b, 0o600))
			assert.NoError(t, copied.VerifyTable(t.Context()))
			again, _ := readFile(t, copied.Path)
			assert.Equal(t, to, again)
		})
	}
}

func TestAnMBRThatCannotBe(t *testing.T) {
	d := sfdisk(t, withLogical, 64<<20)
	_, sound := readFile(t, d.Path)
	const ebr = 22528 * 512
	for name, c := range map[string]struct {
		harm func(b []byte)
		want error
		then partition.Scheme
	}{
		"a circle":             {func(b []byte) { b[ebr+446+16+8], b[ebr+446+16+9], b[ebr+446+16+10] = 0, 0, 0 }, partition.ErrDamaged, ""},
		"chain leaves":         {func(b []byte) { b[ebr+446+16+11] = 0x7F }, partition.ErrDamaged, ""},
		"no record":            {func(b []byte) { b[24576*512-2048*512+510] = 0; b[ebr+510] = 0 }, nil, partition.MBR},
		"overlap":              {func(b []byte) { b[446+16*2+8], b[446+16*2+9] = 0, 8; b[446+16*2+10] = 0 }, partition.ErrDamaged, ""},
		"behind the end":       {func(b []byte) { b[446+12+3] = 0x7F }, partition.ErrDamaged, ""},
		"no signature":         {func(b []byte) { b[510] = 0 }, nil, partition.None},
		"text for its records": {func(b []byte) { copy(b[446:], "Remove disks or other media") }, nil, partition.None},
	} {
		t.Run(name, func(t *testing.T) {
			b := bytes.Clone(sound)
			c.harm(b)
			table, err := partition.Read(bytes.NewReader(b), int64(len(b)), 512)
			require.ErrorIs(t, err, c.want)
			if err == nil {
				assert.Equal(t, c.then, table.Scheme)
			}
		})
	}
}

func TestAFileSystemWithoutATableIsNoMBR(t *testing.T) {
	for _, mkfs := range [][]string{
		{"mkfs.vfat", "-F", "16"}, {"mkfs.vfat", "-F", "32"}, {"mkfs.ntfs", "-q", "-F", "-f"}, {"mkfs.exfat"}, {"mkfs.ext4", "-q"},
	} {
		path := filepath.Join(t.TempDir(), "whole")
		require.NoError(t, golddisk.Blank(path, 64<<20))
		_, err := golddisk.Run(t.Context(), append(mkfs, path)...)
		require.NoError(t, err)
		table, _ := readFile(t, path)
		assert.Equal(t, partition.None, table.Scheme, mkfs)
	}
}
