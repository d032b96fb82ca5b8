package image

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"iter"
	"runtime"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"jugate/core/slabstore"
	"jugate/core/volume"
)

// Sink takes the slabs of a capture. Its methods may be called from several
// goroutines at once.
type Sink interface {
	// Missing returns those of the digests that the sink does not have yet.
	Missing(ctx context.Context, digests []slabstore.Digest) ([]slabstore.Digest, error)
	// Put stores the frame of a slab.
	Put(ctx context.Context, d slabstore.Digest, frame []byte) error
}

// Options of a capture. The zero value works.
type Options struct {
	Source Source
	Now    func() time.Time // time.Now by default
	// Progress, if set, is told after each batch how many used bytes are done,
	// of how many, and how many slabs were new.
	Progress func(done, total int64, newSlabs int)
}

// batchSlabs is how many slabs go through the pipeline together. Three batches
// exist at once (read, worked on, waiting), so capture holds about 100 MiB.
const batchSlabs = 32

// piece is a slab on its way to the sink, in a buffer of the pool.
type piece struct {
	slab   Slab
	buffer *[]byte
}

// Capture reads what the survey calls used, cuts it into slabs, gives those to
// the sink that it lacks, and returns the manifest and the map. One goroutine
// reads while the others hash, compress and send. Blocking findings are
// returned as *NotFitError before anything is read. Other errors are the
// disk's, with the position, or the sink's; what the sink has by then it keeps,
// and the next capture does not send it again.
func Capture(ctx context.Context, disk io.ReaderAt, s *Survey, sink Sink, o Options) (*Manifest, *Map, error) {
	if err := s.Blocking(); err != nil {
		return nil, nil, err
	}
	if o.Now == nil {
		o.Now = time.Now
	}
	c := &capture{disk: disk, survey: s, sink: sink, options: o, slabs: newMap(SlabSize)}
	for _, a := range s.Areas {
		c.total += a.UsedBytes
	}
	c.buffers.New = func() any { b := make([]byte, 0, SlabSize); return &b }

	group, ctx := errgroup.WithContext(ctx)
	batches := make(chan []piece)
	group.Go(func() error {
		defer close(batches)
		return c.read(ctx, batches)
	})
	group.Go(func() error {
		for batch := range batches {
			if err := c.store(ctx, batch); err != nil {
				return err
			}
		}
		return nil
	})
	if err := group.Wait(); err != nil {
		return nil, nil, err
	}
	m := &Manifest{
		Format: Format, Captured: o.Now().UTC().Truncate(time.Second), Source: o.Source,
		Table: s.Table, Areas: s.Areas, SlabSize: SlabSize,
		Slabs: c.slabs.Len(), ZeroSlabs: c.zeros, UsedBytes: c.done,
		MapSize: int64(len(c.slabs.raw)), MapDigest: slabstore.Sum(c.slabs.raw),
	}
	return m, c.slabs, nil
}

type capture struct {
	disk    io.ReaderAt
	survey  *Survey
	sink    Sink
	options Options
	buffers sync.Pool

	slabs       *Map
	zeros       int
	done, total int64
	newSlabs    int
}

// read goes through the disk once, in order, and sends full batches.
func (c *capture) read(ctx context.Context, batches chan<- []piece) error {
	var batch []piece
	flush := func() error {
		select {
		case batches <- batch:
			batch = nil
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	for i, v := range c.survey.volumes {
		for s, err := range stretches(i, v.Used()) {
			if err != nil {
				return fmt.Errorf("partition %d: %w", c.survey.Areas[i].Partition, err)
			}
			buffer := c.buffers.Get().(*[]byte)
			plain := (*buffer)[:0]
			for _, e := range s.Extents {
				n := len(plain)
				plain = plain[:n+int(e.Length)]
				at := c.survey.starts[i] + e.Start
				if got, err := c.disk.ReadAt(plain[n:], at); got < int(e.Length) {
					return fmt.Errorf("read %d bytes of the disk at byte %d: %w", e.Length, at, err)
				}
			}
			*buffer = plain
			if batch = append(batch, piece{s, buffer}); len(batch) == batchSlabs {
				if err := flush(); err != nil {
					return err
				}
			}
		}
	}
	if len(batch) > 0 {
		return flush()
	}
	return nil
}

// stretches cuts the used extents of area i at multiples of SlabSize and
// gathers them stretch by stretch.
func stretches(i int, used iter.Seq2[volume.Extent, error]) iter.Seq2[Slab, error] {
	return func(yield func(Slab, error) bool) {
		open := Slab{Area: i, Start: -1}
		for e, err := range used {
			if err != nil {
				yield(Slab{}, err)
				return
			}
			for e.Length > 0 {
				start := e.Start / SlabSize * SlabSize
				part := volume.Extent{Start: e.Start, Length: min(e.Length, start+SlabSize-e.Start)}
				e = volume.Extent{Start: part.End(), Length: e.Length - part.Length}
				if start != open.Start {
					if len(open.Extents) > 0 && !yield(open, nil) {
						return
					}
					open = Slab{Area: i, Start: start}
				}
				open.Extents = append(open.Extents, part)
			}
		}
		if len(open.Extents) > 0 {
			yield(open, nil)
		}
	}
}

// store hashes a batch, asks what of it is new, and sends that.
func (c *capture) store(ctx context.Context, batch []piece) error {
	var hashing errgroup.Group
	hashing.SetLimit(runtime.GOMAXPROCS(0))
	for i := range batch {
		p := &batch[i]
		hashing.Go(func() error {
			if p.slab.Zero = allZero(*p.buffer); !p.slab.Zero {
				p.slab.Digest = slabstore.Sum(*p.buffer)
			}
			return nil
		})
	}
	hashing.Wait()

	plains := map[slabstore.Digest][]byte{}
	var ask []slabstore.Digest
	for _, p := range batch {
		c.slabs.add(p.slab)
		if p.slab.Zero {
			c.zeros++
		} else if _, twice := plains[p.slab.Digest]; !twice {
			plains[p.slab.Digest] = *p.buffer
			ask = append(ask, p.slab.Digest)
		}
	}
	if len(ask) > 0 {
		missing, err := c.sink.Missing(ctx, ask)
		if err != nil {
			return err
		}
		sending, ctx := errgroup.WithContext(ctx)
		sending.SetLimit(runtime.GOMAXPROCS(0) + 1)
		for _, d := range missing {
			plain, asked := plains[d]
			if !asked {
				return fmt.Errorf("the store asks for slab %s, which it was not told of", d.Short())
			}
			sending.Go(func() error {
				frame := c.buffers.Get().(*[]byte)
				defer c.buffers.Put(frame)
				*frame = slabstore.Compress((*frame)[:0], plain)
				return c.sink.Put(ctx, d, *frame)
			})
		}
		if err := sending.Wait(); err != nil {
			return err
		}
		c.newSlabs += len(missing)
	}
	for _, p := range batch {
		c.done += int64(len(*p.buffer))
		c.buffers.Put(p.buffer)
	}
	if c.options.Progress != nil {
		c.options.Progress(c.done, c.total, c.newSlabs)
	}
	return nil
}

var zeroes = make([]byte, 64<<10)

func allZero(b []byte) bool {
	for len(b) > 0 {
		n := min(len(b), len(zeroes))
		if !bytes.Equal(b[:n], zeroes[:n]) {
			return false
		}
		b = b[n:]
	}
	return true
}
