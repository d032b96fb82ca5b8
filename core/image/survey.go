package image

import (
	"fmt"
	"io"

	"jugate/core/partition"
	"jugate/core/volume"
)

// Survey is what was read off a disk before anything of it was copied.
type Survey struct {
	Table    *partition.Table
	Areas    []Area
	Findings []Finding

	volumes []*volume.Volume // beside Areas
	starts  []int64          // beside Areas: bytes on the disk
}

// Finding is one thing that speaks against taking the disk as a golden image,
// or that the engineer should know.
type Finding struct {
	Blocking bool   `json:"blocking"`
	Where    string `json:"where"` // "the disk", or a partition in words
	Text     string `json:"text"`  // what it is, and what to do
}

// NotFitError says that a survey has blocking findings.
type NotFitError struct {
	Findings []Finding
}

func (e *NotFitError) Error() string {
	f := e.Findings[0]
	text := fmt.Sprintf("the disk cannot be captured: %s: %s", f.Where, f.Text)
	if n := len(e.Findings) - 1; n > 0 {
		text += fmt.Sprintf(" (and %d more)", n)
	}
	return text
}

// Look reads the table and the allocation maps of a disk of size bytes. Errors
// are those of packages partition and volume, with the place in words.
func Look(disk io.ReaderAt, size int64, sectorSize int) (*Survey, error) {
	table, err := partition.Read(disk, size, sectorSize)
	if err != nil {
		return nil, err
	}
	s := &Survey{Table: table}
	for _, text := range table.Findings {
		s.Findings = append(s.Findings, Finding{Where: "the disk", Text: text})
	}
	if _, length, _ := placed(table, 0); length > 0 {
		if err := s.look(disk, 0, "the gap before the first partition"); err != nil {
			return nil, err
		}
	}
	for _, p := range table.Partitions {
		if err := s.look(disk, p.Number, describe(p)); err != nil {
			return nil, err
		}
	}
	return s, nil
}

func (s *Survey) look(disk io.ReaderAt, number int, where string) error {
	start, size, _ := placed(s.Table, number)
	r := io.NewSectionReader(disk, start, size)
	v, err := volume.Open(r, size)
	if err != nil {
		return fmt.Errorf("%s: %w", where, err)
	}
	used, err := v.UsedBytes()
	if err != nil {
		return fmt.Errorf("%s: %w", where, err)
	}
	switch {
	case v.MapsStale:
		s.Findings = append(s.Findings, Finding{Blocking: true, Where: where,
			Text: "its file system was not shut down cleanly, so its record of used blocks cannot be trusted; start the workstation, shut it down properly, and capture again"})
	case !v.Clean:
		s.Findings = append(s.Findings, Finding{Where: where,
			Text: "its file system is marked as not shut down cleanly"})
	}
	s.volumes = append(s.volumes, v)
	s.starts = append(s.starts, start)
	s.Areas = append(s.Areas, Area{
		Partition: number, Size: size, Kind: v.Kind, Label: v.Label, UUID: v.UUID,
		ClusterSize: v.ClusterSize, UsedBytes: used,
	})
	return nil
}

// Blocking returns a *NotFitError if there are findings that forbid a capture.
func (s *Survey) Blocking() error {
	var blocking []Finding
	for _, f := range s.Findings {
		if f.Blocking {
			blocking = append(blocking, f)
		}
	}
	if blocking == nil {
		return nil
	}
	return &NotFitError{blocking}
}

func describe(p partition.Partition) string {
	if p.Name == "" {
		return fmt.Sprintf("partition %d", p.Number)
	}
	return fmt.Sprintf("partition %d (%s)", p.Number, p.Name)
}
