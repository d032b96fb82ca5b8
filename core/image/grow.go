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

// Onto plans the version's table for a disk of size bytes; nothing is written. What a
// partition needs is the manifest's to say. Errors are those of partition.Table.Onto, or
// say that the disk would keep another system than the image's.
func (m *Manifest) Onto(size int64, sectorSize int, fit partition.Fit) (*partition.Table, error) {
	for _, a := range m.Areas {
		if a.System && m.Table.GivesWay(fit.Beside, a.Partition) {
			return nil, fmt.Errorf("partition %d cannot be kept: it has the system that the image brings", a.Partition)
		}
	}
	fit.Grow, _ = m.Growing(fit.Grow)
	fit.Needs = m.Needs
	return m.Table.Onto(size, sectorSize, fit)
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
