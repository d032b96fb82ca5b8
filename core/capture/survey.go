package capture

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"

	"jugate/core/disk"
	"jugate/core/fileview"
	"jugate/core/image"
	"jugate/core/partition"
	"jugate/core/readiness"
	"jugate/core/volume"
)

// Survey is what was read off a disk before anything of it was copied.
type Survey struct {
	Table    *partition.Table    `json:"table"`
	Areas    []image.Area        `json:"areas"`
	Findings []readiness.Finding `json:"findings"`
	// Unfinished says that an earlier restore onto this disk was cut off.
	Unfinished *disk.Mark `json:"unfinished,omitempty"`

	volumes []*volume.Volume // beside Areas
	starts  []int64          // beside Areas: bytes on the disk
}

// LookOptions say what to make of a disk. The zero value refuses all doubts.
type LookOptions struct {
	Rules readiness.Rules
	// Files shows the files of a volume that begins at byte start of the disk, or
	// says why it cannot. By default package fileview does. A view that is an
	// io.Closer is closed when Look is through.
	Files func(start int64, v *volume.Volume) (fs.FS, error)
	// KeepFleeting takes page and hibernation files along.
	KeepFleeting bool
	// PastBadSectors copies volumes whole whose records cannot be read.
	PastBadSectors bool
	// Only and Without name the partitions that are taken, or are left out.
	Only, Without []partition.Ref
}

// chosen is the table of what is taken. gap tells whether what lies in front of the first
// partition is: it belongs to a disk of which that is taken, too.
func (o *LookOptions) chosen(from io.ReaderAt, t *partition.Table) (chosen *partition.Table, gap bool, err error) {
	if o.Only == nil && o.Without == nil {
		return t, true, nil
	}
	if t.Scheme == partition.None {
		return nil, false, errors.New("the disk has no partitions, of which some could be taken or left out")
	}
	label := disk.Labels(from, t)
	out, err := t.Named(o.Without, label)
	if err != nil {
		return nil, false, err
	}
	if o.Only != nil {
		taken, err := t.Named(o.Only, label)
		if err != nil {
			return nil, false, err
		}
		for _, p := range t.Partitions {
			if !slices.Contains(taken, p.Number) && !p.Extended() {
				out = append(out, p.Number)
			}
		}
	}
	chosen = t.Without(out)
	if len(chosen.Partitions) == 0 {
		return nil, false, errors.New("nothing of the disk would be taken")
	}
	return chosen, chosen.GapEnd() == t.GapEnd(), nil
}

// NotFitError says that a survey has blocking findings.
type NotFitError struct {
	Findings []readiness.Finding
}

func (e *NotFitError) Error() string {
	f := e.Findings[0]
	text := fmt.Sprintf("the disk is not fit to be captured: %s: %s; %s", f.Where, f.What, f.Do)
	if n := len(e.Findings) - 1; n > 0 {
		text += fmt.Sprintf(" (and %d more)", n)
	}
	return text
}

// Look reads the table, the allocation maps, and what speaks for and against the
// disk of size bytes as a golden one. Errors are those of package partition, or
// the disk's, with the place in words; a volume that cannot be understood is a
// finding.
func Look(from io.ReaderAt, size int64, sectorSize int, o LookOptions) (*Survey, error) {
	table, err := partition.Read(from, size, sectorSize)
	if err != nil {
		return nil, err
	}
	if o.Files == nil {
		o.Files = func(start int64, v *volume.Volume) (fs.FS, error) {
			return fileview.Open(io.NewSectionReader(from, start, v.Size), v.Size, v.Kind)
		}
	}
	s := &Survey{Table: table, Findings: []readiness.Finding{}}
	if err := s.bare(from, size); err != nil {
		return nil, err
	}
	gap := true
	if s.Table, gap, err = o.chosen(from, s.Table); err != nil {
		return nil, err
	}
	table = s.Table
	if s.Unfinished, err = disk.ReadMark(from); err != nil {
		return nil, err
	}
	var volumes []readiness.Volume
	defer func() { closeAll(volumes) }()
	look := func(number int, where string) error {
		v, err := s.look(from, number, where, o)
		volumes = append(volumes, v)
		return err
	}
	if _, length, _ := image.Placed(table, 0); length > 0 && gap {
		where := "the gap before the first partition"
		if table.Scheme == partition.None {
			where = "the disk, which has no partitions"
		}
		if err := look(0, where); err != nil {
			return nil, err
		}
	}
	for _, p := range table.Partitions {
		if p.Extended() {
			continue
		}
		if err := look(p.Number, describe(p)); err != nil {
			return nil, err
		}
	}
	if raid, err := volume.RAIDMember(from, size); err != nil {
		return nil, err
	} else if raid != "" && table.Scheme != partition.None {
		s.Findings = append(s.Findings, readiness.Finding{Code: "raid-member", Severity: readiness.Blocking, Where: "the disk", What: "it is a member of " + raid,
			Means: "the other members are not part of the image", Do: "capture from a plain disk; with a reason it is copied as it is"})
	}
	if err := s.between(from); err != nil && !o.PastBadSectors {
		return nil, err
	}
	if s.Unfinished != nil {
		s.Findings = append(s.Findings, s.Unfinished.Finding())
	}
	s.Findings = append(s.Findings, readiness.Check(table, volumes, o.Rules)...)
	return s, nil
}

// bare disbelieves a GPT of which only the backup at the end is left, where the disk
// begins with something else: it was made anew, and the backup was forgotten.
func (s *Survey) bare(from io.ReaderAt, size int64) error {
	if !s.Table.FromBackup {
		return nil
	}
	what, err := volume.Signature(from, size)
	if what == "" || err != nil {
		return err
	}
	s.Findings = append(s.Findings, readiness.Finding{Code: "stale-table", Severity: readiness.Warning, Where: "the disk",
		What: "an old partition table was left at its end; it begins with " + what + ", which counts", Means: "other programs may still find the old partitions on the golden disk; copies do not have them",
		Do: "remove the old table from the golden disk (wipefs --all --types gpt)"})
	s.Table = partition.Bare(size, s.Table.SectorSize)
	return nil
}

// between tells of bytes between partitions, which are not copied.
func (s *Survey) between(from io.ReaderAt) error {
	if s.Table.Scheme == partition.None {
		return nil
	}
	for _, g := range s.Table.Gaps() {
		n, err := firstData(from, g[0], g[1])
		if err != nil {
			return err
		}
		if n >= 0 {
			s.Findings = append(s.Findings, readiness.Finding{Code: "data-between", Severity: readiness.Note, Where: "the disk",
				What: fmt.Sprintf("there are data outside of the partitions, from byte %d on", n), Means: "they are not copied", Do: "nothing, unless something on the disk relies on them"})
			return nil
		}
	}
	return nil
}

// betweenAtMost is how much of each gap is looked at, in bytes.
const betweenAtMost = 64 << 20

// firstData is the first byte from start to end that is not zero; -1 if there is none.
func firstData(from io.ReaderAt, start, end int64) (int64, error) {
	b := make([]byte, 1<<20)
	for end = min(end, start+betweenAtMost); start < end; start += int64(len(b)) {
		part := b[:min(int64(len(b)), end-start)]
		if n, err := from.ReadAt(part, start); n < len(part) && err != nil && !errors.Is(err, io.EOF) {
			return -1, fmt.Errorf("read %d bytes of the disk at byte %d: %w", len(part), start, err)
		}
		if !image.AllZero(part) {
			return start + int64(slices.IndexFunc(part, func(c byte) bool { return c != 0 })), nil
		}
	}
	return -1, nil
}

// closeAll takes away views that hold something open.
func closeAll(volumes []readiness.Volume) {
	for _, v := range volumes {
		if c, ok := v.Files.(io.Closer); ok {
			c.Close() // nothing was written through it
		}
	}
}

func (s *Survey) look(from io.ReaderAt, number int, where string, o LookOptions) (readiness.Volume, error) {
	start, size, _ := image.Placed(s.Table, number)
	r := io.NewSectionReader(from, start, size)
	told := readiness.Volume{Where: where}
	fail := func(err error) error {
		if !errors.Is(err, volume.ErrDamaged) && !o.PastBadSectors {
			return fmt.Errorf("%s: %w", where, err)
		}
		told.Damaged = err
		return nil
	}
	open := volume.Open
	if number == 0 && s.Table.Scheme != partition.None { // boot code may lie there, but nothing that was left there counts
		open = func(_ io.ReaderAt, size int64) (*volume.Volume, error) { return volume.Opaque(size), nil }
	}
	v, err := open(r, size)
	if err != nil {
		if err := fail(err); err != nil {
			return told, err
		}
		v = volume.Opaque(size)
	}
	used, err := v.UsedBytes()
	if err != nil {
		if err := fail(err); err != nil {
			return told, err
		}
		v.Whole()
		used = size
	}
	if o.KeepFleeting {
		v.Fleeting = nil
	}
	area := image.Area{
		Partition: number, Size: size, Kind: v.Kind, Label: v.Label, UUID: v.UUID,
		ClusterSize: v.ClusterSize, UsedBytes: used, Needs: v.Needs, Dirty: !v.Clean, Whole: used == size && v.Kind != volume.Unknown,
	}
	if v.MapsStale { // such a volume is copied whole, if at all
		area.Needs = size
	}
	for _, e := range v.Fleeting {
		area.LeftOut += e.Length
	}
	told.Volume, told.UsedBytes = v, used
	if s.Table.Scheme == partition.None && v.Kind == volume.Unknown {
		if told.Blank, err = looksBlank(from, size); err != nil {
			return told, err
		}
	}
	if number > 0 && told.Damaged == nil && v.Kind != volume.Swap && !v.Encrypted && v.Kind != volume.Unknown {
		told.Files, told.Hidden = o.Files(start, v)
		area.System = readiness.HasSystem(told.Files)
	}
	s.volumes, s.starts, s.Areas = append(s.volumes, v), append(s.starts, start), append(s.Areas, area)
	return told, nil
}

// looksBlank tells whether both ends of a disk are zeros, as those of a new one.
func looksBlank(from io.ReaderAt, size int64) (bool, error) {
	b := make([]byte, min(1<<20, size))
	for _, at := range []int64{0, size - int64(len(b))} {
		if n, err := from.ReadAt(b, at); n < len(b) {
			return false, fmt.Errorf("read %d bytes of the disk at byte %d: %w", len(b), at, err)
		}
		if !bytes.Equal(b, make([]byte, len(b))) {
			return false, nil
		}
	}
	return true, nil
}

// Follow holds the disk against the version that it is to follow: one of another layout is
// hardly the next version of the same image.
func (s *Survey) Follow(before, layout string) {
	now := image.Layout(s.Table, s.Areas)
	if layout == "" || layout == now {
		return
	}
	s.Findings = append(s.Findings, readiness.Finding{Code: "another-layout", Severity: readiness.Blocking, Where: "the disk",
		What:  fmt.Sprintf("it has %s, and %s has %s", now, before, layout),
		Means: "whoever gets the newest version of the image gets another system than before", Do: "capture it under another name"})
}

// Blocking returns a *NotFitError if there are findings that forbid a capture.
func (s *Survey) Blocking() error {
	var blocking []readiness.Finding
	for _, f := range s.Findings {
		if f.Severity == readiness.Blocking {
			blocking = append(blocking, f)
		}
	}
	if blocking == nil {
		return nil
	}
	return &NotFitError{blocking}
}

// distrust takes volumes whole whose maps may be behind the truth; a capture in
// spite of that must not miss anything.
func (s *Survey) distrust() {
	for i, v := range s.volumes {
		if v.MapsStale || v.Kind == volume.Swap && v.Hibernated { // its mark without its content would wake up as nothing
			v.Whole()
			a := &s.Areas[i]
			a.UsedBytes, a.Needs, a.LeftOut, a.Whole = a.Size, a.Size, 0, true
		}
	}
}

func describe(p partition.Partition) string {
	if p.Name == "" {
		return fmt.Sprintf("partition %d", p.Number)
	}
	return fmt.Sprintf("partition %d (%s)", p.Number, p.Name)
}
