package main

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"jugate/demo/golddisk"
)

// pack measures `jugate disk pack` beside tar and zstd on the same files: many small ones, and
// a gigabyte of this machine's programs.
func pack(ctx context.Context, dir string) error {
	volume, file := path(dir, "volume"), path(dir, "packed")
	for _, c := range []struct {
		what   string
		size   int64
		fill   func(mounted string) error
		wanted string
	}{
		{"80,000 files of at most 4 KiB", 1 << 30, smallFiles, "at most 0.15"},
		{"1 GiB of programs", 3 << 29, func(mounted string) error {
			left := int64(1 << 30)
			return fillFrom("/usr", mounted, &left)
		}, "at most 0.8"},
	} {
		os.Remove(volume)
		if err := golddisk.BuildVolume(ctx, golddisk.VolumeSpec{Path: volume, Size: c.size, Mkfs: []string{"mkfs.ext4", "-q", "-F", "-N", "200000"}, Fill: c.fill}); err != nil {
			return err
		}
		var ours, theirs []float64
		for range rounds {
			forget()
			took, err := shell(ctx, fmt.Sprintf("%[3]s disk pack %[1]s --into %[2]s --despite benchmark --replace >/dev/null 2>&1 && sync %[2]s", volume, file, executable))
			if err != nil {
				return err
			}
			ours = append(ours, took)
			err = golddisk.Mounted(ctx, volume, "ext4", true, func(mounted string) (err error) {
				forget()
				took, err = shell(ctx, fmt.Sprintf("tar -C %s -cf - . | zstd -1 -T0 -q -f -o %s && sync %[2]s", mounted, file))
				return err
			})
			if err = errors.Join(err, os.Remove(file)); err != nil {
				return err
			}
			theirs = append(theirs, took)
		}
		fmt.Printf("| pack of %s / `tar` and `zstd -1 -T0` | %s | %s | %.2f | %s |\n", c.what, span(ours), span(theirs), median(ours)/median(theirs), c.wanted)
	}
	return nil
}

// smallFiles copies small files that this machine has.
func smallFiles(mounted string) error {
	left := 80_000
	roots, err := exec.Command("go", "env", "GOROOT", "GOMODCACHE").Output()
	if err != nil {
		return err
	}
	for i, root := range append(strings.Fields(string(roots)), "/usr") {
		err := fs.WalkDir(os.DirFS(root), ".", func(name string, e fs.DirEntry, err error) error {
			if err != nil || left == 0 || !e.Type().IsRegular() {
				return nil // what cannot be read is left out
			}
			if info, err := e.Info(); err != nil || info.Size() > 4<<10 {
				return nil
			}
			content, err := os.ReadFile(path(root, name))
			if err != nil {
				return nil
			}
			to := path(mounted, fmt.Sprint(i), name)
			if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
				return err
			}
			left--
			return os.WriteFile(to, content, 0o644)
		})
		if err != nil {
			return err
		}
	}
	if left > 0 {
		return fmt.Errorf("this machine has %d small files too few", left)
	}
	return nil
}
