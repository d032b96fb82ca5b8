package restore

import (
	"fmt"
	"slices"

	"jugate/core/disk"
	"jugate/core/image"
	"jugate/core/partition"
	"jugate/core/volume"
)

// keeping is the table of a disk with what is to be kept alone.
func keeping(onto Target, size int64, sectorSize int, keep []partition.Ref) (*partition.Table, error) {
	table, err := partition.Read(onto, size, sectorSize)
	if err != nil {
		return nil, fmt.Errorf("no partition can be kept: %w", err)
	}
	return table.Keeping(keep, disk.Labels(onto, table))
}

// onePart is the table of a partition that one of the image's goes onto: none.
func onePart(man *image.Manifest, size int64, sectorSize int, o Options) (*partition.Table, error) {
	if sectorSize != man.Table.SectorSize {
		return nil, fmt.Errorf("%w: the image has sectors of %d bytes, the disk of %d", partition.ErrSectorSize, man.Table.SectorSize, sectorSize)
	}
	for _, a := range man.Areas {
		if a.Partition == o.Part.Number && a.Partition > 0 {
			if size < a.Needs {
				return nil, &partition.TooSmallError{Need: a.Needs, Have: size, Beside: true}
			}
			return partition.Bare(size, sectorSize), nil
		}
	}
	return nil, fmt.Errorf("the image has no partition %d that holds anything", o.Part.Number)
}

func keptOf(t *partition.Table) (kept []partition.Partition) {
	for _, p := range t.Partitions {
		if p.Kept {
			kept = append(kept, p)
		}
	}
	return kept
}

// Kept are the partitions that the disk keeps, as the new table has them.
func (r *Restore) Kept() []partition.Partition { return keptOf(r.table) }

// fence refuses a write to what is kept. By the plan there is none; people's files do not
// depend on that alone.
func (r *Restore) fence(at, n int64) error {
	for _, k := range r.fenced {
		if at < k.End() && at+n > k.Start {
			return fmt.Errorf("%d bytes at byte %d would lie in a partition that is kept", n, at)
		}
	}
	return nil
}

// spared are the stretches of the disk, in bytes, that are in use while the restore is under
// way: what is kept, and the table with its entries.
func (r *Restore) spared() []volume.Extent {
	all := slices.Clone(r.fenced)
	if r.kept != nil {
		for _, place := range r.kept.Places() {
			all = append(all, volume.Extent{Start: place[0], Length: place[1] - place[0]})
		}
	}
	return all
}

// without is what is left of a stretch beside others.
func without(e volume.Extent, others []volume.Extent) []volume.Extent {
	left := []volume.Extent{e}
	for _, o := range others {
		var next []volume.Extent
		for _, l := range left {
			for _, part := range [][2]int64{{l.Start, min(l.End(), o.Start)}, {max(l.Start, o.End()), l.End()}} {
				if part[0] < part[1] {
					next = append(next, volume.Extent{Start: part[0], Length: part[1] - part[0]})
				}
			}
		}
		left = next
	}
	return left
}
