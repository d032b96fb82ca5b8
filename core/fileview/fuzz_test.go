package fileview_test

import (
	"bytes"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"jugate/core/fileview"
	"jugate/core/volume"
	"jugate/demo/golddisk"
)

// FuzzExtFiles walks through volumes with some bytes changed, four bytes of input each: a
// place, and by what. It has to come to an end without a panic.
func FuzzExtFiles(f *testing.F) {
	var sound [][]byte
	for _, mkfs := range []string{"mkfs.ext4 -q -F -b 1024 -O inline_data -I 256", "mkfs.ext2 -q -F -b 1024 -I 128"} {
		path := filepath.Join(f.TempDir(), "volume")
		require.NoError(f, golddisk.BuildVolume(f.Context(), golddisk.VolumeSpec{Path: path, Size: 2 << 20, Mkfs: strings.Fields(mkfs), Fill: func(dir string) error {
			if err := os.MkdirAll(filepath.Join(dir, "etc", "ssh"), 0o755); err != nil {
				return err
			}
			if err := os.Symlink("ssh/key", filepath.Join(dir, "etc", "link")); err != nil {
				return err
			}
			return os.WriteFile(filepath.Join(dir, "etc", "ssh", "key"), bytes.Repeat([]byte("leaf"), 50_000), 0o644)
		}}))
		b, err := os.ReadFile(path)
		require.NoError(f, err)
		sound = append(sound, b)
	}
	f.Add(false, []byte{})
	f.Add(true, []byte{0, 4, 0x58, 1, 1, 0, 0, 0xff})
	f.Fuzz(func(t *testing.T, old bool, patches []byte) {
		b := sound[0]
		if old {
			b = sound[1]
		}
		b = bytes.Clone(b)
		for ; len(patches) >= 4; patches = patches[4:] {
			b[(int(patches[0])<<16|int(patches[1])<<8|int(patches[2]))%len(b)] ^= patches[3]
		}
		files, err := fileview.Open(bytes.NewReader(b), int64(len(b)), volume.Ext)
		if err != nil {
			return
		}
		seen := 0
		fs.WalkDir(files, ".", func(path string, e fs.DirEntry, err error) error {
			if seen++; seen > 1000 {
				return fs.SkipAll
			}
			if err != nil {
				return nil
			}
			if file, err := files.Open(path); err == nil && !e.IsDir() {
				io.CopyN(io.Discard, file, 1<<20)
			}
			fs.Stat(files, "etc/link")
			return nil
		})
	})
}
