package restore

import (
	"fmt"

	"jugate/core/partition"
	"jugate/core/volume"
)

// Longer is a partition that became longer than the golden one's.
type Longer struct {
	Partition int
	Kind      volume.Kind
	By        int64 // bytes
	// Start and Size are where it lies on the disk, in bytes.
	Start, Size int64
	// Fits says that its file system fills it after Finish; others keep their size until
	// a system grows them.
	Fits bool
}

// String says in words what becomes of it.
func (l Longer) String() string {
	if l.Fits {
		return fmt.Sprintf("the %s in partition %d is resized with it", l.Kind, l.Partition)
	}
	return fmt.Sprintf("the %s in partition %d keeps its size: %d bytes behind it are not used until the system that it belongs to grows it (docs/golden-disk.md)", l.Kind, l.Partition, l.By)
}

// Longer lists the partitions that became longer and have a file system in them.
func (r *Restore) Longer() (all []Longer) {
	for _, a := range r.manifest.Areas {
		was, ok := r.manifest.Table.Partition(a.Partition)
		is, planned := r.table.Partition(a.Partition)
		if r.options.Part != nil && a.Partition == r.options.Part.Number {
			is, planned = partition.Partition{First: r.options.Part.First, Last: r.options.Part.First + uint64(r.size)/uint64(r.table.SectorSize) - 1}, true
		}
		by := r.table.Size(is) - r.manifest.Table.Size(was)
		if !ok || !planned || is.Kept || by <= 0 || a.Kind == volume.Unknown || a.Kind == volume.Swap {
			continue
		}
		all = append(all, Longer{a.Partition, a.Kind, by, r.table.Start(is), r.table.Size(is), a.Kind == volume.NTFS && !a.Whole})
	}
	return all
}
