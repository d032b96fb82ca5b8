package disk

import (
	"io"

	"jugate/core/partition"
	"jugate/core/volume"
)

// Labels tells the labels of the file systems on a disk, by partition.
func Labels(disk io.ReaderAt, table *partition.Table) func(partition.Partition) string {
	return func(p partition.Partition) string {
		v, err := volume.Open(io.NewSectionReader(disk, table.Start(p), table.Size(p)), table.Size(p))
		if err != nil {
			return "" // whatever is in it, it has no label
		}
		return v.Label
	}
}
