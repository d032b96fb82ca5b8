package volume

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"io"
	"iter"
	"slices"
	"strings"
)

// A physical volume of LVM2. A label in one of the first four sectors leads to
// areas with a text that describes the whole volume group: which extents of which
// physical volume belong to which logical volume. What lies in front of the
// extents, and every extent that a logical volume has, is in use; nothing here
// looks into the logical volumes.
type lvm struct {
	r        io.ReaderAt
	size     int64
	id       string // 32 characters
	data     int64  // byte at which the data area begins
	metadata []Extent
}

const (
	lvmMaxText = 16 << 20
)

// lvmInitial begins every checksum of LVM2.
const lvmInitial = 0xF597A6CF

func lvmChecksumIs(b []byte, want uint32) bool {
	return ^crc32.Update(^uint32(lvmInitial), crc32.IEEETable, b) == want || !checksumsMatter
}

func probeLVM(r io.ReaderAt, size int64) (*Volume, error) {
	b, err := head(r, size, 0, 2048)
	if b == nil || err != nil {
		return nil, err
	}
	for at := 0; at < 2048; at += 512 {
		sector := b[at : at+512]
		if string(sector[:8]) != "LABELONE" || string(sector[24:32]) != "LVM2 001" {
			continue
		}
		le := binary.LittleEndian
		if le.Uint64(sector[8:]) != uint64(at/512) || !lvmChecksumIs(sector[20:], le.Uint32(sector[16:])) {
			return nil, fmt.Errorf("LVM2: %w: its label's checksum is wrong", ErrDamaged)
		}
		p := &lvm{r: r, size: size}
		if err := p.header(sector, int(le.Uint32(sector[20:]))); err != nil {
			return nil, fmt.Errorf("LVM2: %w", err)
		}
		return p.volume()
	}
	return nil, nil
}

// header reads the physical volume's header behind its label: its identity, the
// areas for data, and those for metadata.
func (p *lvm) header(sector []byte, at int) error {
	if at < 32 || at+40+32 > len(sector) {
		return fmt.Errorf("%w: its header is said to be at byte %d", ErrDamaged, at)
	}
	p.id = string(sector[at : at+32])
	le := binary.LittleEndian
	lists := sector[at+40:]
	next := func() (e Extent, ok bool) {
		if len(lists) < 16 {
			return e, false
		}
		e = Extent{int64(le.Uint64(lists)), int64(le.Uint64(lists[8:]))}
		lists = lists[16:]
		return e, e.Start != 0
	}
	for e, ok := next(); ok; e, ok = next() {
		if p.data == 0 {
			p.data = e.Start
		}
	}
	for e, ok := next(); ok; e, ok = next() {
		if e.Start < 0 || e.Length < 512 || e.Start > p.size-e.Length {
			return fmt.Errorf("%w: a metadata area of %d bytes at byte %d", ErrDamaged, e.Length, e.Start)
		}
		p.metadata = append(p.metadata, e)
	}
	if p.data <= 0 || p.data > p.size {
		return fmt.Errorf("%w: its data begins at byte %d", ErrDamaged, p.data)
	}
	return nil
}

func (p *lvm) volume() (*Volume, error) {
	v := &Volume{Kind: LVM, UUID: dashed(p.id), ClusterSize: 1, Clean: true}
	if len(p.metadata) == 0 {
		v.Notes = append(v.Notes, "its metadata is on another disk of its group; it is taken whole")
		return v, nil
	}
	text, err := p.text()
	if err != nil {
		return nil, fmt.Errorf("LVM2: %w", err)
	}
	if text == "" { // of no group yet; its label says how large it is
		v.used = withFixed(p.fixed(p.data), nothing)
		return v, nil
	}
	group, err := p.group(text)
	if err != nil {
		return nil, fmt.Errorf("LVM2: %w", err)
	}
	v.Label, v.ClusterSize, v.Needs = group.name, group.extent, group.start+group.count*group.extent
	fixed := p.fixed(group.start)
	v.Needs = max(v.Needs, fixed[len(fixed)-1].End())
	v.used = withFixed(fixed, group.extents())
	return v, nil
}

// nothing is in use.
func nothing(func(Extent, error) bool) {}

// fixed is what lies in front of the extents, and the metadata behind them: a volume can
// have a second copy at its end.
func (p *lvm) fixed(front int64) []Extent {
	all := []Extent{{0, front}}
	for _, m := range p.metadata {
		if m.Start >= front {
			all = append(all, m)
		}
	}
	slices.SortFunc(all, func(a, b Extent) int { return cmp.Compare(a.Start, b.Start) })
	return all
}

// text reads the newest metadata from the first area that has a sound one. An
// area is a ring behind its header of 512 bytes.
func (p *lvm) text() (string, error) {
	le := binary.LittleEndian
	var failed error
	for _, area := range p.metadata {
		h := make([]byte, 512)
		if err := readAt(p.r, h, area.Start); err != nil {
			return "", err
		}
		if !lvmChecksumIs(h[4:], le.Uint32(h)) {
			failed = fmt.Errorf("%w: the checksum of a metadata area is wrong", ErrDamaged)
			continue
		}
		offset, size := int64(le.Uint64(h[40:])), int64(le.Uint64(h[48:]))
		if size == 0 {
			return "", nil
		}
		if offset < 512 || offset >= area.Length || size < 0 || size > min(area.Length-512, lvmMaxText) {
			failed = fmt.Errorf("%w: metadata of %d bytes at byte %d of its area", ErrDamaged, size, offset)
			continue
		}
		b := make([]byte, size)
		first := min(size, area.Length-offset)
		if err := readAt(p.r, b[:first], area.Start+offset); err != nil {
			return "", err
		}
		if err := readAt(p.r, b[first:], area.Start+512); err != nil {
			return "", err
		}
		if !lvmChecksumIs(b, le.Uint32(h[56:])) {
			failed = fmt.Errorf("%w: the checksum of its metadata is wrong", ErrDamaged)
			continue
		}
		return strings.TrimRight(string(b), "\x00"), nil
	}
	return "", failed
}

// lvmGroup is what the metadata says of this one physical volume.
type lvmGroup struct {
	name         string
	extent       int64 // bytes
	start, count int64 // byte of the first extent, and how many there are
	used         []lvmRun
}

type lvmRun struct{ first, count int64 } // extents

func (p *lvm) group(text string) (*lvmGroup, error) {
	root, err := parseLVM(text)
	if err != nil {
		return nil, err
	}
	for name, value := range root {
		vg, ok := value.(lvmSection)
		if !ok {
			continue
		}
		g := &lvmGroup{name: name, extent: vg.number("extent_size") * 512}
		own := ""
		for pv, value := range vg.section("physical_volumes") {
			if s, ok := value.(lvmSection); ok && strings.ReplaceAll(s.text("id"), "-", "") == p.id {
				own, g.start, g.count = pv, s.number("pe_start")*512, s.number("pe_count")
			}
		}
		if own == "" || g.extent <= 0 || g.extent > 16<<30 || g.start <= 0 || g.start > p.size || g.count < 0 || g.count > (p.size-g.start)/g.extent {
			return nil, fmt.Errorf("%w: its group %q does not know it, or %d extents of %d bytes do not fit", ErrDamaged, name, g.count, g.extent)
		}
		for _, value := range vg.section("logical_volumes") {
			lv, _ := value.(lvmSection)
			for _, value := range lv {
				if segment, ok := value.(lvmSection); ok {
					g.add(segment, own)
				}
			}
		}
		return g, g.check()
	}
	return nil, fmt.Errorf("%w: its metadata names no group", ErrDamaged)
}

// add takes the extents that a segment has on the physical volume own. Whatever
// the segment's type, its places are a list of names and numbers.
func (g *lvmGroup) add(segment lvmSection, own string) {
	count := segment.number("extent_count")
	if n := segment.number("stripe_count"); n > 1 {
		count = (count + n - 1) / n
	}
	for _, value := range segment {
		list, _ := value.([]any)
		for i := 0; i+1 < len(list); i += 2 {
			first, isNumber := list[i+1].(int64)
			if name, isName := list[i].(string); isName && isNumber && name == own {
				g.used = append(g.used, lvmRun{first, count})
			}
		}
	}
}

func (g *lvmGroup) check() error {
	slices.SortFunc(g.used, func(a, b lvmRun) int { return int(min(max(a.first-b.first, -1), 1)) })
	end := int64(0)
	for _, r := range g.used {
		if r.first < end || r.count <= 0 || r.count > g.count-r.first {
			return fmt.Errorf("%w: extents %d to %d of %d are given out twice, or are not there", ErrDamaged, r.first, r.first+r.count, g.count)
		}
		end = r.first + r.count
	}
	return nil
}

func (g *lvmGroup) extents() iter.Seq2[Extent, error] {
	return func(yield func(Extent, error) bool) {
		for _, r := range g.used {
			if !yield(Extent{g.start + r.first*g.extent, r.count * g.extent}, nil) {
				return
			}
		}
	}
}

// dashed writes an identity as LVM2's own tools do.
func dashed(id string) string {
	return strings.Join([]string{id[:6], id[6:10], id[10:14], id[14:18], id[18:22], id[22:26], id[26:]}, "-")
}
