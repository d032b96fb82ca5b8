package golddisk

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/zeebo/blake3"
)

// VolumeSpec says what single volume to make in a file, with its real mkfs.
type VolumeSpec struct {
	Path string
	Size int64
	// Mkfs is the program with its arguments; the path is added.
	Mkfs []string
	// Data is how many bytes of files to put in, Seed makes their content.
	Data int64
	Seed uint64
	// Fragmented puts in twice the files and removes every second one.
	Fragmented bool
	// Fill, if set, adds to the mounted volume.
	Fill func(dir string) error
}

// BuildVolume makes the volume. Writing files needs root, to mount it.
func BuildVolume(ctx context.Context, s VolumeSpec) error {
	if err := Blank(s.Path, s.Size); err != nil {
		return err
	}
	if _, err := run(ctx, "", append(s.Mkfs, s.Path)...); err != nil {
		return err
	}
	if s.Data == 0 && s.Fill == nil {
		return nil
	}
	return Mounted(ctx, s.Path, kindOf(s.Mkfs), false, func(dir string) error {
		var seed [32]byte
		binary.LittleEndian.PutUint64(seed[:], s.Seed)
		if err := spread(filepath.Join(dir, "srv", "herbarium"), rand.NewChaCha8(seed), s.Data, s.Fragmented); err != nil {
			return err
		}
		if s.Fill != nil {
			return s.Fill(dir)
		}
		return nil
	})
}

// spread writes files of up to 256 KiB that hold n bytes together; fragmented
// writes as many again between them and takes those away.
func spread(dir string, r *rand.ChaCha8, n int64, fragmented bool) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	var gone []string
	for i := 0; n > 0; i++ {
		length := min(n, int64(1+r.Uint64()%(256<<10)))
		name := filepath.Join(dir, fmt.Sprintf("sheet-%05d", i))
		if err := os.WriteFile(name, noise(r, int(length)), 0o644); err != nil {
			return err
		}
		if fragmented {
			other := filepath.Join(dir, fmt.Sprintf("gone-%05d", i))
			if err := os.WriteFile(other, labels(r, int(1+r.Uint64()%(64<<10))), 0o644); err != nil {
				return err
			}
			gone = append(gone, other)
		}
		n -= length
	}
	for _, name := range gone {
		if err := os.Remove(name); err != nil {
			return err
		}
	}
	return nil
}

func kindOf(mkfs []string) string { return strings.TrimPrefix(filepath.Base(mkfs[0]), "mkfs.") }

// Mounted calls f with the folder under which the volume in a file can be seen,
// by the kernel or, where that knows the file system not, by a program in user
// space. It needs root.
func Mounted(ctx context.Context, path, kind string, readOnly bool, f func(dir string) error) (err error) {
	dir, err := os.MkdirTemp("", "golddisk")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.Remove(dir), released(ctx, path)) }()
	options := "rw"
	if readOnly {
		options = "ro"
	}
	argv := []string{"mount", "-t", kind, "-o", "loop," + options, path, dir}
	switch kind {
	case "ntfs":
		argv = []string{"ntfs-3g", "-o", options, path, dir}
	case "exfat":
		argv[2] = "exfat-fuse"
	}
	if _, err := run(ctx, "", argv...); err != nil {
		return err
	}
	defer func() { err = errors.Join(err, unmount(ctx, dir)) }()
	return f(dir)
}

// unmount tries again for a while: a program in user space that serves the
// volume can be busy for a moment after the last file was closed.
func unmount(ctx context.Context, dir string) error {
	return again(ctx, func() error {
		_, err := run(ctx, "", "umount", dir)
		return err
	})
}

// released waits until no loop device has the file any more. Whoever makes a mount namespace,
// as "ip netns exec" does, takes a copy of every mount along, and a volume is written back only
// when the last copy goes.
func released(ctx context.Context, path string) error {
	path, err := filepath.Abs(path)
	if err != nil {
		return err
	}
	return again(ctx, func() error {
		devices, err := filepath.Glob("/sys/block/loop*/loop/backing_file")
		for _, d := range devices {
			if of, err := os.ReadFile(d); err == nil && strings.TrimSuffix(string(of), "\n") == path {
				return fmt.Errorf("%s is still in use by %s", path, strings.Split(d, "/")[3])
			}
		}
		return err
	})
}

// again calls f until it succeeds, for some seconds.
func again(ctx context.Context, f func() error) error {
	for try := 0; ; try++ {
		err := f()
		if err == nil || try == 50 {
			return err
		}
		select {
		case <-time.After(100 * time.Millisecond):
		case <-ctx.Done():
			return err
		}
	}
}

// PartitionFiles checks the volume in a stretch of a disk, in bytes, and tells the digests of
// its files by their names.
func PartitionFiles(ctx context.Context, disk string, start, size int64, kind string) (map[string]string, error) {
	d := Disk{Path: disk}
	volume, err := d.Extract(start, size)
	if err != nil {
		return nil, err
	}
	defer os.Remove(volume)
	if err := CheckVolume(ctx, volume, kind); err != nil {
		return nil, err
	}
	return VolumeFiles(ctx, volume, kind)
}

// VolumeFiles gives the digest of every file on the volume, by path.
func VolumeFiles(ctx context.Context, path, kind string) (map[string]string, error) {
	digests := map[string]string{}
	err := Mounted(ctx, path, kind, true, func(dir string) error { return digestAll(dir, digests) })
	return digests, err
}

func digestAll(dir string, digests map[string]string) error {
	return filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		defer f.Close()
		h := blake3.New()
		if _, err := io.Copy(h, f); err != nil {
			return err
		}
		rel, _ := filepath.Rel(dir, path)
		digests[rel] = fmt.Sprintf("%x", h.Sum(nil))
		return nil
	})
}

// CheckVolume lets the file system's own checker look at it, changing nothing.
func CheckVolume(ctx context.Context, path, kind string) error {
	checkers := map[string][]string{
		"ntfs":  {"ntfsfix", "-n"},
		"exfat": {"fsck.exfat", "-n"},
		"xfs":   {"xfs_repair", "-n"},
		"btrfs": {"btrfs", "check", "--readonly", "--check-data-csum"},
		"ext4":  {"e2fsck", "-f", "-n"},
		"ext3":  {"e2fsck", "-f", "-n"},
		"ext2":  {"e2fsck", "-f", "-n"},
		"vfat":  {"fsck.vfat", "-n"},
	}
	argv, ok := checkers[kind]
	if !ok {
		return fmt.Errorf("nothing here checks %s", kind)
	}
	_, err := run(ctx, "", append(argv, path)...)
	return err
}

// VolumeUsed is how many bytes the file system's own tool calls used.
func VolumeUsed(ctx context.Context, path, kind string) (int64, error) {
	ask := func(argv []string, patterns ...string) ([]int64, error) {
		out, err := run(ctx, "", append(argv, path)...)
		if err != nil {
			return nil, err
		}
		var n []int64
		for _, p := range patterns {
			m := regexp.MustCompile(`(?m)` + p).FindSubmatch(out)
			if m == nil {
				return nil, fmt.Errorf("%s does not tell %s:\n%s", argv[0], p, out)
			}
			v, err := strconv.ParseInt(string(m[1]), 10, 64)
			if err != nil {
				return nil, err
			}
			n = append(n, v)
		}
		return n, nil
	}
	switch kind {
	case "ntfs":
		n, err := ask([]string{"ntfscluster", "-i", "-f"}, `bytes per volume\s*: (\d+)`, `bytes of free space\s*: (\d+)`)
		if err != nil {
			return 0, err
		}
		return n[0] - n[1], nil
	case "exfat":
		n, err := ask([]string{"dump.exfat"}, `Cluster size:\s+(\d+)`, `Total Clusters:\s+(\d+)`, `Free Clusters:\s+(\d+)`, `Cluster Heap Offset[^:]*:\s+(\d+)`, `Sector Size Bits:\s+(\d+)`)
		if err != nil {
			return 0, err
		}
		return n[0]*(n[1]-n[2]) + n[3]<<n[4], nil
	case "xfs":
		n, err := ask([]string{"xfs_db", "-r", "-c", "sb 0", "-c", "p blocksize dblocks fdblocks"}, `blocksize = (\d+)`, `dblocks = (\d+)`, `fdblocks = (\d+)`)
		if err != nil {
			return 0, err
		}
		return n[0] * (n[1] - n[2]), nil
	case "btrfs":
		n, err := ask([]string{"btrfs", "inspect-internal", "dump-super"}, `^bytes_used\s+(\d+)`)
		if err != nil {
			return 0, err
		}
		return n[0], nil
	}
	return 0, fmt.Errorf("nothing here tells what is used of %s", kind)
}

// Put copies a volume's file onto a disk file at a byte offset, leaving holes
// where it has some.
func Put(disk string, offset int64, volume string) error {
	in, err := os.Open(volume)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(disk, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	b, zero := make([]byte, 1<<20), make([]byte, 1<<20)
	for at := int64(0); ; {
		n, err := io.ReadFull(in, b)
		if n > 0 && !bytes.Equal(b[:n], zero[:n]) {
			if _, err := out.WriteAt(b[:n], offset+at); err != nil {
				return errors.Join(err, out.Close())
			}
		}
		at += int64(n)
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			return out.Close()
		}
		if err != nil {
			return errors.Join(err, out.Close())
		}
	}
}
