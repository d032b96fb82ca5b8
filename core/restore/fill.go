package restore

import (
	"context"
	"runtime"
	"sync"

	"golang.org/x/sync/errgroup"

	"jugate/core/image"
)

// Fill writes all slabs that are still missing, several at a time, in the order
// of the disk. progress, if set, is told the bytes written so far and in all.
// Errors are those of from, or of WriteFrame.
func (r *Restore) Fill(parent context.Context, from image.Frames, progress func(done, total int64)) error {
	missing := r.Missing()
	var total int64
	for i := range missing.All() {
		total += r.slabs.Slab(i).Length()
	}
	var mu sync.Mutex
	var done int64
	group, ctx := errgroup.WithContext(parent)
	group.SetLimit(2 * runtime.GOMAXPROCS(0)) // half of them wait for a disk
	for i := range missing.All() {
		if ctx.Err() != nil {
			break
		}
		group.Go(func() error {
			s := r.slabs.Slab(i)
			frame, err := from.Frame(s.Digest)
			if err != nil {
				return err
			}
			if _, err := r.WriteFrame(i, frame); err != nil {
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			done += s.Length()
			if progress != nil {
				progress(done, total)
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	return parent.Err()
}
