package builds

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"jugate/core/archive"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// pack makes a Debian package of files of this machine, by the tool for that.
func pack(t *testing.T, control string, links map[string]string, files ...string) string {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "DEBIAN"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "DEBIAN/control"), []byte(control+"Architecture: amd64\nMaintainer: Fennholt Botanic Garden <desk@fennholt.example>\nDescription: made up\n"), 0o644))
	for _, f := range files {
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		to := filepath.Join(dir, "usr", strings.TrimPrefix(f, "/usr")) // as systems have it now
		require.NoError(t, os.MkdirAll(filepath.Dir(to), 0o755))
		require.NoError(t, os.WriteFile(to, b, 0o755))
	}
	for name, target := range links {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.Symlink(target, filepath.Join(dir, name)))
	}
	to := filepath.Join(t.TempDir(), "made-up.deb")
	out, err := exec.CommandContext(t.Context(), "dpkg-deb", "--root-owner-group", "-b", dir, to).CombinedOutput()
	require.NoError(t, err, "%s", out)
	return to
}

// libraries are those of a program of this machine.
func libraries(t *testing.T, program string) (all []string) {
	t.Helper()
	out, err := exec.CommandContext(t.Context(), "ldd", program).Output()
	require.NoError(t, err)
	for word := range strings.FieldsSeq(string(out)) {
		if strings.HasPrefix(word, "/") {
			all = append(all, word)
		}
	}
	return all
}

// A layer of programs has what packages have, and programs run in it; what lacks is named before anything is made.
func TestALayerOfPrograms(t *testing.T) {
	libc := pack(t, "Package: small-libc\nVersion: 2.41-1\nProvides: libc-any (= 2.41),\n libc-words\n", nil, libraries(t, "/usr/bin/seq")...)
	shell := pack(t, "Package: small-shell\nVersion: 1:0.5-2\nPre-Depends: small-libc (>= 2.40)\n", map[string]string{"usr/bin/sh": "dash"}, "/usr/bin/dash")
	seq := pack(t, "Package: small-tools\nVersion: 9.7\nDepends: small-shell (>= 1:0.5),\n libc-any (>= 2.41) | other, libc-words, tz-tables\n", nil, "/usr/bin/seq")
	store, err := Open(t.TempDir())
	require.NoError(t, err)
	base := &Build{Number: 1, Parts: map[string]Part{}, Origins: map[string]string{}}
	require.NoError(t, store.putKnown(base, known{}))
	require.NoError(t, store.layer(base, BaseLayer, []content{text("init", 0o755, nil), text("lib/x86_64-linux-gnu/libc.so.6", 0o755, []byte("an older one")), text("bin/sh", 0o755, nil)}))
	require.NoError(t, store.layer(base, SettingsLayer, []content{text("etc/jugate/settings.json", 0o600, nil)}))

	var lacks *Incomplete
	_, err = store.Extend(base, Extension{Number: 2, Programs: &Programs{Files: []string{shell, seq}}})
	require.ErrorAs(t, err, &lacks)
	assert.Equal(t, []string{"small-shell 1:0.5-2 needs small-libc (>= 2.40)", "small-tools 9.7 needs libc-any (>= 2.41) | other", "small-tools 9.7 needs libc-words", "small-tools 9.7 needs tz-tables"}, lacks.Missing)
	b, err := store.Extend(base, Extension{Number: 2, Programs: &Programs{Files: []string{libc, shell, seq}, DoWithout: []string{"tz-tables"}}})
	require.NoError(t, err)
	var names []string
	for _, l := range b.Layers {
		names = append(names, l.Name)
	}
	assert.Equal(t, []string{BaseLayer, ProgramsLayer, SettingsLayer}, names)
	assert.Equal(t, []string{"small-libc 2.41-1", "small-shell 1:0.5-2", "small-tools 9.7"}, b.Layers[1].Packages)

	root := t.TempDir()
	for _, l := range b.Layers { // as the kernel does: what comes later replaces what was there
		f, err := store.Parts.Open(l.Part)
		require.NoError(t, err)
		unpack := exec.CommandContext(t.Context(), "sh", "-c", "zstd -dcq | cpio -idmu --quiet")
		unpack.Dir, unpack.Stdin = root, io.NewSectionReader(f, 0, f.Size)
		out, err := unpack.CombinedOutput()
		require.NoError(t, err, "%s", out)
		require.NoError(t, f.Close())
	}
	run := exec.CommandContext(t.Context(), "chroot", root, "/bin/sh", "-c", "seq 3")
	out, err := run.CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Equal(t, "1\n2\n3\n", string(out))

	again, err := store.Extend(b, Extension{Number: 3, Programs: &Programs{Files: []string{libc, shell}}})
	require.NoError(t, err)
	assert.Len(t, again.Layers, 3, "one layer of programs, in place of the one before")
	_, err = store.Extend(base, Extension{Number: 4, Programs: &Programs{Files: []string{pack(t, "Package: bad\nVersion: 1\n", map[string]string{"init": "/bin/sh"})}}})
	assert.ErrorContains(t, err, "init is of the boot environment itself; bad 1 cannot replace it")
}

func FuzzWhatPackagesNeed(f *testing.F) {
	f.Add("libc6 (>= 2.36), libusb-1.0-0:any | other [amd64] <!nocheck>", "mail-transport-agent (= 1.0)", "1:2.3-4")
	f.Add("${shlibs:Depends}", ",,|", "~")
	f.Fuzz(func(t *testing.T, depends, provides, version string) {
		_, err := lacking([]archive.DebianControl{{Name: "one", Version: version, Depends: depends, Provides: provides}}, nil)
		if err != nil && !bytes.Contains([]byte(fmt.Sprint(err)), []byte("one")) {
			t.Errorf("%v does not say of which package", err)
		}
	})
}
