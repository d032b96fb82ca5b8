package golddisk

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"

	"github.com/zeebo/blake3"
)

// On is the same layout in another disk file, one that was delivered.
func (d *Disk) On(path string) *Disk {
	other := *d
	other.Path = path
	return &other
}

// Dump is what sfdisk says of the table, without the lines that name the file
// and without the last usable sector, which follows the disk's size.
func (d *Disk) Dump(ctx context.Context) (string, error) {
	out, err := run(ctx, "", "sfdisk", "--dump", d.Path)
	if err != nil {
		return "", err
	}
	// A partition is named by the file's path, a "p" if that ends in a digit, and its number.
	node := regexp.MustCompile(`(?m)^` + regexp.QuoteMeta(d.Path) + `p?(\d+ :)`)
	var kept []string
	for line := range strings.Lines(node.ReplaceAllString(string(out), "partition $1")) {
		if !strings.HasPrefix(line, "device:") && !strings.HasPrefix(line, "last-lba:") {
			kept = append(kept, line)
		}
	}
	return strings.Join(kept, ""), nil
}

var lastPartition = regexp.MustCompile(`(?s)(.*partition \d+ : start=\s*)(\d+)(, size=\s*)(\d+)(.*)`)

// Grown is the dump of a GPT as it must be on a disk of size bytes, the same as
// that of the disk it was read from or larger: the last partition has grown by
// all whole MiB in front of the backup table.
func Grown(dump string, size int64) string {
	m := lastPartition.FindStringSubmatch(dump)
	if m == nil {
		return dump
	}
	start, _ := strconv.ParseInt(m[2], 10, 64)
	sectors, _ := strconv.ParseInt(m[4], 10, 64)
	sectors += (size/512 - 33 - start - sectors) / 2048 * 2048
	return m[1] + m[2] + m[3] + fmt.Sprintf("%*d", len(m[4]), sectors) + m[5]
}

// VerifyTable lets sfdisk check both copies of the table.
func (d *Disk) VerifyTable(ctx context.Context) error {
	out, err := run(ctx, "", "sfdisk", "--verify", d.Path)
	if err == nil && !strings.Contains(string(out), "No errors detected") {
		err = fmt.Errorf("sfdisk --verify: %s", out)
	}
	return err
}

// Partition lets sfdisk write a table. For sectors of other than 512 bytes it
// needs a loop device, and root.
func Partition(ctx context.Context, path string, sectorSize int, script string) error {
	return onSectors(ctx, path, sectorSize, func(path string) error {
		_, err := run(ctx, script, "sfdisk", "--quiet", path)
		return err
	})
}

// VerifyPartitions lets sfdisk check the table of a disk.
func VerifyPartitions(ctx context.Context, path string, sectorSize int) error {
	return onSectors(ctx, path, sectorSize, func(path string) error {
		return (&Disk{Path: path}).VerifyTable(ctx)
	})
}

// onSectors calls f with the path, or for other sectors with a device of them.
func onSectors(ctx context.Context, path string, sectorSize int, f func(path string) error) error {
	if sectorSize == 512 {
		return f(path)
	}
	out, err := run(ctx, "", "losetup", "--sector-size", strconv.Itoa(sectorSize), "--find", "--show", path)
	if err != nil {
		return err
	}
	device := strings.TrimSpace(string(out))
	err = f(device)
	_, detached := run(ctx, "", "losetup", "-d", device)
	return errors.Join(err, detached)
}

// Check lets e2fsck and fsck.vfat check both file systems, changing nothing.
func (d *Disk) Check(ctx context.Context) error {
	if _, err := run(ctx, "", "e2fsck", "-f", "-n", d.root()); err != nil {
		return err
	}
	esp, err := d.Extract(d.ESPStart, d.ESPSize)
	if err != nil {
		return err
	}
	defer os.Remove(esp)
	_, err = run(ctx, "", "fsck.vfat", "-n", esp)
	return err
}

// Files gives the digest of every file on both volumes, read with debugfs and
// mcopy; names begin with root/ or esp/.
func (d *Disk) Files(ctx context.Context) (map[string]string, error) {
	dir, err := os.MkdirTemp("", "golddisk")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	for _, sub := range []string{"root", "esp"} {
		if err := os.Mkdir(filepath.Join(dir, sub), 0o755); err != nil {
			return nil, err
		}
	}
	if _, err := run(ctx, "", "debugfs", "-R", "rdump / "+filepath.Join(dir, "root"), d.root()); err != nil {
		return nil, err
	}
	if _, err := run(ctx, "", "mcopy", "-s", "-n", "-i", fmt.Sprintf("%s@@%d", d.Path, d.ESPStart), "::/*", filepath.Join(dir, "esp")); err != nil {
		return nil, err
	}
	digests := map[string]string{}
	err = filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		content, err := os.ReadFile(path)
		rel, _ := filepath.Rel(dir, path)
		digests[rel] = fmt.Sprintf("%x", blake3.Sum256(content))
		return err
	})
	return digests, err
}

var (
	blockCount = regexp.MustCompile(`(?m)^Block count:\s+(\d+)$`)
	freeBlocks = regexp.MustCompile(`(?m)^Free blocks:\s+(\d+)$`)
	blockSize  = regexp.MustCompile(`(?m)^Block size:\s+(\d+)$`)
)

// RootUsed is how many bytes of the root volume dumpe2fs calls used.
func (d *Disk) RootUsed(ctx context.Context) (int64, error) {
	vol, err := d.Extract(d.RootStart, d.RootSize)
	if err != nil {
		return 0, err
	}
	defer os.Remove(vol)
	out, err := run(ctx, "", "dumpe2fs", "-h", vol)
	if err != nil {
		return 0, err
	}
	var n [3]int64
	for i, re := range []*regexp.Regexp{blockCount, freeBlocks, blockSize} {
		m := re.FindSubmatch(out)
		if m == nil {
			return 0, errors.New("dumpe2fs does not tell " + re.String())
		}
		n[i], _ = strconv.ParseInt(string(m[1]), 10, 64)
	}
	return (n[0] - n[1]) * n[2], nil
}

// Extract copies a stretch of the disk into a file of its own, for tools
// that take no offset, and returns its name; the caller removes it.
func (d *Disk) Extract(start, size int64) (string, error) {
	in, err := os.Open(d.Path)
	if err != nil {
		return "", err
	}
	defer in.Close()
	out, err := os.CreateTemp("", "golddisk")
	if err != nil {
		return "", err
	}
	_, err = io.Copy(out, io.NewSectionReader(in, start, size))
	return out.Name(), errors.Join(err, out.Close())
}
