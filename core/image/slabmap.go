package image

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"fmt"
	"iter"
	"slices"
	"sync"

	"github.com/zeebo/blake3"

	"jugate/core/slabstore"
	"jugate/core/volume"
)

// mapMagic begins a slab map.
const mapMagic = "JUGMAP1\n"

// Slab is one record of the map: the used bytes of one stretch of an area.
type Slab struct {
	Area    int             // index into Manifest.Areas
	Start   int64           // where the stretch begins in the area, a multiple of SlabSize
	Extents []volume.Extent // the used bytes, relative to the area; ascending
	Zero    bool            // all of them are zero, and no slab is stored
	Digest  slabstore.Digest
}

// Length is how many plain bytes the slab has.
func (s Slab) Length() int64 {
	var n int64
	for _, e := range s.Extents {
		n += e.Length
	}
	return n
}

// Map is the list of a version's slabs in the order of the disk. It stays in
// its encoded form, about 45 bytes a slab, and decodes a record when asked.
//
// A record is, all numbers unsigned varints (see encoding/binary):
//
//	area, start / SlabSize, how many extents × 2 + (1 if zero),
//	for each extent: bytes skipped since the last one's end, length,
//	and, unless zero, the 32 bytes of the digest.
type Map struct {
	slabSize int64
	raw      []byte
	offsets  []uint32 // of each record in raw

	indexed  sync.Once
	byDigest []uint32 // stored slabs in the order of their digests, each digest once: the first that has it
}

// Len is the number of slabs.
func (m *Map) Len() int { return len(m.offsets) }

// Bytes is the encoded map.
func (m *Map) Bytes() []byte { return m.raw }

// Slab decodes record i.
func (m *Map) Slab(i int) Slab {
	s, _, err := decodeSlab(m.raw[m.offsets[i]:], m.slabSize)
	if err != nil {
		panic(err) // ParseMap has decoded every record once
	}
	return s
}

// Has tells whether a slab of that digest is stored for this version. The first call
// makes an index of four bytes a slab.
func (m *Map) Has(d slabstore.Digest) bool {
	_, found := m.first(d[:])
	return found
}

// First is the number under which Distinct gives the content of a stored slab.
func (m *Map) First(i int) int {
	at, _ := m.first(m.digest(uint32(i)))
	return int(m.byDigest[at])
}

// first is where the index has the first slab of a digest.
func (m *Map) first(digest []byte) (at int, found bool) {
	m.indexed.Do(func() {
		for i := range m.offsets {
			if !m.Slab(i).Zero {
				m.byDigest = append(m.byDigest, uint32(i))
			}
		}
		slices.SortFunc(m.byDigest, func(a, b uint32) int {
			return cmp.Or(bytes.Compare(m.digest(a), m.digest(b)), cmp.Compare(a, b))
		})
		m.byDigest = slices.CompactFunc(m.byDigest, func(a, b uint32) bool { return bytes.Equal(m.digest(a), m.digest(b)) })
	})
	return slices.BinarySearchFunc(m.byDigest, digest, func(i uint32, d []byte) int { return bytes.Compare(m.digest(i), d) })
}

// digest is the last part of a stored slab's record.
func (m *Map) digest(i uint32) []byte {
	end := uint32(len(m.raw))
	if int(i)+1 < len(m.offsets) {
		end = m.offsets[i+1]
	}
	return m.raw[end-uint32(len(slabstore.Digest{})) : end]
}

// Proof is what only reading a whole disk back tells, for one workstation of one
// delivery: over every slab, in any order, the BLAKE3-256 digests of nonce, the slab's
// number (64 bits, big-endian) and the digest of its bytes are combined by exclusive or;
// a slab of zeros has the digest of no bytes.
type Proof struct {
	nonce []byte
	sum   [32]byte
}

// NewProof begins a proof.
func NewProof(nonce []byte) *Proof { return &Proof{nonce: nonce} }

// Add takes a slab that was read back and is right.
func (p *Proof) Add(number int, s Slab) {
	d := s.Digest
	if s.Zero {
		d = slabstore.Sum(nil)
	}
	b := binary.BigEndian.AppendUint64(slices.Clone(p.nonce), uint64(number))
	one := blake3.Sum256(append(b, d[:]...))
	for i := range p.sum {
		p.sum[i] ^= one[i]
	}
}

// Sum is the proof.
func (p *Proof) Sum() []byte { return slices.Clone(p.sum[:]) }

// Proof is what a workstation that has read everything back proves it with, but the areas
// (by their index) that were left out.
func (m *Map) Proof(nonce []byte, without ...int) []byte {
	p := NewProof(nonce)
	for i := range m.Len() {
		if s := m.Slab(i); !slices.Contains(without, s.Area) {
			p.Add(i, s)
		}
	}
	return p.Sum()
}

// Distinct goes through the numbers of the slabs that have to be sent: those
// that are stored, each digest once, in the order of the disk.
func (m *Map) Distinct() iter.Seq2[int, slabstore.Digest] {
	return func(yield func(int, slabstore.Digest) bool) {
		for i := range m.Len() {
			s := m.Slab(i)
			if s.Zero {
				continue
			}
			if m.First(i) == i && !yield(i, s.Digest) {
				return
			}
		}
	}
}

func NewMap(slabSize int64) *Map { return &Map{slabSize: slabSize, raw: []byte(mapMagic)} }

// Add appends a record; slabs come in the order of the disk.
func (m *Map) Add(s Slab) {
	m.offsets = append(m.offsets, uint32(len(m.raw)))
	b := binary.AppendUvarint(m.raw, uint64(s.Area))
	b = binary.AppendUvarint(b, uint64(s.Start/m.slabSize))
	n := uint64(len(s.Extents)) * 2
	if s.Zero {
		n++
	}
	b = binary.AppendUvarint(b, n)
	at := s.Start
	for _, e := range s.Extents {
		b = binary.AppendUvarint(b, uint64(e.Start-at))
		b = binary.AppendUvarint(b, uint64(e.Length))
		at = e.End()
	}
	if !s.Zero {
		b = append(b, s.Digest[:]...)
	}
	m.raw = b
}

// DropLast takes the last record away again.
func (m *Map) DropLast() {
	last := len(m.offsets) - 1
	m.raw, m.offsets = m.raw[:m.offsets[last]], m.offsets[:last]
}

// ParseMap reads the map that belongs to a manifest and checks every record:
// the digest of the map, the order of the slabs, that all extents lie in their
// stretch and area, and the totals. Errors wrap ErrManifest.
func ParseMap(raw []byte, man *Manifest) (*Map, error) {
	if int64(len(raw)) != man.MapSize || slabstore.Sum(raw) != man.MapDigest {
		return nil, fmt.Errorf("%w: the slab map is not the one it names", ErrManifest)
	}
	m := &Map{slabSize: man.SlabSize, raw: raw}
	if err := m.parse(man, func(a Area) int64 { return a.Needs }); err != nil {
		return nil, err
	}
	var used int64
	var zeros int
	for i := range m.Len() {
		s := m.Slab(i)
		if used += s.Length(); s.Zero {
			zeros++
		}
	}
	if m.Len() != man.Slabs || used != man.UsedBytes || zeros != man.ZeroSlabs {
		return nil, fmt.Errorf("%w: the map has %d slabs with %d bytes, the manifest %d with %d",
			ErrManifest, m.Len(), used, man.Slabs, man.UsedBytes)
	}
	return m, nil
}

// parse finds the records, and checks that they are in order and lie within their areas, as
// far as within says.
func (m *Map) parse(man *Manifest, within func(Area) int64) error {
	if len(m.raw) < len(mapMagic) || string(m.raw[:len(mapMagic)]) != mapMagic {
		return fmt.Errorf("%w: the slab map does not begin with %q", ErrManifest, mapMagic)
	}
	var last Slab
	for at := len(mapMagic); at < len(m.raw); {
		s, n, err := decodeSlab(m.raw[at:], m.slabSize)
		if err != nil {
			return fmt.Errorf("%w: slab %d: %w", ErrManifest, m.Len(), err)
		}
		if s.Area >= len(man.Areas) || m.Len() > 0 && !follows(last, s) {
			return fmt.Errorf("%w: slab %d is out of order", ErrManifest, m.Len())
		}
		if end := s.Extents[len(s.Extents)-1].End(); end > within(man.Areas[s.Area]) {
			return fmt.Errorf("%w: slab %d reaches over what its partition keeps", ErrManifest, m.Len())
		}
		last = s
		m.offsets = append(m.offsets, uint32(at))
		at += n
	}
	return nil
}

// follows tells whether b may come right after a. A stretch has one slab, and
// behind it, if page or hibernation files lie there too, one of zeros for other
// bytes of the same stretch.
func follows(a, b Slab) bool {
	if a.Area != b.Area {
		return a.Area < b.Area
	}
	if a.Start != b.Start {
		return a.Start < b.Start
	}
	if a.Zero || !b.Zero {
		return false
	}
	i, j := 0, 0
	for i < len(a.Extents) && j < len(b.Extents) {
		x, y := a.Extents[i], b.Extents[j]
		if x.Start < y.End() && y.Start < x.End() {
			return false
		}
		if x.Start < y.Start {
			i++
		} else {
			j++
		}
	}
	return true
}

// decodeSlab reads one record and tells its length.
func decodeSlab(b []byte, slabSize int64) (Slab, int, error) {
	var s Slab
	at := 0
	next := func(limit uint64) (int64, error) {
		v, n := binary.Uvarint(b[at:])
		if n <= 0 || v > limit {
			return 0, fmt.Errorf("a number is cut off or over %d", limit)
		}
		at += n
		return int64(v), nil
	}
	area, err := next(maxAreas)
	if err != nil {
		return s, 0, err
	}
	stretch, err := next(1 << 40)
	if err != nil {
		return s, 0, err
	}
	count, err := next(uint64(2*slabSize/minExtent + 1))
	if err != nil {
		return s, 0, err
	}
	s.Area, s.Start, s.Zero = int(area), stretch*slabSize, count&1 == 1
	if count /= 2; count == 0 || count > int64(len(b)) {
		return s, 0, fmt.Errorf("%d extents", count)
	}
	s.Extents = make([]volume.Extent, count)
	end := s.Start
	for i := range s.Extents {
		skip, err := next(uint64(slabSize))
		if err != nil {
			return s, 0, err
		}
		length, err := next(uint64(slabSize))
		if err != nil {
			return s, 0, err
		}
		if length == 0 || end+skip+length > s.Start+slabSize {
			return s, 0, fmt.Errorf("an extent of %d bytes does not fit into its stretch", length)
		}
		s.Extents[i] = volume.Extent{Start: end + skip, Length: length}
		end += skip + length
	}
	if !s.Zero {
		if len(b)-at < len(s.Digest) {
			return s, 0, fmt.Errorf("the digest is cut off")
		}
		at += copy(s.Digest[:], b[at:])
	}
	return s, at, nil
}

const (
	maxAreas  = 1024 // more than a table has slots
	minExtent = 256  // bytes; bounds how many extents a stretch can have
)

var zeroes = make([]byte, 64<<10)

// AllZero tells whether there is nothing but zeros: such a slab has no bytes of its own.
func AllZero(b []byte) bool {
	for len(b) > 0 {
		n := min(len(b), len(zeroes))
		if !bytes.Equal(b[:n], zeroes[:n]) {
			return false
		}
		b = b[n:]
	}
	return true
}
