package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"jugate/core/bundle"
	"jugate/core/capture"

	"github.com/spf13/cobra"

	"jugate/core/disk"
	"jugate/core/image"
	"jugate/core/partition"
	"jugate/core/readiness"
	"jugate/core/vmdisk"
)

// source is something that a golden disk can be read from: a block device, a raw
// disk file, a virtual machine's, or a packed image.
type source struct {
	file   *disk.Disk
	disk   vmdisk.Disk
	packed *bundle.Reader // nil for a disk
	more   []*os.File     // that the file refers to

	sectorSize int
}

func openSource(path string, sectorSize int) (*source, error) {
	f, err := disk.Open(path, disk.Options{SectorSize: sectorSize})
	if err != nil {
		return nil, err
	}
	s := &source{file: f, sectorSize: f.SectorSize()}
	s.packed, err = bundle.Open(f, f.Size())
	if errors.Is(err, bundle.ErrNotBundle) {
		s.disk, err = vmdisk.Open(f, f.Size(), s.parents(filepath.Dir(path)))
		if err == nil && s.disk.Format() == vmdisk.VHDX {
			s.sectorSize = s.disk.SectorSize()
		}
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("%s: %w", path, err), s.Close())
	}
	return s, nil
}

// parents opens the files that a disk file refers to, which must lie in its folder or
// below: a disk file of unknown origin could name any file of this machine otherwise,
// and take it along into an image.
func (s *source) parents(dir string) vmdisk.Parents {
	return func(name string) (io.ReaderAt, int64, error) {
		rel := filepath.FromSlash(name)
		if filepath.IsAbs(rel) {
			abs, err := filepath.Abs(dir)
			if err != nil {
				return nil, 0, err
			}
			if rel, err = filepath.Rel(abs, rel); err != nil {
				return nil, 0, err
			}
		}
		refused := fmt.Errorf("%w: it refers to %q, which has to lie in the same folder as itself, or below", vmdisk.ErrUnsupported, name)
		if !filepath.IsLocal(rel) {
			return nil, 0, refused
		}
		root, err := os.OpenRoot(dir)
		if err != nil {
			return nil, 0, err
		}
		defer root.Close()
		f, err := root.Open(rel)
		if err != nil {
			return nil, 0, fmt.Errorf("%w: %w", refused, err)
		}
		s.more = append(s.more, f)
		info, err := f.Stat()
		if err != nil {
			return nil, 0, err
		}
		if !info.Mode().IsRegular() {
			return nil, 0, fmt.Errorf("%w: %q is not a file", vmdisk.ErrUnsupported, name)
		}
		return f, info.Size(), nil
	}
}

// Close closes the file and those that it refers to.
func (s *source) Close() error {
	err := s.file.Close()
	for _, f := range s.more {
		err = errors.Join(err, f.Close())
	}
	return err
}

// captureFlags are what an engineer says to a capture's doubts.
type captureFlags struct {
	despite        string
	pastBadSectors bool
	keepFleeting   bool
	encrypted      bool
	identityFiles  []string
	only, without  partitions
}

const (
	onlyHelp    = "capture just these partitions: a number, label=TEXT, type=GUID or (in an MBR) type=HEX"
	withoutHelp = "capture all partitions but these, named in the same way"
)

// partitions is a flag that names some.
type partitions []partition.Ref

func (p *partitions) Set(text string) error {
	some, err := partition.ParseRefs(strings.Split(text, ","))
	*p = append(*p, some...)
	return err
}

func (p *partitions) String() string { return "" }
func (p *partitions) Type() string   { return "PARTITION,…" }

func (f *captureFlags) add(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.despite, "despite", "", "reason to capture in spite of blocking findings; the version keeps it")
	cmd.Flags().Var(&f.only, "only", onlyHelp)
	cmd.Flags().Var(&f.without, "without", withoutHelp)
	cmd.Flags().BoolVar(&f.pastBadSectors, "past-bad-sectors", false, "go on where the disk cannot be read, and name the places in the version")
	cmd.Flags().BoolVar(&f.keepFleeting, "keep-page-files", false, "take page and hibernation files along instead of leaving them out")
	cmd.Flags().BoolVar(&f.encrypted, "copy-encrypted", false, "copy encrypted volumes whole")
	f.addIdentity(cmd)
}

func (f *captureFlags) addIdentity(cmd *cobra.Command) {
	cmd.Flags().StringSliceVar(&f.identityFiles, "identity-files", nil, "patterns of files that tell one machine from another (default: names that agents usually use)")
}

func (f *captureFlags) look() capture.LookOptions {
	return capture.LookOptions{
		Rules:        readiness.Rules{IdentityFiles: f.identityFiles, AllowEncrypted: f.encrypted},
		KeepFleeting: f.keepFleeting, PastBadSectors: f.pastBadSectors, Only: f.only, Without: f.without,
	}
}

func (f *captureFlags) options() capture.Options {
	o := capture.Options{PastBadSectors: f.pastBadSectors}
	if f.despite != "" {
		o.Despite = &image.Override{Reason: f.despite}
	}
	return o
}

// survey looks at the disk of a source.
func (s *source) survey(o capture.LookOptions) (*capture.Survey, error) {
	if s.packed != nil {
		return nil, errors.New("that is a packed image, not a disk")
	}
	return capture.Look(s.disk, s.disk.Size(), s.sectorSize, o)
}

// version gives manifest and map of what a source holds, reading it if it is a
// disk. Nothing stands in the way of reading.
func (s *source) version(ctx context.Context, progress func(done, total int64)) (*image.Manifest, *image.Map, error) {
	if s.packed != nil {
		return s.packed.Manifest, s.packed.Slabs, nil
	}
	survey, err := s.survey(capture.LookOptions{KeepFleeting: true, Rules: readiness.Rules{AllowEncrypted: true}})
	if err != nil {
		return nil, nil, err
	}
	return capture.Run(ctx, s.disk, survey, capture.Nowhere{}, capture.Options{
		Despite:  &image.Override{Reason: "it is only compared"},
		Progress: func(done, total int64, _ int) { progress(done, total) },
	})
}

// describePlan tells in words what a restore will do to a disk.
func describePlan(from, to *partition.Table) []string {
	var lines []string
	changes := partition.Changes(from, to)
	for _, c := range changes {
		p, _ := to.Partition(c.Number)
		if p.Extended() {
			continue
		}
		text := fmt.Sprintf("partition %d", c.Number)
		if grown := c.Grown() * int64(to.SectorSize); grown > 0 {
			text += fmt.Sprintf(" grows by %s to %s", size(grown), size(to.Size(p)))
		} else if grown < 0 {
			text += fmt.Sprintf(" shrinks by %s to %s", size(-grown), size(to.Size(p)))
		}
		if c.Moved() {
			if c.Grown() != 0 {
				text += " and"
			}
			text += fmt.Sprintf(" moves from sector %d to %d", c.FromFirst, c.ToFirst)
		}
		lines = append(lines, text)
	}
	if len(lines) == 0 {
		lines = append(lines, "all partitions stay where they are")
	}
	return lines
}

// missing tells whether an error means that there is no such file.
func missing(err error) bool { return errors.Is(err, fs.ErrNotExist) }
