package api

import (
	"slices"

	"jugate/core/image"
	"jugate/core/partition"
)

// Areas describes what a disk of a table holds.
func Areas(t *partition.Table, areas []image.Area) []Area {
	all := make([]Area, 0, len(areas))
	for _, a := range areas {
		out := Area{
			Partition: a.Partition, Kind: string(a.Kind), Label: a.Label, UUID: a.UUID, ClusterSize: a.ClusterSize,
			Size: a.Size, UsedBytes: a.UsedBytes, LeftOut: a.LeftOut, Dirty: a.Dirty, Whole: a.Whole, Start: t.GapStart(),
		}
		p, ok := t.Partition(a.Partition)
		if p.Kept { // its own does not come
			continue
		}
		if ok {
			out.Name, out.Start, out.Size = p.Name, t.Start(p), t.Size(p)
			if t.Scheme == partition.MBR {
				out.Name = mbrName(p)
			}
		}
		all = append(all, out)
	}
	for _, p := range t.Partitions { // of a plan: what the disk keeps, and what a layout adds
		if !p.Extended() && !slices.ContainsFunc(all, func(a Area) bool { return a.Partition == p.Number }) {
			all = append(all, Area{Partition: p.Number, Kind: "empty", Name: p.Name, Start: t.Start(p), Size: t.Size(p)})
			if p.Kept {
				all[len(all)-1].Kind, all[len(all)-1].UsedBytes = "kept", t.Size(p)
			}
		}
	}
	return all
}

// mbrName says what an MBR says of a partition; it has no names.
func mbrName(p partition.Partition) string {
	switch {
	case p.Active:
		return "active"
	case p.Logical():
		return "logical"
	}
	return ""
}
