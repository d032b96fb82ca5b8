package agent

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"jugate/core/partition"
	"jugate/core/volume"
)

// onSystem mounts the volumes of a disk that may have a system, one after the other, until
// work finds its own there; of those partitions alone that among tells. Where work returns an error
// that is another, the next one is tried. none is the error if all were another.
func onSystem(ctx context.Context, d Disk, among func(number int) bool, none, another error, work func(system SystemVolume, kind volume.Kind) ([]string, error)) (did []string, err error) {
	mounter, can := d.(SystemMounter)
	if !can {
		return nil, errors.New("the volumes of this disk cannot be written from here")
	}
	table, err := partition.Read(d, d.Size(), d.SectorSize())
	if err != nil {
		return nil, err
	}
	reasons := []error{none}
	for _, p := range table.Partitions {
		if !among(p.Number) {
			continue
		}
		start, size := table.Start(p), table.Size(p)
		v, err := volume.Open(io.NewSectionReader(d, start, size), size)
		if err != nil || !slices.Contains([]volume.Kind{volume.Ext, volume.XFS, volume.Btrfs, volume.NTFS}, v.Kind) {
			continue
		}
		v.Size = size
		did, err := mountedFor(mounter, start, v, work)
		if err == nil || ctx.Err() != nil || !errors.Is(err, another) {
			return did, err
		}
		reasons = append(reasons, fmt.Errorf("partition %d: %w", p.Number, err))
	}
	return nil, errors.Join(reasons...)
}

// mountedFor mounts a volume for some work.
func mountedFor(mounter SystemMounter, start int64, v *volume.Volume, work func(system SystemVolume, kind volume.Kind) ([]string, error)) (did []string, err error) {
	system, err := mounter.MountSystem(start, v)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, system.Close()) }()
	return work(system, v.Kind)
}
