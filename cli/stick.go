package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"github.com/zeebo/blake3"
	"golang.org/x/sys/unix"

	"jugate/core/capture"
)

// sysRoot is where the kernel tells of devices.
var sysRoot = "/sys"

// stick is a disk that media are written onto.
type stick struct {
	*os.File
	name string // sdc
	size int64  // bytes
}

// openStick opens a removable disk that nobody uses.
func openStick(path string) (*stick, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	var stat unix.Stat_t
	if err := unix.Stat(path, &stat); err != nil {
		return nil, err
	}
	if info.Mode()&os.ModeDevice == 0 || info.Mode()&os.ModeCharDevice != 0 {
		return nil, fmt.Errorf("%s is not a disk; use --into to write a file", path)
	}
	device := filepath.Join(sysRoot, "dev/block", fmt.Sprintf("%d:%d", unix.Major(stat.Rdev), unix.Minor(stat.Rdev)))
	if _, err := os.Stat(filepath.Join(device, "partition")); err == nil {
		return nil, fmt.Errorf("%s is a partition; name the whole disk", path)
	}
	if removable, err := os.ReadFile(filepath.Join(device, "removable")); err != nil || strings.TrimSpace(string(removable)) != "1" {
		return nil, fmt.Errorf("%s is not a removable disk, and only those are overwritten", path)
	}
	f, err := os.OpenFile(path, os.O_RDWR|unix.O_EXCL, 0)
	if errors.Is(err, unix.EBUSY) {
		return nil, fmt.Errorf("%s is in use: a volume of it is mounted; unmount it first", path)
	}
	if err != nil {
		return nil, err
	}
	size, err := f.Seek(0, io.SeekEnd)
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return &stick{f, filepath.Base(path), size}, nil
}

// words say what a disk is.
func (s *stick) words() string {
	read := func(name string) string {
		b, _ := os.ReadFile(filepath.Join(sysRoot, "class/block", s.name, name))
		return strings.TrimSpace(string(b))
	}
	return strings.Join(strings.Fields(fmt.Sprintf("%s: %s %s %s", s.Name(), size(s.size), read("device/vendor"), read("device/model"))), " ")
}

// writeStick writes media onto a removable disk, after showing what is on it, and reads all of it back.
func writeStick(cmd *cobra.Command, path string, yes bool, media func(io.Writer) error) error {
	s, err := openStick(path)
	if err != nil {
		return err
	}
	defer s.Close()
	fmt.Fprintln(cmd.ErrOrStderr(), s.words())
	if survey, err := capture.Look(s, s.size, 512, capture.LookOptions{}); err != nil {
		fmt.Fprintf(cmd.ErrOrStderr(), "  what is on it cannot be told: %v\n", err)
	} else {
		parts := 0
		for _, area := range survey.Areas {
			if area.Partition > 0 {
				parts++
				fmt.Fprintf(cmd.ErrOrStderr(), "  %s  %s  %s  %s, %s in use\n", strconv.Itoa(area.Partition), area.Kind, area.Label, size(area.Size), size(area.UsedBytes))
			}
		}
		if parts == 0 {
			fmt.Fprintln(cmd.ErrOrStderr(), "  no partitions are on it")
		}
	}
	if !yes {
		if err := confirmOr(cmd, "--yes", "all that is on "+path+" would be lost", "All that is on it is lost. Write it?"); err != nil {
			return err
		}
	}
	m := newMeter(cmd.ErrOrStderr(), "writing")
	digest, n, err := s.fill(media)
	m.end()
	if err != nil {
		return err
	}
	fmt.Fprintln(cmd.ErrOrStderr(), "written, now reading it back")
	if err := s.check(digest, n); err != nil {
		return err
	}
	fmt.Fprintf(cmd.OutOrStdout(), "%s has the media, and all of its %s were read back\n", path, size(n))
	return nil
}

// fill writes media from the beginning, and tells their digest.
func (s *stick) fill(media func(io.Writer) error) (digest [32]byte, n int64, err error) {
	h := blake3.New()
	if _, err := s.Seek(0, io.SeekStart); err != nil {
		return digest, 0, err
	}
	w := &atMost{w: io.MultiWriter(s, h), left: s.size}
	if err := media(w); err != nil {
		return digest, 0, err
	}
	copy(digest[:], h.Sum(nil))
	return digest, s.size - w.left, s.Sync()
}

// atMost is a writer onto a disk of a size.
type atMost struct {
	w    io.Writer
	left int64
}

func (a *atMost) Write(b []byte) (int, error) {
	if int64(len(b)) > a.left {
		return 0, errors.New("the disk is too small for the media")
	}
	a.left -= int64(len(b))
	return a.w.Write(b)
}

// check reads back what was written, from the disk and not from the kernel's memory.
func (s *stick) check(digest [32]byte, n int64) error {
	if err := unix.IoctlSetInt(int(s.Fd()), unix.BLKFLSBUF, 0); err != nil {
		return fmt.Errorf("have the kernel forget what it knows of the disk: %w", err)
	}
	h := blake3.New()
	if _, err := io.Copy(h, io.NewSectionReader(s, 0, n)); err != nil {
		return fmt.Errorf("read it back: %w", err)
	}
	if [32]byte(h.Sum(nil)) != digest {
		return fmt.Errorf("%s does not give back what was written; it is damaged, or not as large as it says", s.Name())
	}
	return nil
}
