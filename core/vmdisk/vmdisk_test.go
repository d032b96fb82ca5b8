package vmdisk_test

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/google/uuid"
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
	return vmdisk.Open(f, info.Size(), beside(tb, filepath.Dir(path)))
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
		"-O vhdx":                                   vmdisk.VHDX,
		"-O vhdx -o subformat=fixed":                vmdisk.VHDX,
		"-O vhdx -o block_size=1M":                  vmdisk.VHDX,
		"-O vdi":                                    vmdisk.VDI,
		"-O vdi -o static=on":                       vmdisk.VDI,
		"-O vmdk":                                   vmdisk.VMDK,
		"-O vmdk -o subformat=monolithicSparse":     vmdisk.VMDK,
		"-O vmdk -o subformat=monolithicFlat":       vmdisk.VMDK,
		"-O vmdk -o subformat=twoGbMaxExtentSparse": vmdisk.VMDK,
		"-O vmdk -o subformat=twoGbMaxExtentFlat":   vmdisk.VMDK,
		"-O vmdk -o subformat=streamOptimized":      vmdisk.VMDK,
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

// beside opens files of a folder.
func beside(tb testing.TB, dir string) vmdisk.Parents {
	return func(name string) (io.ReaderAt, int64, error) {
		f, err := os.Open(filepath.Join(dir, filepath.Base(name)))
		if err != nil {
			return nil, 0, err
		}
		tb.Cleanup(func() { f.Close() })
		info, err := f.Stat()
		return f, info.Size(), err
	}
}

func TestAChainOfDifferences(t *testing.T) {
	plain := content(8 << 20)
	for _, kind := range []string{"raw", "qcow2"} {
		dir := t.TempDir()
		base := filepath.Join(dir, "base")
		raw := filepath.Join(dir, "plain")
		require.NoError(t, os.WriteFile(raw, plain, 0o600))
		run := func(argv ...string) {
			_, err := golddisk.Run(t.Context(), argv...)
			require.NoError(t, err)
		}
		run("qemu-img", "convert", "-f", "raw", "-O", kind, raw, base)
		below, format := "base", kind
		want := bytes.Clone(plain)
		for i := range 3 { // each generation changes something, and the last makes the disk larger
			layer := fmt.Sprintf("layer%d", i)
			run("qemu-img", "create", "-q", "-f", "qcow2", "-F", format, "-b", filepath.Join(dir, below), filepath.Join(dir, layer), "12M")
			run("qemu-io", "-f", "qcow2", "-c", fmt.Sprintf("write -P %d %dk 70k", 0x41+i, 1000+900*i), filepath.Join(dir, layer))
			for j := range 70 << 10 {
				want[(1000+900*i)<<10+j] = byte(0x41 + i)
			}
			below, format = layer, "qcow2"
		}
		want = append(want, make([]byte, 4<<20)...)
		d, err := open(t, filepath.Join(dir, below))
		require.NoError(t, err)
		got := make([]byte, d.Size())
		_, err = d.ReadAt(got, 0)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(want, got), kind)

		t.Log("# one that comes round to itself comes to an end")
		run("qemu-img", "rebase", "-u", "-f", "qcow2", "-F", "qcow2", "-b", filepath.Join(dir, below), filepath.Join(dir, "layer0"))
		_, err = open(t, filepath.Join(dir, below))
		assert.ErrorIs(t, err, vmdisk.ErrUnsupported)
		_, err = open(t, filepath.Join(dir, "layer0"))
		assert.ErrorIs(t, err, vmdisk.ErrUnsupported)
	}
}

// A differencing VHDX, which no tool here makes: one without a parent is given one.
func TestADifferencingVHDX(t *testing.T) {
	plain := content(8 << 20)
	parent := converted(t, plain, "-O vhdx -o block_size=1M")
	dir := filepath.Dir(parent)
	over := make([]byte, 8<<20)
	copy(over[2<<20:], bytes.Repeat([]byte("new "), 256<<10)) // block 2 is here as a whole, block 5 in part
	copy(over[5<<20+512:], bytes.Repeat([]byte{0x5a}, 1024))
	b, err := os.ReadFile(converted(t, over, "-O vhdx -o block_size=1M"))
	require.NoError(t, err)
	p, err := os.ReadFile(parent)
	require.NoError(t, err)
	le := binary.LittleEndian
	find := func(b []byte, id string) int { // the entry of an item in the metadata's table
		u := uuid.MustParse(id)
		mixed := []byte{u[3], u[2], u[1], u[0], u[5], u[4], u[7], u[6]}
		return bytes.Index(b, append(mixed, u[8:]...))
	}
	region := find(b, "8B7CA206-4790-4B9A-B8FE-575F050F886E")
	meta := int(le.Uint64(b[region+16:]))
	blocks := int(le.Uint64(b[find(b, "2DC27766-F623-4200-9D64-115E9BFD4A08")+16:]))
	parameters := meta + int(le.Uint32(b[find(b, "CAA16737-FA36-4D43-B3B6-33F0AA44E76B")+16:]))
	le.PutUint32(b[parameters+4:], 2)
	head := 64 << 10
	if le.Uint64(p[128<<10+8:]) > le.Uint64(p[head+8:]) {
		head = 128 << 10
	}
	g := p[head+32 : head+48]
	linkage := fmt.Sprintf("{%08x-%04x-%04x-%x-%x}", le.Uint32(g), le.Uint16(g[4:]), le.Uint16(g[6:]), g[8:10], g[10:])
	locator := func(linkage string) []byte {
		u := uuid.MustParse("B04AEFB7-D19E-4A81-B789-25B8E9445913")
		l := append([]byte{u[3], u[2], u[1], u[0], u[5], u[4], u[7], u[6]}, u[8:]...)
		l = append(l, 0, 0, 2, 0)
		table, text := len(l), make([]byte, 0, 500)
		l = append(l, make([]byte, 24)...)
		for i, pair := range [][2]string{{"parent_linkage", linkage}, {"relative_path", `.\` + filepath.Base(parent)}} {
			for j, s := range pair {
				le.PutUint32(l[table+12*i+4*j:], uint32(len(l)+len(text)))
				le.PutUint16(l[table+12*i+8+2*j:], uint16(2*len(s)))
				for _, c := range utf16.Encode([]rune(s)) {
					text = le.AppendUint16(text, c)
				}
			}
		}
		return append(l, text...)
	}
	child := func(linkage string) string {
		c := bytes.Clone(b)
		n := int(le.Uint16(c[meta+10:]))
		le.PutUint16(c[meta+10:], uint16(n+1))
		u := uuid.MustParse("A8D35F2D-B30B-454D-ABF7-D3D84834AB0C")
		e := c[meta+32+32*n:]
		copy(e, append([]byte{u[3], u[2], u[1], u[0], u[5], u[4], u[7], u[6]}, u[8:]...))
		l := locator(linkage)
		le.PutUint32(e[16:], 128<<10)
		le.PutUint32(e[20:], uint32(len(l)))
		copy(c[meta+128<<10:], l)
		for i := range 8 {
			entry := le.Uint64(c[blocks+8*i:])
			switch {
			case i == 5:
				le.PutUint64(c[blocks+8*i:], entry&^7|7)
			case i != 2:
				le.PutUint64(c[blocks+8*i:], 0)
			}
		}
		chunk := 1 << 23 * 512 >> 20
		le.PutUint64(c[blocks+8*chunk:], uint64(len(c))|6)
		bits := make([]byte, 1<<20)
		bits[5<<20/512/8] = 0b110 // sectors 1 and 2 of block 5
		path := filepath.Join(dir, "child")
		require.NoError(t, os.WriteFile(path, append(c, bits...), 0o600))
		return path
	}
	d, err := open(t, child(linkage))
	require.NoError(t, err)
	want := bytes.Clone(plain)
	copy(want[2<<20:3<<20], over[2<<20:])
	copy(want[5<<20+512:5<<20+1536], over[5<<20+512:])
	got := make([]byte, d.Size())
	_, err = d.ReadAt(got, 0)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(want, got))
	t.Log("# a parent that was changed since does not belong to it any more")
	_, err = open(t, child("{00000000-0000-0000-0000-000000000001}"))
	assert.ErrorContains(t, err, "was changed since")
}

func TestWhatIsNoDiskIsRefusedByName(t *testing.T) {
	dir := t.TempDir()
	plain := content(1 << 20)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "disk"), plain, 0o600))
	for argv, name := range map[string]string{
		"gzip -k disk":                                        "gzip",
		"xz -k disk":                                          "xz",
		"zstd -q disk":                                        "Zstandard",
		"zip -q a.zip disk":                                   "zip",
		"tar cf a.tar disk":                                   "tar archive",
		"7z a -bso0 a.7z disk":                                "7z",
		"genisoimage -quiet -o a.iso disk":                    "ISO 9660",
		"gcab -c a.cab disk":                                  "cabinet",
		"qemu-img create -q -f qed a.qed 1M":                  "QED",
		"qemu-img create -q -f parallels a.hdd 1M":            "a disk file of a virtual machine (HDD)",
		"qemu-img create -q -f qcow a.qcow 1M":                "version 1",
		"printf 'MSWIM\\000\\000\\000%512s' x > a.wim":        "WIM",
		"printf BZh91AY&SYxxxxxxxxxxxxxxxxxxxxxxxxxx > a.bz2": "bzip2",
	} {
		before, err := os.ReadDir(dir)
		require.NoError(t, err)
		cmd := exec.Command("sh", "-c", strings.ReplaceAll(argv, "&", `\&`))
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		if err != nil && strings.Contains(string(out), "not found") {
			continue
		}
		require.NoError(t, err, "%s: %s", argv, out)
		after, err := os.ReadDir(dir)
		require.NoError(t, err)
		require.Len(t, after, len(before)+1, argv)
		for _, e := range after {
			if e.Name() == "disk" {
				continue
			}
			_, err = open(t, filepath.Join(dir, e.Name()))
			assert.ErrorIs(t, err, vmdisk.ErrUnsupported, argv)
			assert.ErrorContains(t, err, name)
			require.NoError(t, os.Remove(filepath.Join(dir, e.Name())))
		}
	}
}

func TestFilesThatAreNotWholeAreRefused(t *testing.T) {
	plain := content(4 << 20)
	base := converted(t, plain, "-O qcow2")
	layer := filepath.Join(t.TempDir(), "layer")
	_, err := golddisk.Run(t.Context(), "qemu-img", "create", "-f", "qcow2", "-F", "qcow2", "-b", base, layer)
	require.NoError(t, err)
	f, err := os.Open(layer)
	require.NoError(t, err)
	defer f.Close()
	_, err = vmdisk.Open(f, 1<<20, nil)
	assert.ErrorIs(t, err, vmdisk.ErrUnsupported)
	assert.ErrorContains(t, err, "in another file")

	for options, harm := range map[string]func(b []byte) []byte{
		"-O qcow2":                             func(b []byte) []byte { b[21] = 1; return b },
		"-O vpc":                               func(b []byte) []byte { b[len(b)-100] ^= 1; return b },
		"-O vhdx":                              func(b []byte) []byte { return append(b[:192<<10], make([]byte, 1<<20)...) },
		"-O vmdk -o subformat=streamOptimized": func(b []byte) []byte { return b[:len(b)/2] },
		"-O vdi":                               func(b []byte) []byte { b[0x170+6] = 1; return b },
		"-O qcow2 ":                            func(b []byte) []byte { return b[:200<<10] },
	} {
		b, err := os.ReadFile(converted(t, plain, options))
		require.NoError(t, err)
		b = harm(b)
		d, err := vmdisk.Open(bytes.NewReader(b), int64(len(b)), nil)
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
		d, err := vmdisk.Open(p, size, nil)
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
func FuzzVDI(f *testing.F)   { fuzz(f, "-O vdi") }
func FuzzVMDK(f *testing.F)  { fuzz(f, "-O vmdk -o subformat=streamOptimized") }
