package volume_test

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/volume"
	"jugate/demo/golddisk"
)

func build(t *testing.T, spec golddisk.Spec) (*golddisk.Disk, *os.File) {
	t.Helper()
	spec.Path = filepath.Join(t.TempDir(), "gold")
	d, err := golddisk.Build(t.Context(), spec)
	require.NoError(t, err)
	f, err := os.OpenFile(d.Path, os.O_RDWR, 0)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	return d, f
}

// keepUsed makes a disk whose unused bytes are noise, so that a file system
// check or a digest of the files shows whatever Used left out.
func keepUsed(t *testing.T, v *volume.Volume, in io.ReaderAt, out *os.File, start int64) {
	t.Helper()
	noise := bytes.Repeat([]byte("unused! "), 1<<17)
	for off := start; off < start+v.Size; off += int64(len(noise)) {
		_, err := out.WriteAt(noise[:min(int64(len(noise)), start+v.Size-off)], off)
		require.NoError(t, err)
	}
	last := int64(-1)
	for e, err := range v.Used() {
		require.NoError(t, err)
		require.Greater(t, e.Start, last, "extents ascend and stand apart")
		require.LessOrEqual(t, e.End(), v.Size)
		last = e.End()
		_, err := io.Copy(io.NewOffsetWriter(out, start+e.Start), io.NewSectionReader(in, e.Start, e.Length))
		require.NoError(t, err)
	}
	resized, err := volume.Resize(&stretch{out, start}, v.Size, v.Size)
	require.NoError(t, err)
	assert.False(t, resized)
}

// stretch is a part of a file from a byte on.
type stretch struct {
	file *os.File
	at   int64
}

func (s *stretch) ReadAt(b []byte, off int64) (int, error)  { return s.file.ReadAt(b, s.at+off) }
func (s *stretch) WriteAt(b []byte, off int64) (int, error) { return s.file.WriteAt(b, s.at+off) }

func TestUsedIsEnoughForTheFilesAndNoMore(t *testing.T) {
	for name, spec := range map[string]golddisk.Spec{
		"defaults":         {},
		"4 KiB blocks":     {Ext4: []string{"-b", "4096"}},
		"no flex_bg":       {Ext4: []string{"-b", "1024", "-O", "^flex_bg,^64bit"}},
		"ext3":             {Ext4: []string{"-t", "ext3"}},
		"ext2 1 KiB":       {Ext4: []string{"-t", "ext2", "-b", "1024"}},
		"group checksums":  {Ext4: []string{"-b", "1024", "-O", "^metadata_csum,uninit_bg"}},
		"meta_bg":          {Ext4: []string{"-b", "1024", "-O", "meta_bg,^resize_inode"}},
		"bigalloc":         {Ext4: []string{"-O", "bigalloc", "-C", "65536"}},
		"sparse_super2":    {Ext4: []string{"-b", "1024", "-O", "sparse_super2"}},
		"checksum seed":    {Ext4: []string{"-O", "metadata_csum_seed"}},
		"nearly empty":     {Data: 1, Size: 100 * golddisk.MiB, Ext4: []string{"-b", "1024"}},
		"nearly full":      {Data: 27 * golddisk.MiB, Ext4: []string{"-m", "0"}},
		"FAT12 and odd":    {FATBits: 12, ESP: 3 * golddisk.MiB, Size: 57*golddisk.MiB + 512},
		"FAT16":            {FATBits: 16, ESP: 20 * golddisk.MiB},
		"large FAT32":      {FATBits: 32, ESP: 70 * golddisk.MiB, Size: 110 * golddisk.MiB},
		"large ext groups": {Size: 300 * golddisk.MiB, Ext4: []string{"-b", "4096"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			d, f := build(t, spec)
			want, err := d.Files(t.Context())
			require.NoError(t, err)

			path := filepath.Join(t.TempDir(), "copy")
			require.NoError(t, golddisk.Blank(path, d.Size))
			out, err := os.OpenFile(path, os.O_RDWR, 0)
			require.NoError(t, err)
			defer out.Close()
			for start, size := range map[int64]int64{d.ESPStart: d.ESPSize, d.RootStart: d.RootSize} {
				r := io.NewSectionReader(f, start, size)
				v, err := volume.Open(r, size)
				require.NoError(t, err)
				assert.True(t, v.Clean)
				keepUsed(t, v, r, out, start)
			}
			copied := d.On(path)
			assert.NoError(t, copied.Check(t.Context()))
			got, err := copied.Files(t.Context())
			require.NoError(t, err)
			assert.Equal(t, want, got)

			// No more than dumpe2fs calls used, but for the boot block in front of
			// group 0, which it does not count as a block of the file system's own.
			v, err := volume.Open(io.NewSectionReader(f, d.RootStart, d.RootSize), d.RootSize)
			require.NoError(t, err)
			used, err := v.UsedBytes()
			require.NoError(t, err)
			told, err := d.RootUsed(t.Context())
			require.NoError(t, err)
			assert.InDelta(t, told, used, 1024)
		})
	}
}

func TestOpenTellsKindLabelAndIdentity(t *testing.T) {
	for bits, kind := range map[int]volume.Kind{12: volume.FAT12, 16: volume.FAT16, 32: volume.FAT32} {
		esp := int64(34 * golddisk.MiB)
		if bits == 12 {
			esp = 3 * golddisk.MiB
		}
		d, f := build(t, golddisk.Spec{FATBits: bits, ESP: esp, Data: 1})
		v, err := volume.Open(io.NewSectionReader(f, d.ESPStart, d.ESPSize), d.ESPSize)
		require.NoError(t, err)
		assert.Equal(t, kind, v.Kind)
		assert.Equal(t, "DESK-EFI", v.Label)
		assert.Regexp(t, `^[0-9A-F]{4}-[0-9A-F]{4}$`, v.UUID)
	}
	d, f := build(t, golddisk.Spec{Data: 1, Ext4: []string{"-U", "5b1d9d1c-53a5-4a4c-9c06-0f0f6ad7b0aa"}})
	v, err := volume.Open(io.NewSectionReader(f, d.RootStart, d.RootSize), d.RootSize)
	require.NoError(t, err)
	assert.Equal(t, volume.Ext, v.Kind)
	assert.Equal(t, "desk-root", v.Label)
	assert.Equal(t, "5b1d9d1c-53a5-4a4c-9c06-0f0f6ad7b0aa", v.UUID)
}

func TestUnknownContentIsUsedAsAWhole(t *testing.T) {
	v, err := volume.Open(strings.NewReader(strings.Repeat("n", 8192)), 8192)
	require.NoError(t, err)
	assert.Equal(t, volume.Unknown, v.Kind)
	used, err := v.UsedBytes()
	require.NoError(t, err)
	assert.EqualValues(t, 8192, used)
}

func TestExtThatMustNotBeTrusted(t *testing.T) {
	d, f := build(t, golddisk.Spec{Data: golddisk.MiB, Ext4: []string{"-b", "4096"}})
	sound, err := io.ReadAll(io.NewSectionReader(f, d.RootStart, d.RootSize))
	require.NoError(t, err)
	vol, err := d.Extract(d.RootStart, d.RootSize)
	require.NoError(t, err)
	defer os.Remove(vol)
	bitmap := bitmapOfGroup0(t, vol) * 4096

	for name, c := range map[string]struct {
		harm  func(b []byte)
		stale bool
		err   error
	}{
		"journal not played back": {func(b []byte) { b[1024+0x60] |= 4 }, true, nil},
		"not unmounted":           {func(b []byte) { b[1024+0x3A] &^= 1 }, true, nil},
		"errors noted":            {func(b []byte) { b[1024+0x3A] |= 2 }, true, nil},
		"more blocks than bytes":  {func(b []byte) { b[1024+7] = 0x7F }, false, volume.ErrDamaged},
		"a bit lost in a bitmap":  {func(b []byte) { b[bitmap+3] ^= 1 }, false, volume.ErrDamaged},
		"bitmap behind the end":   {func(b []byte) { b[4096+3] = 0x7F }, false, volume.ErrDamaged},
	} {
		t.Run(name, func(t *testing.T) {
			b := bytes.Clone(sound)
			c.harm(b)
			v, err := volume.Open(bytes.NewReader(b), int64(len(b)))
			if err == nil {
				assert.Equal(t, c.stale, v.MapsStale)
				assert.Equal(t, !c.stale, v.Clean)
				_, err = v.UsedBytes()
			}
			assert.ErrorIs(t, err, c.err)
		})
	}
}

// bitmapOfGroup0 asks dumpe2fs in which block it lies.
func bitmapOfGroup0(t *testing.T, vol string) int {
	t.Helper()
	out, err := golddisk.Run(t.Context(), "dumpe2fs", vol)
	require.NoError(t, err)
	m := regexp.MustCompile(`Block bitmap at (\d+)`).FindSubmatch(out)
	require.NotNil(t, m)
	var n int
	_, err = fmt.Sscan(string(m[1]), &n)
	require.NoError(t, err)
	return n
}

func TestFATMarkedAsInUseIsNotClean(t *testing.T) {
	d, f := build(t, golddisk.Spec{Data: 1})
	b, err := io.ReadAll(io.NewSectionReader(f, d.ESPStart, d.ESPSize))
	require.NoError(t, err)
	b[65] |= 1
	v, err := volume.Open(bytes.NewReader(b), int64(len(b)))
	require.NoError(t, err)
	assert.False(t, v.Clean)
	assert.False(t, v.MapsStale, "the table is the truth in any case")
}

// FuzzOpen walks whatever it recognises; a volume larger than the given bytes
// is made of zeros behind them.
func FuzzOpen(f *testing.F) {
	for _, spec := range []golddisk.Spec{{}, {FATBits: 16, ESP: 20 * golddisk.MiB}, {Ext4: []string{"-b", "1024", "-O", "meta_bg,^resize_inode"}}} {
		spec.Path, spec.Data = filepath.Join(f.TempDir(), "gold"), 1
		d, err := golddisk.Build(f.Context(), spec)
		if err != nil {
			f.Fatal(err)
		}
		disk, err := os.ReadFile(d.Path)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(disk[d.ESPStart:][:8192])
		f.Add(disk[d.RootStart:][:8192])
	}
	f.Fuzz(func(t *testing.T, head []byte) {
		const size = 64 << 20
		r := padded{head, size}
		v, err := volume.Open(r, size)
		if err != nil {
			return
		}
		last := int64(0)
		for e, err := range v.Used() {
			if err != nil {
				return
			}
			if e.Start < last || e.Length <= 0 || e.End() > size {
				t.Fatalf("extent %+v behind %d in %d bytes", e, last, int64(size))
			}
			last = e.End()
		}
	})
}

type padded struct {
	head []byte
	size int64
}

func (p padded) ReadAt(b []byte, off int64) (int, error) {
	if off < 0 || off >= p.size {
		return 0, io.EOF
	}
	n := int(min(int64(len(b)), p.size-off))
	clear(b[:n])
	if off < int64(len(p.head)) {
		copy(b[:n], p.head[off:])
	}
	if n < len(b) {
		return n, io.EOF
	}
	return n, nil
}
