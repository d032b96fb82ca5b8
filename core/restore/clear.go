package restore

import (
	"slices"

	"jugate/core/partition"
	"jugate/core/volume"
)

// Signatures of what was on the target before survive where the image has nothing in use:
// programs then see two file systems, or the wrong one. They lie at the beginning and at
// the end of partitions and of the disk (labels of RAID and LVM, second copies), and for
// btrfs at two places between. What is in use there was written over; the rest becomes
// zeros.

const (
	// clearEnds is how much of each beginning and end is cleared, in bytes.
	clearEnds = 1 << 20
	// clearMirror is how much is cleared where btrfs has the copies of its superblock.
	clearMirror = 4096
)

// clearOld clears those places. It runs before the partition table is written.
func (r *Restore) clearOld() error {
	windows := r.windows()
	zero := make([]byte, clearEnds)
	used := r.usedWithin(windows)
	for _, w := range windows {
		at := w.Start
		for _, u := range append(slices.Clone(used), volume.Extent{Start: w.End()}) {
			for end := min(u.Start, w.End()); at < end; {
				n := min(end-at, clearEnds)
				if err := r.writeAt(zero[:n], at); err != nil {
					return err
				}
				at += n
			}
			at = max(at, u.End())
		}
	}
	return nil
}

// windows are the places to clear, as bytes of the disk, ascending and apart from each
// other. The first sector is left out: it has the mark, and then the table.
func (r *Restore) windows() (all []volume.Extent) {
	first := int64(r.table.SectorSize)
	if r.table.Scheme == partition.None {
		first = 0 // it is held back
	}
	add := func(start, end int64) {
		if start, end = max(start, first), min(end, r.size); start < end {
			all = append(all, volume.Extent{Start: start, Length: end - start})
		}
	}
	ends := func(start, size int64) {
		add(start, start+min(clearEnds, size))
		add(start+max(0, size-clearEnds), start+size)
		for _, mirror := range []int64{64 << 20, 256 << 30} {
			if mirror+clearMirror <= size {
				add(start+mirror, start+mirror+clearMirror)
			}
		}
	}
	ends(0, r.size)
	for _, p := range r.table.Partitions {
		if !p.Extended() {
			ends(r.table.Start(p), r.table.Size(p))
		}
	}
	var free []volume.Extent
	for _, w := range unioned(all) {
		free = append(free, without(w, r.spared())...)
	}
	return free
}

// usedWithin lists what the image has in use in or around some stretches of the disk.
func (r *Restore) usedWithin(windows []volume.Extent) (used []volume.Extent) {
	for i := range r.slabs.Len() {
		s := r.slabs.Slab(i)
		if !r.comes(s) {
			continue
		}
		for _, e := range s.Extents {
			e.Start += r.starts[s.Area]
			if slices.ContainsFunc(windows, func(w volume.Extent) bool { return e.Start < w.End() && w.Start < e.End() }) {
				used = append(used, e)
			}
		}
	}
	return unioned(used)
}

// unioned sorts extents and joins those that touch or overlap.
func unioned(all []volume.Extent) (out []volume.Extent) {
	slices.SortFunc(all, func(a, b volume.Extent) int { return int(min(max(a.Start-b.Start, -1), 1)) })
	for _, e := range all {
		if n := len(out); n > 0 && e.Start <= out[n-1].End() {
			out[n-1].Length = max(out[n-1].End(), e.End()) - out[n-1].Start
		} else {
			out = append(out, e)
		}
	}
	return out
}
