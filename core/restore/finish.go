package restore

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"jugate/core/image"
	"jugate/core/partition"
	"jugate/core/slabstore"
	"jugate/core/volume"
)

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
	if err := r.clearOld(); err != nil {
		return err
	}
	if err := r.writeZeros(); err != nil {
		return err
	}
	if err := r.disk.Sync(); err != nil {
		return err
	}
	if len(r.options.Nonce) > 0 {
		r.proof = image.NewProof(r.options.Nonce)
	}
	if err := r.check(ctx, progress); err != nil {
		return err
	}
	if err := r.settle(); err != nil {
		return err
	}
	if err := r.table.Write(r.disk); err != nil {
		return err
	}
	if len(r.head) > 0 {
		if _, err := r.disk.WriteAt(r.head, 0); err != nil {
			return fmt.Errorf("write the beginning of the disk: %w", err)
		}
	}
	if err := r.disk.Sync(); err != nil {
		return err
	}
	if r.options.Part != nil {
		return nil // it has none, and its first sector can look like one
	}
	return r.checkTable()
}

// Proof is what only reading the whole disk back tells, after Finish has done that; nil
// without a nonce.
func (r *Restore) Proof() []byte {
	if r.proof == nil {
		return nil
	}
	return r.proof.Sum()
}

// writeZeros makes zero what the golden disk had as zeros, and nothing else.
func (r *Restore) writeZeros() error {
	zeroer, can := r.disk.(Zeroer)
	zero := make([]byte, r.manifest.SlabSize)
	for i := range r.slabs.Len() {
		s := r.slabs.Slab(i)
		if !s.Zero || !r.comes(s) {
			continue
		}
		for _, e := range s.Extents {
			at := r.starts[s.Area] + e.Start
			var err error
			if can && at >= int64(len(r.head)) {
				if err = r.fence(at, e.Length); err == nil {
					err = zeroer.Zero(at, e.Length)
				}
				if err != nil {
					err = fmt.Errorf("make %d bytes of the disk at byte %d zero: %w", e.Length, at, err)
				}
			} else {
				err = r.writeAt(zero[:e.Length], at)
			}
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// settle tells volumes that moved where their partition begins now, and makes
// those file systems fit that can be resized.
func (r *Restore) settle() error {
	for _, a := range r.manifest.Areas {
		was, ok := r.manifest.Table.Partition(a.Partition)
		is, planned := r.table.Partition(a.Partition)
		from, to, start := a.Size, r.size, int64(0) // on a disk without a table
		if ok && planned {
			from, to, start = r.manifest.Table.Size(was), r.table.Size(is), r.table.Start(is)
		} else if r.table.Scheme != partition.None {
			continue
		}
		switch {
		case is.Kept:
			continue
		case r.options.Part != nil && a.Partition != r.options.Part.Number:
			continue
		case r.options.Part != nil:
			is.First = r.options.Part.First
		}
		if a.Kind == volume.Unknown {
			continue // nothing in it knows where it lies, or can be believed
		}
		v := settling{r, start, to}
		if was.First != is.First {
			if err := volume.Relocate(v, to, was.First, is.First); err != nil {
				return fmt.Errorf("partition %d: %w", a.Partition, err)
			}
		}
		if a.Whole && from == to {
			continue
		}
		if _, err := volume.Resize(v, from, to/int64(r.table.SectorSize)*int64(r.table.SectorSize)); err != nil {
			return fmt.Errorf("partition %d: make the file system fit: %w", a.Partition, err)
		}
	}
	return nil
}

// settling is a partition on the target.
type settling struct {
	r           *Restore
	start, size int64
}

// within keeps a volume's records from leading into its neighbour.
func (s settling) within(off int64, n int) error {
	if off < 0 || off > s.size-int64(n) {
		return fmt.Errorf("%w: it leads to byte %d of a partition of %d", volume.ErrDamaged, off+int64(n), s.size)
	}
	return nil
}

func (s settling) ReadAt(b []byte, off int64) (int, error) {
	if err := s.within(off, len(b)); err != nil {
		return 0, err
	}
	if err := s.r.readAt(b, s.start+off); err != nil {
		return 0, err
	}
	return len(b), nil
}

func (s settling) WriteAt(b []byte, off int64) (int, error) {
	if err := s.within(off, len(b)); err != nil {
		return 0, err
	}
	if err := s.r.writeAt(b, s.start+off); err != nil {
		return 0, err
	}
	return len(b), nil
}

// takeStock reads what an earlier restore has written. What is right is not
// needed any more; found is how many bytes that saves.
func (r *Restore) takeStock(parent context.Context, progress func(done, total int64)) (found int64, err error) {
	var mu sync.Mutex
	var done int64
	total := r.Total()
	group, ctx := errgroup.WithContext(parent)
	group.SetLimit(2 * runtime.GOMAXPROCS(0)) // half of them wait for the disk
	for i := range r.Missing().All() {
		if ctx.Err() != nil {
			break
		}
		group.Go(func() error {
			same := true
			for _, place := range r.places(i) {
				s := r.slabs.Slab(place)
				if r.starts[s.Area]+s.Extents[0].Start < int64(len(r.head)) {
					same = false // what was held back is lost
				}
				if !same {
					break
				}
				var err error
				if same, err = r.readsBack(s); err != nil {
					return err
				}
			}
			length := r.slabs.Slab(i).Length()
			if same {
				r.mu.Lock()
				r.left.Remove(i)
				r.mu.Unlock()
			}
			mu.Lock()
			defer mu.Unlock()
			if done += length; same {
				found += length
			}
			if progress != nil {
				progress(done, total)
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return 0, err
	}
	return found, parent.Err()
}

// check reads every slab back, several at a time.
func (r *Restore) check(parent context.Context, progress func(done, total int64)) error {
	var (
		mu   sync.Mutex
		bad  MismatchError
		done int64
	)
	total := r.Total()
	group, ctx := errgroup.WithContext(parent)
	group.SetLimit(2 * runtime.GOMAXPROCS(0)) // half of them wait for the disk
	for i := range r.slabs.Len() {
		if ctx.Err() != nil {
			break
		}
		s := r.slabs.Slab(i)
		if !r.comes(s) {
			continue
		}
		group.Go(func() error {
			same, err := r.readsBack(s)
			if err != nil {
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			done += s.Length()
			if same && r.proof != nil {
				r.proof.Add(i, s)
			}
			if !same {
				at := r.starts[s.Area] + s.Extents[0].Start
				if bad.Slabs == nil || at < bad.First {
					bad.First = at
				}
				bad.Slabs = append(bad.Slabs, i)
			}
			if progress != nil {
				progress(done, total)
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

func (r *Restore) readsBack(s image.Slab) (bool, error) {
	buffer := r.buffers.Get().(*[]byte)
	defer r.buffers.Put(buffer)
	plain, err := r.read(s, *buffer)
	if err != nil {
		return false, err
	}
	if s.Zero {
		return image.AllZero(plain), nil
	}
	return slabstore.Sum(plain) == s.Digest, nil
}

// read reads the bytes of a slab off the disk into a buffer.
func (r *Restore) read(s image.Slab, buffer []byte) (plain []byte, err error) {
	plain = buffer[:0]
	for _, e := range s.Extents {
		n := len(plain)
		plain = plain[:n+int(e.Length)]
		if err := r.readAt(plain[n:], r.starts[s.Area]+e.Start); err != nil {
			return nil, err
		}
	}
	return plain, nil
}

func (r *Restore) checkTable() error {
	got, err := partition.Read(r.disk, r.size, r.table.SectorSize)
	if err != nil {
		return fmt.Errorf("read the new partition table back: %w", err)
	}
	if len(got.Findings) > 0 {
		return fmt.Errorf("read the new partition table back: %s", strings.Join(got.Findings, "; "))
	}
	if !got.Equal(r.table) {
		return errors.New("the new partition table reads back differently from what was written; the disk is failing")
	}
	return nil
}
