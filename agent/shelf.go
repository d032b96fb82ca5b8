package agent

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"

	"jugate/core/bundle"
	"jugate/core/capture"
	"jugate/core/disk"
	"jugate/core/partition"
	"jugate/core/volume"
)

// Shelf is a volume onto which a captured disk can be put as a file, where no network is.
type Shelf struct {
	Words string // for people
	Open  func() (SystemVolume, error)
}

// Shelves are those of all disks but one, fixed and removable; that one by its place in the inventory.
func (h Hardware) Shelves(but int) ([]Shelf, error) {
	fixed, err := fixedDisks("/sys")
	if err != nil {
		return nil, err
	}
	names, err := allDisks("/sys")
	if err != nil {
		return nil, err
	}
	var all []Shelf
	for _, name := range names {
		if but >= 0 && but < len(fixed) && name == fixed[but] {
			continue
		}
		path := filepath.Join("/dev", name)
		d, err := disk.Open(path, disk.Options{})
		if err != nil {
			continue // nothing is in it
		}
		all = append(all, shelvesOf(d, strings.TrimSpace(describeDisk("/sys", name).Model+" "+name), func() (*disk.Disk, error) { return disk.Open(path, disk.Options{Write: true}) })...)
		d.Close()
	}
	return all, nil
}

// allDisks are the names of all disks that have something in them.
func allDisks(sys string) (names []string, err error) {
	entries, err := os.ReadDir(filepath.Join(sys, "block"))
	for _, e := range entries {
		dir := filepath.Join(sys, "block", e.Name())
		if _, missing := os.Stat(filepath.Join(dir, "device")); missing == nil && readSys(dir, "size") != "0" && !strings.HasPrefix(e.Name(), "sr") {
			names = append(names, e.Name())
		}
	}
	return names, err
}

// shelvesOf are those of one disk. What firmware starts from is none.
func shelvesOf(d *disk.Disk, of string, open func() (*disk.Disk, error)) (all []Shelf) {
	add := func(start, size int64, words string) {
		v, err := volume.Open(io.NewSectionReader(d, start, size), size)
		if err != nil || !slices.Contains(filed, v.Kind) {
			return
		}
		v.Size = size
		all = append(all, Shelf{Words: fmt.Sprintf("%s, %s %s of %s", words, humanize.IBytes(uint64(size)), v.Kind, of), Open: func() (SystemVolume, error) {
			d, err := open()
			if err != nil {
				return nil, err
			}
			system, err := MountForWriting(d.File, start, v)
			if err != nil {
				return nil, errors.Join(err, d.Close())
			}
			return shelf{system, d}, nil
		}})
	}
	table, err := partition.Read(d, d.Size(), d.SectorSize())
	if err != nil || len(table.Partitions) == 0 {
		add(0, d.Size(), "the whole disk")
		return all
	}
	for _, p := range table.Partitions {
		if p.Type == partition.EFISystem {
			continue
		}
		words := fmt.Sprintf("partition %d", p.Number)
		if p.Name != "" {
			words += " (" + p.Name + ")"
		}
		add(table.Start(p), table.Size(p), words)
	}
	return all
}

// shelf closes its disk, too.
type shelf struct {
	SystemVolume
	disk *disk.Disk
}

func (s shelf) Close() error { return errors.Join(s.SystemVolume.Close(), s.disk.Close()) }

// BlockedError says why a disk is not captured, unless a reason is given.
type BlockedError struct{ error }

// notInNames is what a file's name does not have.
var notInNames = regexp.MustCompile(`[^A-Za-z0-9._-]+`)

// CaptureOnto captures a disk, by its place in the inventory, as the next version of an image: into a packed image on a shelf, which
// `jugate image import` hands in later. It returns the name of that file, which is there whole or not at all. A *BlockedError
// wants a reason (despite).
func (a *Agent) CaptureOnto(ctx context.Context, i int, to Shelf, image, despite string) (file string, err error) {
	d, err := a.machine.OpenDisk(i)
	if err != nil {
		return "", err
	}
	defer d.Close()
	inventory, err := a.machine.Inventory()
	if err != nil {
		return "", err
	}
	a.show("looking at the disk")
	survey, err := capture.Look(d, d.Size(), d.SectorSize(), capture.LookOptions{Files: a.filesOf(d)})
	if err != nil {
		return "", err
	}
	if err := survey.Blocking(); err != nil && despite == "" {
		return "", &BlockedError{err}
	}
	volume, err := to.Open()
	if err != nil {
		return "", err
	}
	defer func() { err = errors.Join(err, volume.Close()) }()
	name := strings.Trim(notInNames.ReplaceAllString(image+"-"+inventory.Disks[i].Serial, "-"), "-")
	for n := 1; ; n++ {
		file = name + ".jugate"
		if n > 1 {
			file = fmt.Sprintf("%s-%d.jugate", name, n)
		}
		if _, err := fs.Stat(volume, file); errors.Is(err, fs.ErrNotExist) {
			break
		} else if err != nil {
			return "", err
		}
	}
	out, in := io.Pipe()
	go func() {
		packer := bundle.NewWriter(in)
		man, slabs, err := capture.Run(ctx, d, survey, packer, capture.Options{Despite: override(despite), Progress: func(done, total int64, _ int) {
			a.options.Show(Status{Text: "capturing onto another disk", Done: done, Total: total})
		}})
		if err == nil {
			err = packer.Finish(man, slabs, image)
		}
		in.CloseWithError(err)
	}()
	if err := volume.WriteFile(file, out); err != nil {
		out.CloseWithError(err)
		return "", fmt.Errorf("write %s: %w", file, err)
	}
	return file, nil
}
