package image

import (
	"fmt"

	"jugate/core/partition"
	"jugate/core/volume"
)

// Growing resolves which partition takes the room of a larger disk, and says why that
// one. GrowSystem is the partition with the operating system: the survey has seen one in
// it, or, where it could not look, it is the largest that can be one. What lies behind
// it is moved along.
func (m *Manifest) Growing(g partition.Grow) (chosen partition.Grow, why string) {
	switch {
	case g > 0:
		return g, "as was asked for"
	case g != partition.GrowSystem || m.Table.Scheme == partition.None:
		return g, ""
	}
	best, size := partition.GrowNone, int64(0)
	for _, a := range m.Areas {
		p, ok := m.Table.Partition(a.Partition)
		if !ok || p.Extended() {
			continue
		}
		if a.System {
			return partition.Grow(p.Number), "it has the operating system"
		}
		if canBeSystem(p, a.Kind) && a.Size > size {
			best, size = partition.Grow(p.Number), a.Size
		}
	}
	if best == partition.GrowNone {
		return partition.GrowNone, "no partition can have an operating system"
	}
	return best, "it is the largest that can have the operating system"
}

// canBeSystem leaves out partitions that serve the firmware, recovery or swapping.
func canBeSystem(p partition.Partition, kind volume.Kind) bool {
	switch kind {
	case volume.Swap, volume.FAT12, volume.FAT16, volume.FAT32, volume.ExFAT:
		return false
	}
	switch p.Type {
	case partition.EFISystem, partition.MicrosoftReserved, partition.WindowsRecovery, partition.BIOSBoot:
		return false
	}
	switch p.Code { // of an MBR: hidden NTFS with a recovery system, the EFI partition
	case 0x27, 0xEF, 0x12, 0x82:
		return false
	}
	return true
}

// Longer is a partition that became longer than the golden one's.
type Longer struct {
	Partition int
	Kind      volume.Kind
	By        int64 // bytes
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
		by := r.table.Size(is) - r.manifest.Table.Size(was)
		if !ok || !planned || by <= 0 || a.Kind == volume.Unknown || a.Kind == volume.Swap {
			continue
		}
		all = append(all, Longer{a.Partition, a.Kind, by, a.Kind == volume.NTFS && !a.Whole})
	}
	return all
}
