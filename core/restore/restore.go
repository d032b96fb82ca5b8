// Package restore writes a version onto a disk and proves that it is there.
//
//	r, err := restore.New(manifest, slabs, disk, size, 512, restore.Options{Grow: partition.GrowSystem})
//	… show r.Plan(); nothing was written yet …
//	there, err := r.Begin(ctx, nil) // goes on with what an earlier try has left
//	err = r.WriteFrame(i, frame)    // for every slab, in any order
//	err = r.Finish(ctx, nil)        // checks the whole disk, then makes it bootable
//
// While it is under way the disk bears a mark in place of its partition table, which is
// written last (package disk). In restore.go are plan and writing, fill.go takes all
// slabs from a store, clear.go removes what the old disk could be taken for, finish.go
// checks, keep.go leaves alone what the disk keeps, and longer.go says which partitions have
// become longer.
package restore

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"sync"

	"jugate/core/disk"
	"jugate/core/image"
	"jugate/core/partition"
	"jugate/core/slabstore"
	"jugate/core/volume"
)

// Target is a disk that an image is restored onto.
type Target interface {
	io.ReaderAt
	io.WriterAt
	// Sync returns when everything written has reached the medium, so that what
	// is read afterwards comes from there.
	Sync() error
}

// Zeroer is a Target that can make n bytes from off zero without writing them all.
type Zeroer interface {
	Zero(off, n int64) error
}

// Trimmer is a Target that can be told what nobody needs any more.
type Trimmer interface {
	Trim(off, n int64) error
}

// Options say how an image is to lie on a disk. The zero value leaves all
// partitions as they were.
type Options struct {
	Grow partition.Grow
	// Keep names partitions of the disk that stay as they are; the image lies beside them.
	// Their entries stay in the table while the restore is under way, and nothing is
	// written where they are.
	Keep []partition.Ref
	// Layout, if set, gives partitions other sizes; Grow says nothing then.
	Layout partition.Layout
	// Part, if set, brings one partition of the image alone, and what is written to is no
	// disk, but a partition of one.
	Part *Part
	// Trim tells the medium first that nothing on it is needed any more.
	Trim bool
	// Label names the image in the mark that an unfinished restore leaves.
	Label string
	// Nonce, if set, begins what Proof tells after Finish.
	Nonce []byte
}

// Part is one partition of an image that goes onto one partition of a disk.
type Part struct {
	Number int    // of the image
	First  uint64 // first sector of where it goes
}

// Restore brings one version onto one disk. The old partition table goes first,
// a Mark takes its place, and the new table comes last, after every byte was
// checked: nothing boots by mistake from a disk whose restore was cut off. A
// restore of the same version finds the mark and goes on with what is there.
//
// WriteFrame may be called from several goroutines and in any order of slabs.
type Restore struct {
	manifest *image.Manifest
	slabs    *image.Map
	table    *partition.Table // as it will be on this disk
	kept     *partition.Table // what stays, as the table has it meanwhile; nil for nothing
	fenced   []volume.Extent  // where that is, in bytes
	starts   []int64          // of each area on this disk; elsewhere for one that is left out
	disk     Target
	size     int64
	options  Options
	mark     disk.Mark
	buffers  sync.Pool

	// head is the beginning of a disk without a partition table. It is held back
	// until the end, so that its file system is not found before.
	head []byte

	// twins are the further places of a slab whose bytes occur more than once,
	// under the number that Map.Distinct gives.
	twins map[int][]int

	stock bool // TakeStock has looked at the disk

	bases *image.Map  // what lay here in the version before, of which some is told by what differs
	based map[int]int // which of them a slab takes the place of
	proof *image.Proof

	mu   sync.Mutex
	left image.SlabSet // those that need their frame
}

// elsewhere is where an area lies whose place is taken by what the disk keeps.
const elsewhere = -1

// headLen is how many bytes are held back at most; file systems name themselves
// in the first 68 KiB.
const headLen = 128 << 10

// plan is how a version will lie on a disk, what is kept there (nil for nothing), and the
// mark of a restore to there.
func plan(man *image.Manifest, onto Target, size int64, sectorSize int, o Options) (table, kept *partition.Table, mark disk.Mark, err error) {
	if len(o.Keep) > 0 {
		if kept, err = keeping(onto, size, sectorSize, o.Keep); err != nil {
			return nil, nil, mark, err
		}
	}
	if o.Part != nil {
		table, err = onePart(man, size, sectorSize, o)
	} else {
		table, err = man.Onto(size, sectorSize, partition.Fit{Grow: o.Grow, Layout: o.Layout, Beside: kept})
	}
	if err != nil {
		return nil, nil, mark, err
	}
	text, err := json.Marshal(struct {
		Manifest *image.Manifest
		Table    *partition.Table
		Kept     []partition.Partition `json:",omitempty"`
		Part     *Part                 `json:",omitempty"`
	}{man, table, keptOf(table), o.Part})
	return table, kept, disk.Mark{Label: o.Label, Plan: slabstore.Sum(text)}, err
}

// Unfinished tells, without the slab map, whether an earlier restore of the version was cut
// off on this disk of size bytes. Errors are those of New.
func Unfinished(man *image.Manifest, onto Target, size int64, sectorSize int, o Options) (bool, error) {
	_, _, mark, err := plan(man, onto, size, sectorSize, o)
	if err != nil {
		return false, err
	}
	before, err := disk.ReadMark(onto)
	return before != nil && before.Plan == mark.Plan, err
}

// New checks that the version fits onto a disk of size bytes and plans
// it; nothing is written. Errors are *partition.TooSmallError, name a partition
// to grow that is not there, say why a partition cannot be kept, or wrap
// partition.ErrSectorSize.
func New(man *image.Manifest, slabs *image.Map, onto Target, size int64, sectorSize int, o Options) (*Restore, error) {
	table, kept, mark, err := plan(man, onto, size, sectorSize, o)
	if err != nil {
		return nil, err
	}
	r := &Restore{manifest: man, slabs: slabs, table: table, kept: kept, mark: mark, disk: onto, size: size, options: o,
		twins: map[int][]int{}}
	for _, p := range r.Kept() {
		r.fenced = append(r.fenced, volume.Extent{Start: table.Start(p), Length: table.Size(p)})
	}
	r.buffers.New = func() any { b := disk.Buffer(int(man.SlabSize)); return &b }
	for _, a := range man.Areas {
		start, _, here := image.Placed(table, a.Partition)
		if o.Part != nil {
			start, here = 0, a.Partition == o.Part.Number
		}
		if !here {
			start = elsewhere
		}
		r.starts = append(r.starts, start)
	}
	if table.Scheme == partition.None {
		r.head = make([]byte, min(headLen, size))
	}
	for i := range slabs.Len() {
		if s := slabs.Slab(i); s.Zero || !r.comes(s) {
			continue
		}
		first := slabs.First(i)
		if r.left.Add(first); first != i {
			r.twins[first] = append(r.twins[first], i)
		}
	}
	return r, nil
}

// comes tells whether a slab belongs onto this disk: those of an area that is left out do
// not.
func (r *Restore) comes(s image.Slab) bool { return r.starts[s.Area] != elsewhere }

// places are the slabs that have the bytes of slab i and belong onto this disk.
func (r *Restore) places(i int) []int {
	if !r.comes(r.slabs.Slab(i)) {
		return r.twins[i]
	}
	return append([]int{i}, r.twins[i]...)
}

// LeftOut are the partitions of the image whose place is taken by what the disk keeps.
func (r *Restore) LeftOut() (numbers []int) {
	for i, a := range r.manifest.Areas {
		if r.starts[i] == elsewhere {
			numbers = append(numbers, a.Partition)
		}
	}
	return numbers
}

// Total is how many bytes of the image come onto this disk.
func (r *Restore) Total() int64 {
	total := r.manifest.UsedBytes
	if !slices.Contains(r.starts, elsewhere) {
		return total
	}
	for i := range r.slabs.Len() {
		if s := r.slabs.Slab(i); !r.comes(s) {
			total -= s.Length()
		}
	}
	return total
}

// Plan is the partition table as it will be on this disk.
func (r *Restore) Plan() *partition.Table { return r.table }

// TakeStock looks at what is on the disk already, and writes nothing: slabs that are
// right need not come again. Without reuse it only looks if an earlier restore of
// the same plan was cut off there. found tells how many bytes are right; progress,
// if set, is told the bytes looked at and in all.
func (r *Restore) TakeStock(ctx context.Context, reuse bool, progress func(done, total int64)) (found int64, err error) {
	before, err := disk.ReadMark(r.disk)
	if err != nil {
		return 0, err
	}
	if !reuse && (before == nil || before.Plan != r.mark.Plan) {
		return 0, nil
	}
	r.stock = true
	return r.takeStock(ctx, progress)
}

// Begin takes the old partition table off the disk and puts the mark in its
// place; from here on the disk is not bootable until Finish has succeeded. If the
// mark of the same plan is there already, what an earlier restore has written is
// looked at, unless TakeStock has done so; found tells how many bytes are right.
// progress, if set, is told the bytes looked at and in all.
func (r *Restore) Begin(ctx context.Context, progress func(done, total int64)) (found int64, err error) {
	before, err := disk.ReadMark(r.disk)
	if err != nil {
		return 0, err
	}
	if before != nil && before.Plan == r.mark.Plan {
		if r.stock {
			return 0, nil
		}
		return r.takeStock(ctx, progress)
	}
	if err := r.takeTable(); err != nil {
		return 0, err
	}
	if err := r.disk.Sync(); err != nil {
		return 0, err
	}
	if t, ok := r.disk.(Trimmer); ok && r.options.Trim && !r.stock {
		for _, free := range without(volume.Extent{Start: headLen, Length: r.size - headLen}, r.spared()) {
			start := (free.Start + headLen - 1) / headLen * headLen
			if length := (free.End() - start) / headLen * headLen; length > 0 {
				// A medium that cannot, or will not, is written to all the same.
				_ = t.Trim(start, length)
			}
		}
	}
	return 0, nil
}

// takeTable replaces the old partition table by the mark, or by that and what is kept.
func (r *Restore) takeTable() error {
	if r.kept != nil {
		meanwhile := *r.kept
		meanwhile.BootCode = r.mark.Beside()
		return meanwhile.Write(r.disk)
	}
	if err := partition.Wipe(r.disk, r.size, r.table.SectorSize); err != nil {
		return err
	}
	sector := make([]byte, r.table.SectorSize)
	copy(sector, r.mark.Encode())
	if _, err := r.disk.WriteAt(sector, 0); err != nil {
		return fmt.Errorf("mark the disk as unfinished: %w", err)
	}
	return nil
}

// Needs reports whether slab i still needs its frame. Numbers are those of
// Map.Distinct; a slab that occurs again elsewhere is needed once.
func (r *Restore) Needs(i int) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.left.Has(i)
}

// Missing are the slabs that still need their frame.
func (r *Restore) Missing() *image.SlabSet {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.left.Clone()
}

// Left is how many slabs still need their frame.
func (r *Restore) Left() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.left.Len()
}

// WriteFrame checks the frame of slab i against its digest and writes its bytes
// wherever they belong. It tells whether the slab was lacking until then: of several that bring one slab at
// the same time, one is told so. A slab that is there already is not written again. Errors
// wrap slabstore.ErrFrame or slabstore.ErrDigest, and nothing was written then,
// or are the disk's.
func (r *Restore) WriteFrame(i int, frame []byte) (lacked bool, err error) {
	if i < 0 || i >= r.slabs.Len() {
		return false, fmt.Errorf("%w: slab %d is beyond its %d slabs", image.ErrManifest, i, r.slabs.Len())
	}
	if !r.Needs(i) {
		return false, nil
	}
	buffer := r.buffers.Get().(*[]byte)
	defer r.buffers.Put(buffer)
	plain, err := slabstore.ExpandChecked((*buffer)[:0], frame, r.slabs.Slab(i).Digest)
	if err != nil {
		return false, fmt.Errorf("slab %d: %w", i, err)
	}
	return r.bring(i, plain)
}

// bring writes a slab wherever it belongs.
func (r *Restore) bring(i int, plain []byte) (lacked bool, err error) {
	for _, place := range r.places(i) {
		if err := r.write(r.slabs.Slab(place), plain); err != nil {
			return false, err
		}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	lacked = r.left.Has(i)
	r.left.Remove(i)
	return lacked, nil
}

func (r *Restore) write(s image.Slab, plain []byte) error {
	if n := s.Length(); n != int64(len(plain)) {
		return fmt.Errorf("%w: a slab of %d bytes for extents of %d", image.ErrManifest, len(plain), n)
	}
	for _, e := range s.Extents {
		if err := r.writeAt(plain[:e.Length], r.starts[s.Area]+e.Start); err != nil {
			return err
		}
		plain = plain[e.Length:]
	}
	return nil
}

// writeAt writes to the disk, but for what is held back.
func (r *Restore) writeAt(b []byte, at int64) error {
	if at < int64(len(r.head)) {
		n := copy(r.head[at:], b)
		b, at = b[n:], at+int64(n)
	}
	if len(b) == 0 {
		return nil
	}
	if err := r.fence(at, int64(len(b))); err != nil {
		return err
	}
	if _, err := r.disk.WriteAt(b, at); err != nil {
		return fmt.Errorf("write %d bytes of the disk at byte %d: %w", len(b), at, err)
	}
	return nil
}

// readAt reads what writeAt wrote.
func (r *Restore) readAt(b []byte, at int64) error {
	if at < int64(len(r.head)) {
		n := copy(b, r.head[at:])
		b, at = b[n:], at+int64(n)
	}
	if got, err := r.disk.ReadAt(b, at); got < len(b) {
		return fmt.Errorf("read %d bytes of the disk at byte %d back: %w", len(b), at, err)
	}
	return nil
}
