package image

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"runtime"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"jugate/core/partition"
	"jugate/core/slabstore"
)

// Target is a disk that an image is restored onto.
type Target interface {
	io.ReaderAt
	io.WriterAt
	// Sync returns when everything written has reached the medium, so that what
	// is read afterwards comes from there.
	Sync() error
}

// Restore brings one version onto one disk. The old partition table goes first
// and the new one comes last, after every byte was checked: a disk whose restore
// was cut off has no table, and nothing boots from it by mistake.
//
// WriteFrame may be called from several goroutines and in any order of slabs.
type Restore struct {
	manifest *Manifest
	slabs    *Map
	table    *partition.Table // as it will be on this disk
	starts   []int64          // of each area on this disk
	disk     Target
	size     int64
	buffers  sync.Pool

	// twins are the further places of a slab whose bytes occur more than once,
	// under the number that Map.Distinct gives.
	twins map[int][]int

	mu   sync.Mutex
	left map[int]struct{} // numbers of the slabs that need their frame
}

// NewRestore checks that the version fits onto a disk of size bytes and plans
// it; nothing is written. Errors are *partition.TooSmallError or wrap
// partition.ErrSectorSize.
func NewRestore(man *Manifest, slabs *Map, disk Target, size int64, sectorSize int) (*Restore, error) {
	table, err := man.Table.Onto(size, sectorSize)
	if err != nil {
		return nil, err
	}
	r := &Restore{manifest: man, slabs: slabs, table: table, disk: disk, size: size,
		twins: map[int][]int{}, left: map[int]struct{}{}}
	r.buffers.New = func() any { b := make([]byte, 0, man.SlabSize); return &b }
	for _, a := range man.Areas {
		start, _, _ := placed(table, a.Partition)
		r.starts = append(r.starts, start)
	}
	first := map[slabstore.Digest]int{}
	for i, d := range slabs.Distinct() {
		first[d] = i
		r.left[i] = struct{}{}
	}
	for i := range slabs.Len() {
		if s := slabs.Slab(i); !s.Zero && first[s.Digest] != i {
			r.twins[first[s.Digest]] = append(r.twins[first[s.Digest]], i)
		}
	}
	return r, nil
}

// Begin takes the old partition table off the disk: from here on it is not
// bootable until Finish has succeeded.
func (r *Restore) Begin() error {
	if err := partition.Wipe(r.disk, r.size, r.table.SectorSize); err != nil {
		return err
	}
	return r.disk.Sync()
}

// Needs reports whether slab i still needs its frame. Numbers are those of
// Map.Distinct; a slab that occurs again elsewhere is needed once.
func (r *Restore) Needs(i int) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	_, needed := r.left[i]
	return needed
}

// Missing lists the slabs that still need their frame, in the order of the disk.
func (r *Restore) Missing() []int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Sorted(maps.Keys(r.left))
}

// Left is how many slabs still need their frame.
func (r *Restore) Left() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.left)
}

// WriteFrame checks the frame of slab i against its digest and writes its bytes
// wherever they belong. A slab that is there already is not written again. Errors
// wrap slabstore.ErrFrame or slabstore.ErrDigest, and nothing was written then,
// or are the disk's.
func (r *Restore) WriteFrame(i int, frame []byte) error {
	if i < 0 || i >= r.slabs.Len() {
		return fmt.Errorf("%w: there is no slab %d", ErrManifest, i)
	}
	if !r.Needs(i) {
		return nil
	}
	s := r.slabs.Slab(i)
	buffer := r.buffers.Get().(*[]byte)
	defer r.buffers.Put(buffer)
	plain, err := slabstore.ExpandChecked((*buffer)[:0], frame, s.Digest)
	if err != nil {
		return fmt.Errorf("slab %d: %w", i, err)
	}
	for _, place := range append([]int{i}, r.twins[i]...) {
		if err := r.write(r.slabs.Slab(place), plain); err != nil {
			return err
		}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.left, i)
	return nil
}

func (r *Restore) write(s Slab, plain []byte) error {
	if n := s.Length(); n != int64(len(plain)) {
		return fmt.Errorf("%w: a slab of %d bytes for extents of %d", ErrManifest, len(plain), n)
	}
	for _, e := range s.Extents {
		at := r.starts[s.Area] + e.Start
		if _, err := r.disk.WriteAt(plain[:e.Length], at); err != nil {
			return fmt.Errorf("write %d bytes of the disk at byte %d: %w", e.Length, at, err)
		}
		plain = plain[e.Length:]
	}
	return nil
}

// MismatchError names the slabs that read back differently from what was written.
type MismatchError struct {
	Slabs []int
	First int64 // the first differing slab's place on the disk, in bytes
}

func (e *MismatchError) Error() string {
	return fmt.Sprintf("the disk returns other bytes than were written: %d slabs differ, the first at byte %d; the disk is failing", len(e.Slabs), e.First)
}

// ErrIncomplete says that Finish was called before every slab was written.
var ErrIncomplete = errors.New("slabs are missing")

// Finish writes the stretches that must be zero, reads the whole image back,
// compares every digest, and only then writes the partition table and reads
// that back too. progress, if set, is told the bytes checked so far and in all.
// When it returns nil the disk is right. Errors wrap ErrIncomplete, are
// *MismatchError, or are the disk's.
func (r *Restore) Finish(ctx context.Context, progress func(done, total int64)) error {
	if left := r.Left(); left > 0 {
		return fmt.Errorf("%w: %d of %d", ErrIncomplete, left, r.manifest.Slabs)
	}
	zero := make([]byte, r.manifest.SlabSize)
	for i := range r.slabs.Len() {
		if s := r.slabs.Slab(i); s.Zero {
			if err := r.write(s, zero[:s.Length()]); err != nil {
				return err
			}
		}
	}
	if err := r.disk.Sync(); err != nil {
		return err
	}
	if err := r.check(ctx, progress); err != nil {
		return err
	}
	if err := r.table.Write(r.disk); err != nil {
		return err
	}
	if err := r.disk.Sync(); err != nil {
		return err
	}
	return r.checkTable()
}

// check reads every slab back, several at a time.
func (r *Restore) check(parent context.Context, progress func(done, total int64)) error {
	var (
		mu   sync.Mutex
		bad  MismatchError
		done int64
	)
	group, ctx := errgroup.WithContext(parent)
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i := range r.slabs.Len() {
		if ctx.Err() != nil {
			break
		}
		group.Go(func() error {
			s := r.slabs.Slab(i)
			same, err := r.readsBack(s)
			if err != nil {
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			done += s.Length()
			if !same {
				at := r.starts[s.Area] + s.Extents[0].Start
				if bad.Slabs == nil || at < bad.First {
					bad.First = at
				}
				bad.Slabs = append(bad.Slabs, i)
			}
			if progress != nil {
				progress(done, r.manifest.UsedBytes)
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	if err := parent.Err(); err != nil {
		return err
	}
	if bad.Slabs != nil {
		return &bad
	}
	return nil
}

func (r *Restore) readsBack(s Slab) (bool, error) {
	buffer := r.buffers.Get().(*[]byte)
	defer r.buffers.Put(buffer)
	plain := (*buffer)[:0]
	for _, e := range s.Extents {
		n := len(plain)
		plain = plain[:n+int(e.Length)]
		at := r.starts[s.Area] + e.Start
		if got, err := r.disk.ReadAt(plain[n:], at); got < int(e.Length) {
			return false, fmt.Errorf("read %d bytes of the disk at byte %d back: %w", e.Length, at, err)
		}
	}
	if s.Zero {
		return allZero(plain), nil
	}
	return slabstore.Sum(plain) == s.Digest, nil
}

func (r *Restore) checkTable() error {
	got, err := partition.Read(r.disk, r.size, r.table.SectorSize)
	if err != nil {
		return fmt.Errorf("read the new partition table back: %w", err)
	}
	if len(got.Findings) > 0 {
		return fmt.Errorf("read the new partition table back: %s", strings.Join(got.Findings, "; "))
	}
	if got.DiskID != r.table.DiskID || !slices.Equal(got.Partitions, r.table.Partitions) {
		return errors.New("the new partition table reads back differently from what was written; the disk is failing")
	}
	return nil
}
