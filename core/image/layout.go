package image

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"jugate/core/partition"
	"jugate/core/volume"
)

// Layout says in words what the versions of one image share: the scheme of the partition
// table, the volumes in their order, and the firmware that starts the system.
func Layout(t *partition.Table, areas []Area) string {
	var kinds []string
	for _, a := range areas {
		if a.Partition > 0 || t.Scheme == partition.None {
			kinds = append(kinds, string(a.Kind))
		}
	}
	scheme := map[partition.Scheme]string{partition.GPT: "a GPT", partition.MBR: "an MBR", partition.None: "no partition table"}[t.Scheme]
	text := fmt.Sprintf("%s with %s", scheme, strings.Join(slices.DeleteFunc(kinds, func(k string) bool { return k == string(volume.Unknown) }), ", "))
	var by []string
	for _, f := range t.StartsBy() {
		by = append(by, string(f))
	}
	if by != nil {
		text += ", started by " + strings.Join(by, " or ")
	}
	return text
}

// Layout is how the version's disk is laid out, in words.
func (m *Manifest) Layout() string { return Layout(m.Table, m.Areas) }

// SameContent reports whether two versions hold the same: the same bytes at the same
// places of disks that are partitioned alike.
func SameContent(a, b *Manifest) bool {
	return a.MapDigest == b.MapDigest && a.SlabSize == b.SlabSize && reflect.DeepEqual(a.Table, b.Table) && slices.Equal(a.Areas, b.Areas)
}

// LiesLike tells whether the slabs of two versions lie in the same places: of what differs between them it can be said where.
func (m *Manifest) LiesLike(o *Manifest) bool {
	return m.SlabSize == o.SlabSize && slices.EqualFunc(m.Areas, o.Areas, func(a, b Area) bool { return a.Partition == b.Partition && a.Size == b.Size })
}
