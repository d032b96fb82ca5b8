package agent

import (
	"archive/tar"
	"bytes"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/disk"
	"jugate/core/volume"
	"jugate/demo/golddisk"
)

// home is a disk with a system in which people have files.
func home(t *testing.T, passwd string, fill func(dir string) error) *hardwareDisk {
	t.Helper()
	path, vol := filepath.Join(t.TempDir(), "disk"), filepath.Join(t.TempDir(), "volume")
	require.NoError(t, golddisk.Blank(path, 80*mib))
	require.NoError(t, golddisk.Partition(t.Context(), path, 512, "label: gpt\nstart=1M, size=64M, type=linux\n"))
	require.NoError(t, golddisk.BuildVolume(t.Context(), golddisk.VolumeSpec{Path: vol, Size: 64 * mib, Mkfs: []string{"mkfs.ext4", "-q", "-F"}, Fill: func(dir string) error {
		if err := os.MkdirAll(filepath.Join(dir, "etc"), 0o755); err != nil {
			return err
		}
		return errors.Join(os.WriteFile(filepath.Join(dir, "etc/passwd"), []byte(passwd), 0o644), os.WriteFile(filepath.Join(dir, "etc/os-release"), nil, 0o644), fill(dir))
	}}))
	require.NoError(t, golddisk.Put(path, mib, vol))
	d, err := disk.Open(path, disk.Options{Write: true})
	require.NoError(t, err)
	t.Cleanup(func() { d.Close() })
	return &hardwareDisk{d}
}

var written = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

// People's files come onto the new system with their times, rights and owners, by the name that these have there.
func TestFoldersGoBack(t *testing.T) {
	old := home(t, "root:x:0:0::/root:/bin/sh\nwren:x:1000:1000::/home/wren:/bin/sh\n", func(dir string) error {
		letters := filepath.Join(dir, "home/wren/letters")
		if err := os.MkdirAll(letters, 0o755); err != nil {
			return err
		}
		name := filepath.Join(letters, "to the gardener.txt")
		return errors.Join(os.WriteFile(name, bytes.Repeat([]byte("dear "), 100_000), 0o600), os.Chown(name, 1000, 1000), os.Chtimes(name, written, written),
			os.Symlink("letters/to the gardener.txt", filepath.Join(dir, "home/wren/last")), os.Lchown(filepath.Join(dir, "home/wren/last"), 1000, 1000),
			os.Chown(filepath.Join(dir, "home/wren"), 1000, 1000), os.Chmod(filepath.Join(dir, "home/wren"), 0o750), syscall.Mkfifo(filepath.Join(dir, "home/wren/pipe"), 0o600),
			os.WriteFile(filepath.Join(dir, "etc/secret"), []byte("stays"), 0o600))
	})
	a := New(nil, nil, Options{})
	var packed bytes.Buffer
	require.NoError(t, a.packFolders(t.Context(), old, []string{"home"}, &packed))
	assert.ErrorContains(t, a.packFolders(t.Context(), old, []string{"home", "srv/photos"}, &bytes.Buffer{}), "the disk has no folder srv/photos", "nobody is to think that it was saved")
	assert.ErrorContains(t, a.packFolders(t.Context(), old, []string{"etc/passwd"}, &bytes.Buffer{}), "no folder etc/passwd", "that is a file")

	fresh := home(t, "root:x:0:0::/root:/bin/sh\nines:x:1000:1000::/home/ines:/bin/sh\nwren:x:1001:1001::/home/wren:/bin/sh\n", func(dir string) error {
		wren := filepath.Join(dir, "home/wren")
		return errors.Join(os.MkdirAll(wren, 0o755), os.WriteFile(filepath.Join(wren, "last"), []byte("another"), 0o644))
	})
	system, err := fresh.MountSystem(mib, &volume.Volume{Kind: volume.Ext, Size: 64 * mib})
	require.NoError(t, err)
	placed, err := unpackFolders(t.Context(), system.(Placer), system, &packed)
	require.NoError(t, err)
	assert.Equal(t, 5, placed, "three folders, a file and a link")
	require.NoError(t, system.Close())

	files, err := mount(fresh.File, mib, 64*mib, "ext4", "noload")
	require.NoError(t, err)
	defer files.Close()
	of := func(name string) (fs.FileInfo, *syscall.Stat_t) {
		info, err := files.root.Lstat(name)
		require.NoError(t, err)
		return info, info.Sys().(*syscall.Stat_t)
	}
	info, st := of("home/wren/letters/to the gardener.txt")
	assert.Equal(t, []any{fs.FileMode(0o600), int64(500_000), uint32(1001), true}, []any{info.Mode(), info.Size(), st.Uid, info.ModTime().Equal(written)})
	info, st = of("home/wren")
	assert.Equal(t, []any{fs.ModeDir | 0o750, uint32(1001)}, []any{info.Mode(), st.Uid})
	target, err := files.root.Readlink("home/wren/last")
	require.NoError(t, err, "it takes the place of what was there")
	assert.Equal(t, "letters/to the gardener.txt", target)
	_, err = files.root.Lstat("etc/secret")
	assert.ErrorIs(t, err, fs.ErrNotExist)
}

// An archive that somebody has made up leads nowhere else.
func FuzzFoldersGoBack(f *testing.F) {
	f.Add([]byte("no archive"))
	f.Fuzz(func(t *testing.T, b []byte) {
		dir := t.TempDir()
		system := folderVolume{os.DirFS(dir), dir}
		unpackFolders(t.Context(), nothingPlaced{}, system, bytes.NewReader(b))
	})
}

type nothingPlaced struct{}

func (nothingPlaced) Place(h *tar.Header, content io.Reader) error {
	if !fs.ValidPath(h.Name) {
		panic(h.Name)
	}
	_, err := io.Copy(io.Discard, content)
	return err
}
