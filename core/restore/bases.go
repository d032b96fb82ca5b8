package restore

import (
	"context"
	"fmt"
	"runtime"
	"sync"

	"golang.org/x/sync/errgroup"

	"jugate/core/image"
	"jugate/core/slabstore"
)

// TakeBases looks which of the bases of missing slabs are on the disk: what lay at their places
// in the version before. Those slabs can come by WriteDelta as well, until something is written
// there. It writes nothing; errors are the disk's.
func (r *Restore) TakeBases(parent context.Context, bases *image.Map) (*image.SlabSet, error) {
	r.bases, r.based = bases, image.Replaced(r.slabs, bases)
	var mu sync.Mutex
	there := &image.SlabSet{}
	group, ctx := errgroup.WithContext(parent)
	group.SetLimit(2 * runtime.GOMAXPROCS(0)) // half of them wait for the disk
	for i := range r.Missing().All() {
		j, has := r.based[i]
		if ctx.Err() != nil {
			break
		}
		if !has || !r.comes(r.slabs.Slab(i)) {
			continue
		}
		group.Go(func() error {
			same, err := r.readsBack(r.bases.Slab(j))
			if err != nil || !same {
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			there.Add(i)
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	return there, parent.Err()
}

// WriteDelta is WriteFrame for a slab that is told by what lies at its place. If that is not what
// it was made for, or not any more, the error wraps slabstore.ErrDigest or slabstore.ErrDelta:
// nothing was written then, and the slab has to come as a frame.
func (r *Restore) WriteDelta(i int, delta []byte) (lacked bool, err error) {
	j, has := r.based[i]
	if !has {
		return false, fmt.Errorf("%w: slab %d has no base", slabstore.ErrDelta, i)
	}
	if !r.Needs(i) {
		return false, nil
	}
	held := r.buffers.Get().(*[]byte)
	defer r.buffers.Put(held)
	base, err := r.read(r.bases.Slab(j), *held)
	if err != nil {
		return false, err
	}
	buffer := r.buffers.Get().(*[]byte)
	defer r.buffers.Put(buffer)
	plain, err := slabstore.ExpandDeltaChecked((*buffer)[:0], delta, base, r.slabs.Slab(i).Digest)
	if err != nil {
		return false, fmt.Errorf("slab %d: %w", i, err)
	}
	return r.bring(i, plain)
}
