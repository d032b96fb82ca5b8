package agent

import (
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	"golang.org/x/net/ipv4"
	"golang.org/x/sync/errgroup"

	"jugate/apiclient"
	"jugate/core/delivery"
	"jugate/core/slabstore"
	"jugate/core/stream"
)

const (
	// partialLimit bounds the frames that are not whole yet, in bytes.
	partialLimit = 64 << 20
	// readBatch is how many datagrams one system call takes.
	readBatch = 64
	// passed is how many slabs may be open at once in a stream that comes in
	// order; an older one has lost something.
	passed = 2
	// wake is how often the listener looks up when nothing comes.
	wake = 200 * time.Millisecond
	// mendRanges is the most ranges to ask for at once; beyond, the whole slab is less.
	mendRanges = 200
	// menders fetch at the same time once the stream is over.
	menders = 3
)

// arrived is a whole frame from the stream.
type arrived struct {
	slab  int
	frame []byte
}

// takeStream listens until the service says that the stream is over. Whole
// frames are written as they come; torn ones are mended beside it, as far as
// that goes. What is torn still in the end is returned.
func (r *receiver) takeStream(ctx context.Context) (*stream.Assembly, error) {
	group, ctx := errgroup.WithContext(ctx)
	frames := make(chan arrived, 16)
	torn := make(chan *stream.Partial, 4)
	over := make(chan struct{})
	partials := stream.NewAssembly(r.to.Session, partialLimit, r.restore.Needs)

	group.Go(func() error {
		defer close(over)
		return r.awaitMending(ctx)
	})
	group.Go(func() error {
		defer close(frames)
		defer close(torn)
		return r.listen(ctx, partials, frames, torn, over)
	})
	group.Go(func() error {
		for f := range frames {
			if err := r.write(f.slab, f.frame, int64(len(f.frame)), 0); err != nil && !isBadFrame(err) {
				return err
			}
		}
		return nil
	})
	group.Go(func() error {
		for p := range torn {
			if err := r.mend(ctx, p.Slab, p); err != nil {
				return err
			}
		}
		return nil
	})
	return partials, group.Wait()
}

// listen reads the socket and nothing else, so that it keeps up with the wire:
// frames and torn partials go to others.
func (r *receiver) listen(ctx context.Context, partials *stream.Assembly, frames chan<- arrived, torn chan<- *stream.Partial, over <-chan struct{}) error {
	batch := make([]ipv4.Message, readBatch)
	for i := range batch {
		batch[i].Buffers = [][]byte{make([]byte, stream.MaxDatagram+1)}
	}
	for {
		if err := r.socket.SetReadDeadline(time.Now().Add(wake)); err != nil {
			return err
		}
		n, err := r.socket.ReadBatch(batch, 0)
		if err != nil && !errors.Is(err, os.ErrDeadlineExceeded) {
			return fmt.Errorf("receive by multicast: %w", err)
		}
		ours := 0
		for _, m := range batch[:max(n, 0)] {
			d, err := stream.Parse(m.Buffers[0][:m.N])
			if err != nil || d.Session != r.to.Session {
				continue // somebody else's packet
			}
			if ours++; ours == 1 {
				r.setPhase(delivery.Receiving)
			}
			if frame := partials.Add(d); frame != nil {
				select {
				case frames <- arrived{int(d.Slab), frame}:
				case <-ctx.Done():
					return ctx.Err()
				}
			}
		}
		if p, ok := partials.Oldest(passed); ok {
			select {
			case torn <- p:
				partials.Take(p)
			default: // the mender is busy; it stays for later
			}
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		select {
		case <-over:
			if ours == 0 { // and nothing of it waits in the socket
				return nil
			}
		default:
		}
	}
}

// write puts a slab onto the disk and counts it.
func (r *receiver) write(slab int, frame []byte, multicast, unicast int64) error {
	if !r.restore.Needs(slab) {
		return nil
	}
	if err := r.begin(); err != nil {
		return err
	}
	if err := r.restore.WriteFrame(slab, frame); err != nil {
		return err
	}
	r.wrote(slab, multicast, unicast)
	return nil
}

func isBadFrame(err error) bool {
	return errors.Is(err, slabstore.ErrDigest) || errors.Is(err, slabstore.ErrFrame)
}

// mend fetches what a partial lacks, or the whole slab without one. A partial
// that is wrong in itself is fetched afresh; a whole slab that is wrong is the
// store's fault.
func (r *receiver) mend(ctx context.Context, slab int, p *stream.Partial) error {
	if p != nil && p.Torn() > mendRanges {
		p = nil
	}
	have := int64(0)
	if p != nil {
		have = p.Have()
	}
	type mended struct {
		frame   []byte
		fetched int64
	}
	got, err := patiently(ctx, r.agent, func() (mended, error) {
		frame, n, err := r.agent.client.MendSlab(ctx, r.to.Delivery, r.slabs.Slab(slab).Digest, p)
		return mended{frame, n}, err
	})
	if err == nil {
		err = r.write(slab, got.frame, have, got.fetched)
	}
	if p != nil && (isBadFrame(err) || errors.Is(err, apiclient.ErrRange)) {
		return r.mend(ctx, slab, nil)
	}
	if isBadFrame(err) {
		err = fmt.Errorf("the service's store has a damaged slab: %w", err)
	}
	return err
}

// mendRest fetches everything that is still missing.
func (r *receiver) mendRest(ctx context.Context, partials *stream.Assembly) error {
	torn := map[int]*stream.Partial{}
	for p, ok := partials.Oldest(0); ok; p, ok = partials.Oldest(0) {
		partials.Take(p)
		torn[p.Slab] = p
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(menders)
	for _, slab := range r.restore.Missing() {
		group.Go(func() error { return r.mend(ctx, slab, torn[slab]) })
	}
	return group.Wait()
}
