package image

import (
	"fmt"
	"iter"
)

// Bases are the slabs of a version that lay where another one has other bytes now: a disk that
// has the first needs no more than what differs. They are a slab map without the rest; at most
// so many.
func Bases(before, after *Map, atMost int) *Map {
	bases := NewMap(before.slabSize)
	for i, j := range beside(after, before) {
		was, is := before.Slab(j), after.Slab(i)
		if bases.Len() < atMost && was.Digest != is.Digest && after.First(i) == i {
			bases.Add(was)
		}
	}
	return bases
}

// ParseBases reads such a map. Its slabs lie within the areas of man, to which the version after
// belongs. Errors wrap ErrManifest.
func ParseBases(raw []byte, man *Manifest) (*Map, error) {
	m := &Map{slabSize: man.SlabSize, raw: raw}
	if err := m.parse(man, func(a Area) int64 { return a.Size }); err != nil {
		return nil, err
	}
	for i := range m.Len() {
		if m.Slab(i).Zero {
			return nil, fmt.Errorf("%w: slab %d of the bases is nothing to go by", ErrManifest, i)
		}
	}
	return m, nil
}

// Replaced tells by the number of a slab which of the bases it replaces.
func Replaced(slabs, bases *Map) map[int]int {
	all := map[int]int{}
	for i, j := range beside(slabs, bases) {
		all[i] = j
	}
	return all
}

// beside goes through the stored slabs of two maps that lie at the same place.
func beside(a, b *Map) iter.Seq2[int, int] {
	return func(yield func(int, int) bool) {
		j := 0
		for i := range a.Len() {
			s := a.Slab(i)
			if s.Zero {
				continue
			}
			for ; j < b.Len(); j++ {
				t := b.Slab(j)
				if t.Area > s.Area || t.Area == s.Area && t.Start >= s.Start {
					if !t.Zero && t.Area == s.Area && t.Start == s.Start && !yield(i, j) {
						return
					}
					break
				}
			}
		}
	}
}
