// Package golddisk makes the disks of the demo and the tests with the real
// tools of the operating system (sfdisk, mkfs.vfat, mkfs.ext4, mcopy), and lets
// other tools judge what became of them (fsck, debugfs).
//
// Everything happens inside a plain file: no loop device, no mount, no root.
package golddisk

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
)

// MiB is 2^20 bytes.
const MiB = 1 << 20

// Spec says what disk to make. Sizes are bytes; zero values take the defaults
// of Build.
type Spec struct {
	Path string
	// Size is the whole disk's, 72 MiB by default.
	Size int64
	// ESP is the EFI partition's size, 33 MiB by default (mkfs.vfat makes
	// FAT12, 16 or 32 of it as FATBits says; FAT32 needs 33 MiB).
	ESP     int64
	FATBits int // 32 by default
	// Root is the root volume's size; by default it takes the rest of the disk.
	Root int64
	// Ext4 are further arguments for mkfs.ext4, such as "-O", "bigalloc".
	Ext4 []string
	// Data is how many bytes of files to put onto the root volume, 10 MiB by default.
	Data int64
	// Seed makes the files' content; the same seed makes the same files.
	Seed uint64
	// Other, if not nil, becomes the content of a third partition that holds no
	// file system.
	Other []byte
	// Also adds more files below the folder that becomes the root volume.
	Also func(root string) error
}

// Disk says where things lie on a disk that Build made, in bytes.
type Disk struct {
	Path                string
	Size                int64
	ESPStart, ESPSize   int64
	RootStart, RootSize int64
	OtherSize           int64 // right behind the root volume
}

// Build makes the disk.
func Build(ctx context.Context, s Spec) (*Disk, error) {
	if s.Size == 0 {
		s.Size = 72 * MiB
	}
	if s.ESP == 0 {
		s.ESP = 33 * MiB
	}
	if s.FATBits == 0 {
		s.FATBits = 32
	}
	if s.Data == 0 {
		s.Data = 10 * MiB
	}
	other := (int64(len(s.Other)) + MiB - 1) / MiB * MiB
	d := &Disk{Path: s.Path, Size: s.Size, ESPStart: MiB, ESPSize: s.ESP, RootStart: MiB + s.ESP, OtherSize: other}
	d.RootSize = (s.Size - d.RootStart - other - MiB) / MiB * MiB
	if s.Root > 0 {
		d.RootSize = min(d.RootSize, s.Root)
	}
	if d.RootSize < 8*MiB {
		return nil, fmt.Errorf("a disk of %d bytes leaves no room for the root volume", s.Size)
	}
	if err := Blank(s.Path, s.Size); err != nil {
		return nil, err
	}
	files, err := os.MkdirTemp("", "golddisk")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(files)
	if err := writeFiles(files, s); err != nil {
		return nil, err
	}
	if s.Also != nil {
		if err := s.Also(filepath.Join(files, "root")); err != nil {
			return nil, err
		}
	}

	script := fmt.Sprintf("label: gpt\nfirst-lba: 34\nstart=%d, size=%d, type=uefi, name=\"EFI system\"\nstart=%d, size=%d, type=linux, name=\"desk root\"\n",
		d.ESPStart/512, d.ESPSize/512, d.RootStart/512, d.RootSize/512)
	if other > 0 {
		script += fmt.Sprintf("start=%d, size=%d, type=linux, name=\"notes\"\n", (d.RootStart+d.RootSize)/512, other/512)
	}
	mkext4 := append([]string{"-q", "-F", "-L", "desk-root", "-d", filepath.Join(files, "root"), "-E", fmt.Sprintf("offset=%d", d.RootStart)}, s.Ext4...)
	mkext4 = append(mkext4, s.Path, fmt.Sprintf("%dk", d.RootSize/1024))
	mkvfat := []string{"mkfs.vfat", "-F", fmt.Sprint(s.FATBits), "-n", "DESK-EFI", "--offset", fmt.Sprint(d.ESPStart / 512)}
	if s.FATBits == 32 {
		mkvfat = append(mkvfat, "-s", "1") // it would choose by the size of the whole file, and make too few clusters
	}
	for _, c := range []struct {
		stdin string
		argv  []string
	}{
		{script, []string{"sfdisk", "--quiet", s.Path}},
		{"", append(mkvfat, s.Path, fmt.Sprint(d.ESPSize/1024))},
		{"", []string{"mcopy", "-s", "-i", fmt.Sprintf("%s@@%d", s.Path, d.ESPStart), filepath.Join(files, "esp", "EFI"), "::/"}},
		{"", append([]string{"mkfs.ext4"}, mkext4...)},
	} {
		if _, err := run(ctx, c.stdin, c.argv...); err != nil {
			return nil, err
		}
	}
	if other > 0 {
		f, err := os.OpenFile(s.Path, os.O_WRONLY, 0)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		if _, err := f.WriteAt(s.Other, d.RootStart+d.RootSize); err != nil {
			return nil, err
		}
	}
	return d, nil
}

// Blank makes a disk file of size bytes that holds nothing.
func Blank(path string, size int64) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	return errors.Join(f.Truncate(size), f.Close())
}

// AddFile puts one more file onto the root volume with debugfs, the small
// change after which an engineer captures again.
func (d *Disk) AddFile(ctx context.Context, name string, content []byte) error {
	tmp, err := os.CreateTemp("", "golddisk")
	if err != nil {
		return err
	}
	defer os.Remove(tmp.Name())
	_, err = tmp.Write(content)
	if err = errors.Join(err, tmp.Close()); err != nil {
		return err
	}
	_, err = run(ctx, "", "debugfs", "-w", "-R", fmt.Sprintf("write %s %s", tmp.Name(), name), d.root())
	return err
}

// AddFolder makes a folder on the root volume.
func (d *Disk) AddFolder(ctx context.Context, name string) error {
	_, err := run(ctx, "", "debugfs", "-w", "-R", "mkdir "+name, d.root())
	return err
}

// root names the root volume for the e2fsprogs: a file and an offset in it.
func (d *Disk) root() string { return fmt.Sprintf("%s?offset=%d", d.Path, d.RootStart) }

// writeFiles makes a small made-up system: part text, part noise.
func writeFiles(dir string, s Spec) error {
	var seed [32]byte
	binary.LittleEndian.PutUint64(seed[:], s.Seed)
	r := rand.NewChaCha8(seed)
	files := map[string][]byte{
		"esp/EFI/BOOT/BOOTX64.EFI":  noise(r, 700_000),
		"esp/EFI/fennholt/boot.cfg": []byte("start desk-root\n"),
		"root/etc/os-release":       []byte("NAME=\"Fennholt Desk\"\nVERSION_ID=12\n"),
		"root/etc/hostname":         []byte("desk\n"),
		"root/etc/empty":            nil,
	}
	for i, left := 0, s.Data; left > 0; i++ {
		n := min(left, 64<<10+int64(r.Uint64()%(2*MiB)))
		content := noise(r, int(n))
		if i%2 == 0 {
			content = labels(r, int(n))
		}
		files[fmt.Sprintf("root/srv/herbarium/sheet-%03d", i)] = content
		left -= n
	}
	for name, content := range files {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(path, content, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// noise does not compress.
func noise(r *rand.ChaCha8, n int) []byte {
	b := make([]byte, n)
	r.Read(b)
	return b
}

var words = strings.Fields("fern moss sedge alder birch hazel willow sorrel clover vetch thrift campion pressed leaf stem root north slope damp shade collected")

// labels is text that compresses about as well as a system's files do: lines of
// two words and a number.
func labels(r *rand.ChaCha8, n int) []byte {
	b := make([]byte, 0, n+64)
	for len(b) < n {
		dice := r.Uint64()
		b = append(b, words[dice%uint64(len(words))]...)
		b = append(b, ' ')
		b = append(b, words[dice>>8%uint64(len(words))]...)
		b = append(b, ' ')
		b = strconv.AppendUint(b, dice>>40, 10)
		b = append(b, '\n')
	}
	return b[:n]
}

func run(ctx context.Context, stdin string, argv ...string) ([]byte, error) {
	cmd := exec.CommandContext(ctx, argv[0], argv[1:]...)
	cmd.Env = append(os.Environ(), "PATH="+os.Getenv("PATH")+":/usr/sbin:/sbin", "LC_ALL=C", "MTOOLS_SKIP_CHECK=1")
	if path, err := lookPath(argv[0]); err == nil {
		cmd.Path, cmd.Err = path, nil
	}
	cmd.Stdin = strings.NewReader(stdin)
	out, err := cmd.CombinedOutput()
	if err != nil {
		return out, fmt.Errorf("%s: %w\n%s", strings.Join(argv, " "), err, out)
	}
	return out, nil
}

// lookPath also finds the system tools that an engineer's PATH leaves out.
func lookPath(name string) (string, error) {
	for _, dir := range []string{"/usr/sbin", "/sbin"} {
		if info, err := os.Stat(filepath.Join(dir, name)); err == nil && info.Mode().IsRegular() {
			return filepath.Join(dir, name), nil
		}
	}
	return exec.LookPath(name)
}

// Tools names the programs that Build and the judges call and that are missing here.
func Tools() (missing []string) {
	for _, name := range []string{"sfdisk", "mkfs.vfat", "mkfs.ext4", "mcopy", "debugfs", "e2fsck", "fsck.vfat", "dumpe2fs"} {
		if _, err := lookPath(name); errors.Is(err, fs.ErrNotExist) || errors.Is(err, exec.ErrNotFound) {
			missing = append(missing, name)
		}
	}
	return missing
}

// Run calls one of the system's disk tools and returns what it prints.
func Run(ctx context.Context, argv ...string) ([]byte, error) { return run(ctx, "", argv...) }
