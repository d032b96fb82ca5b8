package archive_test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/archive"
)

// driver is a folder with a driver's files: names of one case and another, an empty
// file, one of several blocks, and a folder in a folder.
func driver(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	big := make([]byte, 150_000)
	for i := range big {
		big[i] = byte(rand.N(7)) // packs, but not to nothing
	}
	for name, content := range map[string][]byte{
		"Read me first.txt": []byte("made up"), "Net/Alder Gigabit/aldernet.inf": []byte("[Version]\r\n"), "Net/Alder Gigabit/ALDERNET.SYS": big, "Net/empty.cat": nil,
	} {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, content, 0o644))
	}
	return dir
}

func files(t *testing.T, dir string) map[string]string {
	t.Helper()
	all := map[string]string{}
	require.NoError(t, fs.WalkDir(os.DirFS(dir), ".", func(name string, e fs.DirEntry, err error) error {
		if err == nil && !e.IsDir() {
			b, readErr := fs.ReadFile(os.DirFS(dir), name)
			all[name], err = string(b), readErr
		}
		return err
	}))
	return all
}

func command(t *testing.T, dir string, argv ...string) {
	t.Helper()
	cmd := exec.CommandContext(t.Context(), argv[0], argv[1:]...)
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%v: %s", argv, out)
}

func unpack(t *testing.T, b []byte, l archive.Limits) (dir string, skipped []string, err error) {
	t.Helper()
	dir = t.TempDir()
	root, err := os.OpenRoot(dir)
	require.NoError(t, err)
	defer root.Close()
	skipped, err = archive.Unpack(bytes.NewReader(b), int64(len(b)), root, l)
	return dir, skipped, err
}

// Archives come from the system's own tools.
func TestUnpack(t *testing.T) {
	from := driver(t)
	want := files(t, from)
	for name, argv := range map[string][]string{
		"zip":            {"zip", "-qr", "OUT", "."},
		"tar":            {"tar", "-cf", "OUT", "."},
		"tar.gz":         {"tar", "-czf", "OUT", "."},
		"tar.xz":         {"tar", "-cJf", "OUT", "."},
		"tar.zst":        {"tar", "--zstd", "-cf", "OUT", "."},
		"tar.bz2":        {"tar", "-cjf", "OUT", "."},
		"Joliet":         {"genisoimage", "-quiet", "-J", "-joliet-long", "-o", "OUT", "."},
		"Rock Ridge":     {"xorriso", "-outdev", "stdio:OUT", "-map", ".", "/"},
		"UDF":            {"genisoimage", "-quiet", "-udf", "-allow-limited-size", "-o", "OUT", "."},
		"cab, zipped":    {"sh", "-c", `gcab -c -n -z OUT "Read me first.txt" "Net/Alder Gigabit/aldernet.inf" "Net/Alder Gigabit/ALDERNET.SYS" Net/empty.cat`},
		"cab, stored":    {"sh", "-c", `gcab -c -n OUT "Read me first.txt" "Net/Alder Gigabit/aldernet.inf" "Net/Alder Gigabit/ALDERNET.SYS" Net/empty.cat`},
		"Debian package": {"sh", "-c", `mkdir -p ../deb/DEBIAN && cp -r . ../deb/ && printf "Package: made-up\nVersion: 1\nArchitecture: all\nMaintainer: Nobody <nobody@example.org>\nDescription: made up\n" >../deb/DEBIAN/control && dpkg-deb --build ../deb OUT`},
	} {
		t.Run(name, func(t *testing.T) {
			work := t.TempDir()
			require.NoError(t, os.CopyFS(filepath.Join(work, "in"), os.DirFS(from)))
			out := filepath.Join(work, "out")
			if name == "zip" {
				out += ".zip"
			}
			for i, a := range argv {
				argv[i] = string(bytes.ReplaceAll([]byte(a), []byte("OUT"), []byte(out)))
			}
			command(t, filepath.Join(work, "in"), argv...)
			b, err := os.ReadFile(out)
			require.NoError(t, err)
			dir, skipped, err := unpack(t, b, archive.Limits{})
			require.NoError(t, err)
			assert.Empty(t, skipped)
			got := files(t, dir)
			require.Len(t, got, len(want))
			for path, content := range want {
				if strings.HasPrefix(name, "cab") { // its maker leaves folders out
					path = filepath.Base(path)
				}
				assert.True(t, got[path] == content, "%s of %d bytes, %d wanted", path, len(got[path]), len(content))
			}
		})
	}
}

func tarOf(t *testing.T, headers ...tar.Header) []byte {
	t.Helper()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, h := range headers {
		h.Mode = 0o644
		require.NoError(t, w.WriteHeader(&h))
		_, err := w.Write(make([]byte, h.Size))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

func TestNothingLeadsOut(t *testing.T) {
	dir, skipped, err := unpack(t, tarOf(t,
		tar.Header{Name: "../outside.inf", Typeflag: tar.TypeReg, Size: 3},
		tar.Header{Name: "a/../../outside.inf", Typeflag: tar.TypeReg, Size: 3},
		tar.Header{Name: `..\outside.inf`, Typeflag: tar.TypeReg, Size: 3},
		tar.Header{Name: "link", Linkname: "/etc/passwd", Typeflag: tar.TypeSymlink},
		tar.Header{Name: "hard", Linkname: "good.inf", Typeflag: tar.TypeLink},
		tar.Header{Name: "/good.inf", Typeflag: tar.TypeReg, Size: 3},
		tar.Header{Name: "good.inf", Typeflag: tar.TypeReg, Size: 4},
	), archive.Limits{})
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"good.inf": "\x00\x00\x00"}, files(t, dir))
	assert.Equal(t, []string{
		"../outside.inf: its name leads out of the archive", "a/../../outside.inf: its name leads out of the archive", `..\outside.inf: its name leads out of the archive`,
		"link: a link or a device", "hard: a link or a device", "good.inf: the archive has this name twice",
	}, skipped)
}

func TestABombIsFound(t *testing.T) {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	w, err := z.Create("bomb.inf")
	require.NoError(t, err)
	for range 80 {
		_, err = w.Write(make([]byte, 1<<20))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	_, _, err = unpack(t, b.Bytes(), archive.Limits{})
	assert.ErrorIs(t, err, archive.ErrTooMuch, "80 MiB of %d bytes", b.Len())
	_, _, err = unpack(t, b.Bytes(), archive.Limits{Bytes: 1 << 20, Ratio: 1 << 30})
	assert.ErrorIs(t, err, archive.ErrTooMuch)
	_, _, err = unpack(t, tarOf(t, tar.Header{Name: "a", Typeflag: tar.TypeReg}, tar.Header{Name: "b", Typeflag: tar.TypeReg}), archive.Limits{Files: 1})
	assert.ErrorIs(t, err, archive.ErrTooMuch)
}

func TestWhatIsNoArchive(t *testing.T) {
	for name, b := range map[string][]byte{"nothing": nil, "text": []byte("[Version]\n"), "zeros": make([]byte, 100_000)} {
		_, _, err := unpack(t, b, archive.Limits{})
		assert.ErrorIs(t, err, archive.ErrUnknown, name)
	}
	for name, b := range map[string][]byte{"cab": []byte("MSCF\x00"), "zip": []byte("PK\x03\x04....."), "gzip": []byte("\x1f\x8b\x08....."), "Debian": []byte("!<arch>\nx")} {
		_, _, err := unpack(t, b, archive.Limits{})
		assert.ErrorIs(t, err, archive.ErrDamaged, name)
	}
}

// A cabinet that is compressed in a way that is not read names each file that is
// left out.
func TestACabinetOfAnotherKind(t *testing.T) {
	work := driver(t)
	command(t, work, "gcab", "-c", "-n", "-z", "out.cab", "Read me first.txt")
	b, err := os.ReadFile(filepath.Join(work, "out.cab"))
	require.NoError(t, err)
	b[36+6] = 3 // the kind of its first folder
	dir, skipped, err := unpack(t, b, archive.Limits{})
	require.NoError(t, err)
	assert.Empty(t, files(t, dir))
	assert.Equal(t, []string{"Read me first.txt: it is compressed by LZX, which is not read here; unpack the cabinet first"}, skipped)
}

func FuzzUnpack(f *testing.F) {
	dir := f.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "a.inf"), bytes.Repeat([]byte("made up "), 40), 0o644); err != nil {
		f.Fatal(err)
	}
	for _, argv := range [][]string{
		{"gcab", "-c", "-n", "-z", "out", "a.inf"}, {"genisoimage", "-quiet", "-udf", "-o", "out", "a.inf"}, {"genisoimage", "-quiet", "-J", "-o", "out", "a.inf"},
		{"tar", "-cf", "out", "a.inf"},
	} {
		cmd := exec.Command(argv[0], argv[1:]...)
		cmd.Dir = dir
		if out, err := cmd.CombinedOutput(); err != nil {
			f.Fatalf("%v: %v: %s", argv, err, out)
		}
		b, err := os.ReadFile(filepath.Join(dir, "out"))
		if err != nil {
			f.Fatal(err)
		}
		os.Remove(filepath.Join(dir, "out"))
		f.Add(b)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		root, err := os.OpenRoot(t.TempDir())
		require.NoError(t, err)
		defer root.Close()
		_, err = archive.Unpack(bytes.NewReader(b), int64(len(b)), root, archive.Limits{Bytes: 1 << 20, Files: 100})
		_ = err // any error will do; what counts is that it ends, in bounds
	})
}
