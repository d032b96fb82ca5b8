// Package likeness finds, for each of some slabs, the one of many others that it has most in
// common with, wherever that lies: an update writes a file anew at another place.
//
//	sketch := likeness.Of(plain)
//	search := likeness.NewSearch(wanted)       // the sketches of what is looked for
//	search.Offer(17, sketch)                   // for each candidate, in any order
//	candidate, found := search.Best(0)
//
// A sketch is a sample of what a slab has: a hash rolls over its bytes; where it has a rare
// form, which depends on the last 64 bytes alone, the hash is a feature; the smallest
// features are the sketch. Two slabs that share a tenth of their bytes share about a tenth of
// their features (A. Broder, "On the resemblance and containment of documents", 1997).
package likeness

import (
	"cmp"
	"slices"
)

const (
	// Size is how many features a sketch has at the most.
	Size = 64
	// rare is how many bits of a hash are zero where it is a feature: one byte in 1024, so that
	// even a file of some blocks has some.
	rare = 10
	// window is how many bytes a hash depends on.
	window = 64
)

// Sketch is the smallest features of a slab, ascending.
type Sketch []uint32

// gear is what each byte adds to the hash: the first 256 numbers of SplitMix64 from zero.
var gear = func() (table [256]uint64) {
	state := uint64(0)
	for i := range table {
		state += 0x9E3779B97F4A7C15
		z := state
		z = (z ^ z>>30) * 0xBF58476D1CE4E5B9
		z = (z ^ z>>27) * 0x94D049BB133111EB
		table[i] = z ^ z>>31
	}
	return table
}()

// Of makes the sketch of a slab.
func Of(plain []byte) Sketch {
	const mask = (1<<rare - 1) << (64 - rare)
	var hash uint64
	features := make(Sketch, 0, 2*len(plain)>>rare)
	for i, b := range plain {
		hash = hash<<1 + gear[b]
		if hash&mask == 0 && i >= window-1 {
			features = append(features, uint32(hash*0x9E3779B97F4A7C15>>32)) // spread: the low bits of a hash know the last bytes alone
		}
	}
	slices.Sort(features)
	features = slices.Compact(features)
	return slices.Clone(features[:min(len(features), Size)])
}

// Search looks for what is like some slabs. It is not safe for use by several goroutines.
type Search struct {
	features []feature // of all that are looked for, ascending
	best     []match
	counts   map[int]int // of one candidate; scratch
}

type feature struct {
	value uint32
	want  int32
}

type match struct {
	candidate, common int
}

// NewSearch looks for what is like the slabs of these sketches, which Best calls by their
// place in the list. It takes eight bytes a feature.
func NewSearch(wanted []Sketch) *Search {
	s := &Search{best: make([]match, len(wanted)), counts: map[int]int{}}
	for i, sketch := range wanted {
		for _, v := range sketch {
			s.features = append(s.features, feature{v, int32(i)})
		}
	}
	slices.SortFunc(s.features, func(a, b feature) int { return cmp.Or(cmp.Compare(a.value, b.value), cmp.Compare(a.want, b.want)) })
	return s
}

// Offer compares a candidate with all that are looked for. Of two that are equally like, the
// first one counts.
func (s *Search) Offer(candidate int, sketch Sketch) {
	clear(s.counts)
	for _, v := range sketch {
		i, _ := slices.BinarySearchFunc(s.features, v, func(f feature, v uint32) int { return cmp.Compare(f.value, v) })
		for ; i < len(s.features) && s.features[i].value == v; i++ {
			s.counts[int(s.features[i].want)]++
		}
	}
	for want, common := range s.counts {
		if common > s.best[want].common {
			s.best[want] = match{candidate, common}
		}
	}
}

// Best is the candidate that is most like what is looked for; none if nothing was.
func (s *Search) Best(want int) (candidate int, found bool) {
	m := s.best[want]
	return m.candidate, m.common > 0
}
