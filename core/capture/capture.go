// Package capture turns a disk into slabs.
//
//	survey, err := capture.Look(disk, size, 512, capture.LookOptions{})
//	… show survey.Findings; nothing was copied yet …
//	manifest, slabs, err := capture.Run(ctx, disk, survey, sink, capture.Options{})
//
// The survey reads the partition table, the allocation maps of the volumes, and what
// operating systems leave behind. The capture reads what is in use, cuts it at multiples
// of image.SlabSize, hashes the slabs, and gives its Sink those that it lacks.
package capture

import (
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"runtime"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"jugate/core/image"
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
	Source image.Source
	Now    func() time.Time // time.Now by default
	// Despite gives the reason to capture a disk with blocking findings.
	Despite *image.Override
	// PastBadSectors goes on where the disk cannot be read, and names the places
	// in the manifest.
	PastBadSectors bool
	// Progress, if set, is told after each batch how many used bytes are done,
	// of how many, and how many slabs were new.
	Progress func(done, total int64, newSlabs int)
}

// batchSlabs is how many slabs go through the pipeline together. Four batches
// exist at once (read, hashed, sent, waiting): about 70 MiB of slabs. A process that
// captures took 159 MiB at its peak for 700 MiB of noise on two processors, with
// compressors and garbage.
const batchSlabs = 16

// maxUnreadable is how many stretches a disk may fail to read. One that has more
// is not a golden disk.
const maxUnreadable = 10_000

// piece is a slab on its way to the sink, in a buffer of the pool; there is none
// for a slab of zeros that was not read.
type piece struct {
	slab   image.Slab
	buffer *[]byte
}

// Run reads what the survey calls used, cuts it into slabs, gives those to
// the sink that it lacks, and returns the manifest and the map. Reading, hashing
// and sending go on side by side. Blocking findings without a reason to go on are
// returned as *NotFitError before anything is read. Other errors are the
// disk's, with the position, or the sink's; what the sink has by then it keeps,
// and the next capture does not send it again.
func Run(ctx context.Context, disk io.ReaderAt, s *Survey, sink Sink, o Options) (*image.Manifest, *image.Map, error) {
	if err := s.Blocking(); err != nil {
		if o.Despite == nil || o.Despite.Reason == "" {
			return nil, nil, err
		}
		s.distrust()
	} else {
		o.Despite = nil
	}
	if o.Now == nil {
		o.Now = time.Now
	}
	c := &capture{disk: disk, survey: s, sink: sink, options: o, slabs: image.NewMap(image.SlabSize)}
	for _, a := range s.Areas {
		c.total += a.UsedBytes
	}
	c.buffers.New = func() any { b := make([]byte, 0, image.SlabSize); return &b }

	group, ctx := errgroup.WithContext(ctx)
	read, hashed := make(chan []piece), make(chan []piece)
	group.Go(func() error {
		defer close(read)
		return c.read(ctx, read)
	})
	group.Go(func() error {
		defer close(hashed)
		for batch := range read {
			c.hash(batch)
			select {
			case hashed <- batch:
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		return nil
	})
	group.Go(func() error {
		for batch := range hashed {
			if err := c.send(ctx, batch); err != nil {
				return err
			}
		}
		return nil
	})
	if err := group.Wait(); err != nil {
		return nil, nil, err
	}
	m := &image.Manifest{
		Format: image.Format, Captured: o.Now().UTC().Truncate(time.Second), Source: o.Source,
		Table: s.Table, Areas: s.Areas, SlabSize: image.SlabSize,
		Slabs: c.slabs.Len(), ZeroSlabs: c.zeros, UsedBytes: c.done,
		MapSize: int64(len(c.slabs.Bytes())), MapDigest: slabstore.Sum(c.slabs.Bytes()),
		Findings: s.Findings, Despite: o.Despite, Unreadable: c.unreadable,
	}
	return m, c.slabs, nil
}

type capture struct {
	disk    io.ReaderAt
	survey  *Survey
	sink    Sink
	options Options
	buffers sync.Pool

	unreadable []image.Unreadable // written by read alone
	slabs      *image.Map         // written by hash alone
	last       image.Slab         // the last one in it
	zeros      int

	done, total int64 // written by send alone
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
		for s, err := range stretches(i, v.Parts()) {
			if err != nil {
				return fmt.Errorf("partition %d: %w", c.survey.Areas[i].Partition, err)
			}
			p := piece{slab: s}
			if !s.Zero {
				p.buffer = c.buffers.Get().(*[]byte)
				if err := c.readSlab(s, p.buffer); err != nil {
					return err
				}
			}
			if batch = append(batch, p); len(batch) == batchSlabs {
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

func (c *capture) readSlab(s image.Slab, buffer *[]byte) error {
	plain := (*buffer)[:0]
	for _, e := range s.Extents {
		n := len(plain)
		plain = plain[:n+int(e.Length)]
		at := c.survey.starts[s.Area] + e.Start
		got, err := c.disk.ReadAt(plain[n:], at)
		if got == int(e.Length) {
			continue
		}
		if !c.options.PastBadSectors {
			return fmt.Errorf("read %d bytes of the disk at byte %d: %w", e.Length, at, err)
		}
		if err := c.readPast(s.Area, e, plain[n:]); err != nil {
			return err
		}
	}
	*buffer = plain
	return nil
}

// readPast reads an extent sector by sector, with zeros for those that fail.
func (c *capture) readPast(area int, e volume.Extent, b []byte) error {
	sector := int64(c.survey.Table.SectorSize)
	number := c.survey.Areas[area].Partition
	for off := int64(0); off < e.Length; off += sector {
		part := b[off:min(off+sector, e.Length)]
		if n, err := c.disk.ReadAt(part, c.survey.starts[area]+e.Start+off); n == len(part) {
			continue
		} else if errors.Is(err, io.EOF) {
			return fmt.Errorf("the disk ends at byte %d, before partition %d does", c.survey.starts[area]+e.Start+off+int64(n), number)
		}
		clear(part)
		start := e.Start + off
		if last := len(c.unreadable) - 1; last >= 0 && c.unreadable[last].Partition == number && c.unreadable[last].Start+c.unreadable[last].Length == start {
			c.unreadable[last].Length += int64(len(part))
			continue
		}
		c.unreadable = append(c.unreadable, image.Unreadable{Partition: number, Start: start, Length: int64(len(part))})
		if len(c.unreadable) > maxUnreadable {
			return fmt.Errorf("more than %d places of the disk cannot be read, the first at byte %d of partition %d; replace the disk", maxUnreadable, c.unreadable[0].Start, c.unreadable[0].Partition)
		}
	}
	return nil
}

// stretches cuts the used parts of area i at multiples of SlabSize and gathers
// them stretch by stretch: what is to be read, and behind it what is zeros.
func stretches(i int, parts iter.Seq2[volume.Part, error]) iter.Seq2[image.Slab, error] {
	return func(yield func(image.Slab, error) bool) {
		content, zeros := image.Slab{Area: i, Start: -1}, image.Slab{Area: i, Start: -1, Zero: true}
		end := func() bool {
			return (len(content.Extents) == 0 || yield(content, nil)) && (len(zeros.Extents) == 0 || yield(zeros, nil))
		}
		for p, err := range parts {
			if err != nil {
				yield(image.Slab{}, err)
				return
			}
			for p.Length > 0 {
				start := p.Start / image.SlabSize * image.SlabSize
				cut := volume.Extent{Start: p.Start, Length: min(p.Length, start+image.SlabSize-p.Start)}
				p.Extent = volume.Extent{Start: cut.End(), Length: p.Length - cut.Length}
				if start != content.Start {
					if !end() {
						return
					}
					content, zeros = image.Slab{Area: i, Start: start}, image.Slab{Area: i, Start: start, Zero: true}
				}
				to := &content
				if p.Fleeting {
					to = &zeros
				}
				to.Extents = append(to.Extents, cut)
			}
		}
		end()
	}
}

// hash names the slabs of a batch and enters them into the map.
func (c *capture) hash(batch []piece) {
	var hashing errgroup.Group
	hashing.SetLimit(runtime.GOMAXPROCS(0))
	for i := range batch {
		p := &batch[i]
		if p.slab.Zero {
			continue
		}
		hashing.Go(func() error {
			if p.slab.Zero = image.AllZero(*p.buffer); !p.slab.Zero {
				p.slab.Digest = slabstore.Sum(*p.buffer)
			}
			return nil
		})
	}
	hashing.Wait()
	for _, p := range batch {
		s := p.slab
		// Where content turned out to be zeros, those of page files join it.
		if last := c.last; s.Zero && last.Zero && last.Area == s.Area && last.Start == s.Start && len(last.Extents) > 0 {
			c.slabs.DropLast()
			c.zeros--
			s.Extents = merged(last.Extents, s.Extents)
		}
		c.slabs.Add(s)
		c.last = s
		if s.Zero {
			c.zeros++
		}
	}
}

// merged puts two lists of extents that stand apart into one, ascending.
func merged(a, b []volume.Extent) []volume.Extent {
	all := append(slices.Clone(a), b...)
	slices.SortFunc(all, func(x, y volume.Extent) int { return int(x.Start - y.Start) })
	joined := all[:1]
	for _, e := range all[1:] {
		if last := &joined[len(joined)-1]; last.End() == e.Start {
			last.Length += e.Length
		} else {
			joined = append(joined, e)
		}
	}
	return joined
}

// send asks what of a batch is new, and sends that.
func (c *capture) send(ctx context.Context, batch []piece) error {
	plains := map[slabstore.Digest][]byte{}
	var ask []slabstore.Digest
	for _, p := range batch {
		if p.slab.Zero {
			continue
		}
		if _, twice := plains[p.slab.Digest]; !twice {
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
		if p.buffer != nil {
			c.done += int64(len(*p.buffer))
			c.buffers.Put(p.buffer)
		} else {
			c.done += p.slab.Length()
		}
	}
	if c.options.Progress != nil {
		c.options.Progress(c.done, c.total, c.newSlabs)
	}
	return nil
}

// Nowhere is a Sink that wants no slab: a capture into it makes the map alone.
type Nowhere struct{}

// Missing is Sink's.
func (Nowhere) Missing(context.Context, []slabstore.Digest) ([]slabstore.Digest, error) {
	return nil, nil
}

// Put is Sink's.
func (Nowhere) Put(context.Context, slabstore.Digest, []byte) error { return nil }
