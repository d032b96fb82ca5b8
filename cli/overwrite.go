package cli

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"jugate/core/disk"
	"jugate/core/durable"
	"jugate/core/partition"
)

// What a command writes never takes the place of something that nobody gave up.

// mayWriteFile tells whether a file may be written: its name is free, or the engineer
// has said that it is to be replaced. What it is made from can never be.
func mayWriteFile(path string, replace bool, from ...string) error {
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, source := range from {
		if s, err := os.Stat(source); err == nil && os.SameFile(s, info) {
			return fmt.Errorf("%s is what the file would be made from, and writing it would destroy that; choose another name", path)
		}
	}
	switch {
	case !info.Mode().IsRegular():
		return fmt.Errorf("%s is not a file", path)
	case !replace:
		return fmt.Errorf("%s is there already; say --replace if it is to go, or choose another name", path)
	}
	return nil
}

// keepFile makes a file visible that is whole now.
func keepFile(f *durable.File, path string, replace bool) error {
	if replace {
		return f.Keep()
	}
	err := f.KeepNew()
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%s has appeared meanwhile, and is left as it is; say --replace if it is to go", path)
	}
	return err
}

// looked is how much of a disk's beginning and end is looked at, in bytes: tables and
// file systems show there.
const looked = 1 << 20

// holdsSomething tells whether a disk has anything on it, as far as its ends show.
func holdsSomething(d *disk.Disk) (bool, error) {
	for _, at := range []int64{0, max(0, d.Size()-looked)} {
		b := make([]byte, min(looked, d.Size()-at))
		if n, err := d.ReadAt(b, at); n < len(b) && err != nil && !errors.Is(err, io.EOF) {
			return false, err
		}
		for _, c := range b {
			if c != 0 {
				return true, nil
			}
		}
	}
	return false, nil
}

// mayOverwrite asks before what a device or a disk file holds is lost; the question says
// what of it stays (but). What an earlier try has left may go, and so may a file without
// anything on it.
func mayOverwrite(cmd *cobra.Command, path string, target *disk.Disk, but string, yes bool) error {
	info, err := os.Stat(path)
	if err != nil || yes {
		return err
	}
	if mark, err := disk.ReadMark(target); err == nil && mark != nil {
		table, err := partition.Read(target, target.Size(), target.SectorSize())
		if err == nil && len(table.Partitions) == 0 { // else the earlier try has kept some
			return nil
		}
	}
	holds := info.Mode()&os.ModeDevice != 0
	if !holds {
		if holds, err = holdsSomething(target); err != nil || !holds {
			return err
		}
	}
	return confirm(cmd, false, "what is on "+path+" would be lost"+but, "Everything on "+path+" will be lost"+but+". Write it?")
}

// confirm asks before something is lost, unless told yes. Without a terminal nobody can
// answer, and nothing is done.
func confirm(cmd *cobra.Command, yes bool, lost, question string) error {
	if yes {
		return nil
	}
	return confirmOr(cmd, "--yes", lost, question)
}

// confirmOr asks a person; a program is told the flag with which it can say so.
func confirmOr(cmd *cobra.Command, flag, lost, question string) error {
	in, is := cmd.InOrStdin().(*os.File)
	if is && !term.IsTerminal(int(in.Fd())) {
		return fmt.Errorf("%s; say %s if that is intended", lost, flag)
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "%s (yes/no) ", question)
	var answer string
	fmt.Fscanln(cmd.InOrStdin(), &answer)
	if answer != "yes" {
		return errors.New("nothing was done")
	}
	return nil
}
