package volume_test

import (
	"encoding/binary"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"jugate/core/volume"
	"jugate/demo/golddisk"
)

// A fuzz test of a kind starts from a real volume. Random input is a list of
// patches, five bytes each: a place, counted in the bytes that the reader looks
// at when all is well, how to change it, and by what.

// watched remembers which bytes were read.
type watched struct {
	r     io.ReaderAt
	reads []volume.Extent
}

func (w *watched) ReadAt(b []byte, off int64) (int, error) {
	w.reads = append(w.reads, volume.Extent{Start: off, Length: int64(len(b))})
	return w.r.ReadAt(b, off)
}

// patched is a volume with some bytes changed.
type patched struct {
	r     io.ReaderAt
	bytes map[int64]byte
}

func (p patched) ReadAt(b []byte, off int64) (int, error) {
	n, err := p.r.ReadAt(b, off)
	if len(p.bytes) < len(b) {
		for at, value := range p.bytes {
			if at >= off && at < off+int64(n) {
				b[at-off] = value
			}
		}
		return n, err
	}
	for i := range b[:n] {
		if value, ok := p.bytes[off+int64(i)]; ok {
			b[i] = value
		}
	}
	return n, err
}

func (p patched) WriteAt(b []byte, off int64) (int, error) {
	for i, c := range b {
		p.bytes[off+int64(i)] = c
	}
	return len(b), nil
}

func fuzzVolume(f *testing.F, path string) {
	volume.IgnoreChecksums()
	file, err := os.Open(path)
	require.NoError(f, err)
	f.Cleanup(func() { file.Close() })
	info, err := file.Stat()
	require.NoError(f, err)
	size := info.Size()
	w := &watched{r: file}
	v, err := volume.Open(w, size)
	require.NoError(f, err)
	kind := v.Kind
	_, err = v.UsedBytes()
	require.NoError(f, err)
	var places []int64
	seen := map[int64]bool{}
	for _, e := range w.reads {
		for at := e.Start; at < min(e.End(), size, e.Start+8192); at++ {
			if !seen[at] {
				seen[at] = true
				places = append(places, at)
			}
		}
	}
	f.Add([]byte{})
	for i := range 24 {
		f.Add(binary.BigEndian.AppendUint32([]byte{byte(i * 11), 0, 0, byte(i)}, uint32(i*40503)))
	}
	f.Fuzz(func(t *testing.T, patches []byte) {
		if len(patches) > 5*64 {
			return
		}
		p := patched{r: file, bytes: map[int64]byte{}}
		for ; len(patches) >= 5; patches = patches[5:] {
			at := places[(int(patches[0])<<16|int(patches[1])<<8|int(patches[2]))%len(places)]
			old := make([]byte, 1)
			p.ReadAt(old, at)
			switch patches[3] % 3 {
			case 0:
				old[0] = patches[4]
			case 1:
				old[0] ^= 1 << (patches[4] % 8)
			case 2:
				old[0] += patches[4]
			}
			p.bytes[at] = old[0]
		}
		v, err := volume.Open(p, size)
		if err != nil {
			require.ErrorIs(t, err, volume.ErrDamaged)
			return
		}
		if len(p.bytes) == 0 {
			require.Equal(t, kind, v.Kind)
		}
		require.LessOrEqual(t, v.Needs, size)
		for i, e := range v.Fleeting {
			require.True(t, e.Start >= 0 && e.Length > 0 && e.End() <= size && (i == 0 || e.Start >= v.Fleeting[i-1].End()))
		}
		end := int64(-1)
		for e, err := range v.Used() {
			if err != nil {
				require.ErrorIs(t, err, volume.ErrDamaged)
				return
			}
			require.True(t, e.Start > end && e.Length > 0 && e.End() <= size, "%+v behind %d of %d", e, end, size)
			end = e.End()
		}
		// Whatever the volume, making it fit neither panics nor writes behind its end.
		for _, to := range []int64{size + size/7, v.Needs} {
			volume.Resize(p, size, to)
			volume.Relocate(p, size, 0, 63)
		}
	})
}

func fuzzMade(f *testing.F, size int64, mkfs string) {
	path := filepath.Join(f.TempDir(), "volume")
	require.NoError(f, golddisk.BuildVolume(f.Context(), golddisk.VolumeSpec{Path: path, Size: size, Mkfs: strings.Fields(mkfs)}))
	fuzzVolume(f, path)
}

func FuzzFAT12(f *testing.F)   { fuzzMade(f, 2*mib, "mkfs.vfat -F 12") }
func FuzzFAT32(f *testing.F)   { fuzzMade(f, 4*mib, "mkfs.vfat -F 32 -s 1") }
func FuzzExFAT(f *testing.F)   { fuzzMade(f, 8*mib, "mkfs.exfat") }
func FuzzExt(f *testing.F)     { fuzzMade(f, 32*mib, "mkfs.ext4 -q -F -b 1024 -O meta_bg,^resize_inode") }
func FuzzXFS(f *testing.F)     { fuzzMade(f, 310*mib, "mkfs.xfs -q -f -m crc=0") }
func FuzzBtrfs(f *testing.F)   { fuzzMade(f, 120*mib, "mkfs.btrfs -q -f -n 4096") }
func FuzzSwap(f *testing.F)    { fuzzMade(f, mib, "mkswap -q") }
func FuzzHFSPlus(f *testing.F) { fuzzVolume(f, hfsPlus(f, 100)) }
func FuzzLVM(f *testing.F)     { fuzzVolume(f, lvm2(f)) }

func FuzzNTFS(f *testing.F) {
	path := filepath.Join(f.TempDir(), "volume")
	require.NoError(f, golddisk.BuildVolume(f.Context(), golddisk.VolumeSpec{Path: path, Size: 4 * mib, Mkfs: strings.Fields("mkfs.ntfs -q -F -f -c 1024"),
		Fill: func(dir string) error {
			var errs []error
			for _, name := range []string{"hiberfil.sys", "pagefile.sys", "a", "b"} {
				for i := range 20 { // enough names for an index of its own, and a file in pieces
					errs = append(errs, os.WriteFile(filepath.Join(dir, name), []byte(strings.Repeat("leaf ", i*500)), 0o644))
					errs = append(errs, os.WriteFile(filepath.Join(dir, name+strings.Repeat("x", i+1)), nil, 0o644))
				}
			}
			return errors.Join(errs...)
		}}))
	fuzzVolume(f, path)
}
