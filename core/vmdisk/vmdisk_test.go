package vmdisk_test

import (
	"bytes"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/vmdisk"
	"jugate/demo/golddisk"
)

// content makes a disk of some noise, some text and mostly nothing.
func content(size int) []byte {
	b := make([]byte, size)
	r := rand.New(rand.NewPCG(1, 2))
	for range 60 {
		at, n := r.IntN(size-70_000), r.IntN(70_000)
		for i := range n {
			b[at+i] = byte(r.Uint32())
			if at%2 == 0 {
				b[at+i] = "pressed leaf\n"[i%13]
			}
		}
	}
	copy(b[size-10:], "behind all")
	return b
}

func converted(tb testing.TB, plain []byte, options string) string {
	tb.Helper()
	dir := tb.TempDir()
	raw, out := filepath.Join(dir, "raw"), filepath.Join(dir, "disk")
	require.NoError(tb, os.WriteFile(raw, plain, 0o600))
	argv := append([]string{"qemu-img", "convert", "-f", "raw"}, strings.Fields(options)...)
	_, err := golddisk.Run(tb.Context(), append(argv, raw, out)...)
	require.NoError(tb, err)
	return out
}

func open(tb testing.TB, path string) (vmdisk.Disk, error) {
	tb.Helper()
	f, err := os.Open(path)
	require.NoError(tb, err)
	tb.Cleanup(func() { f.Close() })
	info, err := f.Stat()
	require.NoError(tb, err)
	return vmdisk.Open(f, info.Size())
}

func TestADiskFileHoldsWhatWasPutIn(t *testing.T) {
	plain := content(24<<20 + 512)
	for options, format := range map[string]vmdisk.Format{
		"-O raw":                                  vmdisk.Raw,
		"-O qcow2":                                vmdisk.QCOW2,
		"-O qcow2 -o compat=0.10":                 vmdisk.QCOW2,
		"-O qcow2 -o cluster_size=512":            vmdisk.QCOW2,
		"-O qcow2 -o cluster_size=2M":             vmdisk.QCOW2,
		"-O qcow2 -c":                             vmdisk.QCOW2,
		"-O qcow2 -c -o cluster_size=4k":          vmdisk.QCOW2,
		"-O qcow2 -c -o compression_type=zstd":    vmdisk.QCOW2,
		"-O qcow2 -o preallocation=metadata":      vmdisk.QCOW2,
		"-O vpc -o force_size=on":                 vmdisk.VHD,
		"-O vpc -o subformat=fixed,force_size=on": vmdisk.VHD,
		"-O vhdx":                    vmdisk.VHDX,
		"-O vhdx -o subformat=fixed": vmdisk.VHDX,
		"-O vhdx -o block_size=1M":   vmdisk.VHDX,
	} {
		t.Run(options, func(t *testing.T) {
			t.Parallel()
			d, err := open(t, converted(t, plain, options))
			require.NoError(t, err)
			assert.Equal(t, format, d.Format())
			assert.Equal(t, 512, d.SectorSize())
			require.GreaterOrEqual(t, d.Size(), int64(len(plain)))
			got := make([]byte, d.Size())
			_, err = d.ReadAt(got, 0)
			require.NoError(t, err)
			assert.True(t, bytes.Equal(plain, got[:len(plain)]), "read at once")
			assert.True(t, bytes.Equal(got[len(plain):], make([]byte, len(got)-len(plain))))
			r := rand.New(rand.NewPCG(3, 4))
			for range 300 {
				b := make([]byte, r.IntN(200_000))
				off := r.Int64N(int64(len(plain) - len(b)))
				_, err := d.ReadAt(b, off)
				require.NoError(t, err)
				require.True(t, bytes.Equal(plain[off:off+int64(len(b))], b), "%d bytes at %d", len(b), off)
			}
			n, err := d.ReadAt(make([]byte, 100), d.Size()-10)
			assert.Equal(t, 10, n)
			assert.ErrorIs(t, err, io.EOF)
		})
	}
}

func TestFilesThatAreNotWholeAreRefused(t *testing.T) {
	plain := content(4 << 20)
	base := converted(t, plain, "-O qcow2")
	layer := filepath.Join(t.TempDir(), "layer")
	_, err := golddisk.Run(t.Context(), "qemu-img", "create", "-f", "qcow2", "-F", "qcow2", "-b", base, layer)
	require.NoError(t, err)
	_, err = open(t, layer)
	assert.ErrorIs(t, err, vmdisk.ErrUnsupported)
	assert.ErrorContains(t, err, "backing file")

	for options, harm := range map[string]func(b []byte) []byte{
		"-O qcow2":  func(b []byte) []byte { b[21] = 1; return b },
		"-O vpc":    func(b []byte) []byte { b[len(b)-100] ^= 1; return b },
		"-O vhdx":   func(b []byte) []byte { return append(b[:192<<10], make([]byte, 1<<20)...) },
		"-O qcow2 ": func(b []byte) []byte { return b[:200<<10] },
	} {
		b, err := os.ReadFile(converted(t, plain, options))
		require.NoError(t, err)
		b = harm(b)
		d, err := vmdisk.Open(bytes.NewReader(b), int64(len(b)))
		if err == nil {
			_, err = d.ReadAt(make([]byte, len(plain)), 0)
		}
		assert.ErrorIs(t, err, vmdisk.ErrDamaged, options)
	}
}

func fuzz(f *testing.F, options string) {
	plain := make([]byte, 3<<20)
	copy(plain[1<<20:], "leaf")
	b, err := os.ReadFile(converted(f, plain, options))
	require.NoError(f, err)
	// Patches as three bytes: a place, in units that reach all of the first 5 MiB, and a value.
	f.Add([]byte{})
	for i := range 16 {
		f.Add([]byte{0, byte(i * 5), byte(i * 31), 0, byte(i * 3), 0xFF})
	}
	size := int64(len(b))
	f.Fuzz(func(t *testing.T, patches []byte) {
		if len(patches) > 60 {
			return
		}
		p := patched{bytes.NewReader(b), map[int64]byte{}}
		for ; len(patches) >= 3; patches = patches[3:] {
			at := int64(patches[0]%80)<<16 | int64(patches[1])
			if patches[0] >= 240 {
				at = size - 1 - int64(patches[1])*2
			}
			if at >= 0 && at < size {
				p.bytes[at] = patches[2]
			}
		}
		d, err := vmdisk.Open(p, size)
		if err == nil {
			got := make([]byte, 4<<20)
			_, err = d.ReadAt(got[:min(d.Size(), int64(len(got)))], 0)
		}
		if err != nil && !errors.Is(err, vmdisk.ErrDamaged) && !errors.Is(err, vmdisk.ErrUnsupported) {
			t.Fatal(err)
		}
	})
}

type patched struct {
	r     io.ReaderAt
	bytes map[int64]byte
}

func (p patched) ReadAt(b []byte, off int64) (int, error) {
	n, err := p.r.ReadAt(b, off)
	for at, value := range p.bytes {
		if at >= off && at < off+int64(n) {
			b[at-off] = value
		}
	}
	return n, err
}

func FuzzQCOW2(f *testing.F) { fuzz(f, "-O qcow2 -c") }
func FuzzVHD(f *testing.F)   { fuzz(f, "-O vpc") }
func FuzzVHDX(f *testing.F)  { fuzz(f, "-O vhdx -o block_size=1M") }
