package image

import (
	"iter"
	"math/bits"
	"slices"

	"jugate/core/fault"
)

// SlabSet is a set of slabs, by their numbers in the version's slab map. The zero
// value is empty.
type SlabSet struct{ words []uint64 }

// SlabRange is the slabs from First to Last, both included.
type SlabRange = [2]int

// ErrRange says that ranges are not those of a set of slabs.
var ErrRange = fault.Invalid.Errorf("ranges of slabs have to be in order, apart from each other, and within the version")

// ParseRanges makes a set of ranges of a version that has so many slabs. They must come
// in order and not overlap, so that their number bounds the work.
func ParseRanges(ranges []SlabRange, slabs int) (*SlabSet, error) {
	s := &SlabSet{}
	next := 0
	for _, r := range ranges {
		if r[0] < next || r[1] < r[0] || r[1] >= slabs {
			return nil, ErrRange
		}
		for i := r[0]; i <= r[1]; i++ {
			s.Add(i)
		}
		next = r[1] + 1
	}
	return s, nil
}

// Add puts slab i into the set.
func (s *SlabSet) Add(i int) {
	for i/64 >= len(s.words) {
		s.words = append(s.words, 0)
	}
	s.words[i/64] |= 1 << (i % 64)
}

// Remove takes slab i out of the set.
func (s *SlabSet) Remove(i int) {
	if s.Has(i) {
		s.words[i/64] &^= 1 << (i % 64)
	}
}

// Has tells whether slab i is in the set.
func (s *SlabSet) Has(i int) bool { return i/64 < len(s.words) && s.words[i/64]&(1<<(i%64)) != 0 }

// Len is how many slabs are in the set.
func (s *SlabSet) Len() (n int) {
	for _, w := range s.words {
		n += bits.OnesCount64(w)
	}
	return n
}

// All goes through the slabs in ascending order.
func (s *SlabSet) All() iter.Seq[int] {
	return func(yield func(int) bool) {
		for i, w := range s.words {
			for ; w != 0; w &= w - 1 {
				if !yield(64*i + bits.TrailingZeros64(w)) {
					return
				}
			}
		}
	}
}

// Clone is a set of the same slabs.
func (s *SlabSet) Clone() *SlabSet { return &SlabSet{words: slices.Clone(s.words)} }

// Union adds another set to this one.
func (s *SlabSet) Union(o *SlabSet) {
	for len(s.words) < len(o.words) {
		s.words = append(s.words, 0)
	}
	for i, w := range o.words {
		s.words[i] |= w
	}
}

// Both returns what is in this set and in the other.
func (s *SlabSet) Both(o *SlabSet) *SlabSet { return s.Without(s.Without(o)) }

// Without returns what is in this set and not in the other.
func (s *SlabSet) Without(o *SlabSet) *SlabSet {
	r := s.Clone()
	for i := range min(len(r.words), len(o.words)) {
		r.words[i] &^= o.words[i]
	}
	return r
}

// Ranges are the set's runs of numbers.
func (s *SlabSet) Ranges() []SlabRange {
	ranges := []SlabRange{}
	for i := range s.All() {
		if n := len(ranges); n > 0 && ranges[n-1][1] == i-1 {
			ranges[n-1][1] = i
		} else {
			ranges = append(ranges, SlabRange{i, i})
		}
	}
	return ranges
}

// InTwo are the slabs that at least two of the sets have.
func InTwo(sets []*SlabSet) *SlabSet {
	once, twice := &SlabSet{}, &SlabSet{}
	for _, s := range sets {
		for len(twice.words) < len(s.words) {
			twice.words = append(twice.words, 0)
			once.words = append(once.words, make([]uint64, len(twice.words)-len(once.words))...)
		}
		for i, w := range s.words {
			twice.words[i] |= once.words[i] & w
			once.words[i] |= w
		}
	}
	return twice
}
