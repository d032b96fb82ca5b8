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
	"cmp"
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

	"jugate/core/disk"
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
	// Progress, if set, is told after each slab, one call at a time, how many used bytes are
	// done, of how many, and how many slabs were new.
	Progress func(done, total int64, newSlabs int)
}

const (
	// batchSlabs is how many slabs the sink is asked for together.
	batchSlabs = 8
	// plainBuffers is how many slabs are in memory at once: being read, hashed, compressed.
	// The reader waits for one, so that a slow sink holds up everything before it.
	plainBuffers = 3 * batchSlabs
	// readsAtOnce keep the disk busy.
	readsAtOnce = 4
	// putsAtOnce is how many frames are on their way to the sink at once; most of that time
	// is the sink's, and the processors go on.
	putsAtOnce = 8
)

// maxUnreadable is how many stretches a disk may fail to read. One that has more
// is not a golden disk.
const maxUnreadable = 10_000

// piece is a slab on its way to the sink, in a buffer that goes back when it is through;
// there is none for a slab of zeros that was not read.
type piece struct {
	slab   image.Slab
	plain  []byte
	buffer []byte
}

// batch is pieces that go through the pipeline together.
type batch struct {
	pieces []piece
	naming errgroup.Group // until they are read and have their digests
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
	c := &capture{disk: disk, survey: s, sink: sink, options: o, slabs: image.NewMap(image.SlabSize),
		free: make(chan []byte, plainBuffers), frames: make(chan []byte, putsAtOnce),
		gathering: make(chan []byte, readsAtOnce), compressing: make(chan struct{}, runtime.GOMAXPROCS(0)), underWay: map[slabstore.Digest]bool{}}
	for _, a := range s.Areas {
		c.total += a.UsedBytes
	}
	for range plainBuffers {
		c.free <- nil // made when it is first wanted
	}
	for range putsAtOnce {
		c.frames <- nil
	}
	for range readsAtOnce {
		c.gathering <- nil
	}

	group, ctx := errgroup.WithContext(ctx)
	batches := make(chan *batch, 1)
	group.Go(func() error {
		defer close(batches)
		return c.read(ctx, batches)
	})
	group.Go(func() error {
		sending, ctx := errgroup.WithContext(ctx)
		for b := range batches {
			err := b.naming.Wait()
			if err == nil {
				c.enter(b.pieces)
				err = c.send(ctx, b.pieces, sending)
			}
			if err != nil {
				return errors.Join(err, sending.Wait())
			}
		}
		return sending.Wait()
	})
	if err := group.Wait(); err != nil {
		return nil, nil, err
	}
	m := &image.Manifest{
		Format: image.Format, Captured: o.Now().UTC().Truncate(time.Second), Source: o.Source,
		Table: s.Table, Areas: s.Areas, SlabSize: image.SlabSize,
		Slabs: c.slabs.Len(), ZeroSlabs: c.zeros, UsedBytes: c.done,
		MapSize: int64(len(c.slabs.Bytes())), MapDigest: slabstore.Sum(c.slabs.Bytes()),
		Findings: s.Findings, Despite: o.Despite, Unreadable: c.unread(),
	}
	return m, c.slabs, nil
}

type capture struct {
	disk    io.ReaderAt
	survey  *Survey
	sink    Sink
	options Options

	free        chan []byte   // buffers for plain bytes
	frames      chan []byte   // and for frames; whoever has one may put
	compressing chan struct{} // as many as there are processors

	gathering chan []byte // buffers for what is read together; whoever has one may read

	slabs *image.Map // written by enter alone
	last  image.Slab // the last one in it
	zeros int

	mu          sync.Mutex
	underWay    map[slabstore.Digest]bool // to the sink
	done, total int64
	newSlabs    int
	unreadable  []image.Unreadable
}

// read goes through the disk once, in order, and hands on batches while they are named.
func (c *capture) read(ctx context.Context, batches chan<- *batch) error {
	full := &batch{}
	flush := func() error {
		select {
		case batches <- full:
			full = &batch{}
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
			if full.pieces == nil {
				full.pieces = make([]piece, 0, batchSlabs) // does not move while it is read
			}
			full.pieces = append(full.pieces, piece{slab: s})
			if p := &full.pieces[len(full.pieces)-1]; !s.Zero {
				select {
				case p.buffer = <-c.free:
				case <-ctx.Done():
					return ctx.Err()
				}
				full.naming.Go(func() error { return c.name(p) })
			}
			if len(full.pieces) == batchSlabs {
				if err := flush(); err != nil {
					return err
				}
			}
		}
	}
	if len(full.pieces) > 0 {
		return flush()
	}
	return nil
}

// gapsAtMost is how many bytes that nobody uses are read along, at the most, where that
// saves a request.
const gapsAtMost = 64 << 10

// readSlab reads the extents of a slab.
func (c *capture) readSlab(p *piece) error {
	gathered := <-c.gathering
	defer func() { c.gathering <- gathered }()
	if p.buffer == nil {
		p.buffer = disk.Buffer(image.SlabSize)
	}
	p.plain = p.buffer[:0]
	for extents := p.slab.Extents; len(extents) > 0; {
		n := 1
		for n < len(extents) && extents[n].Start-extents[n-1].End() <= gapsAtMost {
			n++
		}
		if n > 1 && gathered == nil {
			gathered = disk.Buffer(image.SlabSize)
		}
		if n == 1 || !c.readTogether(p.slab.Area, extents[:n], gathered, &p.plain) {
			n = 1
			if err := c.readExtent(p.slab.Area, extents[0], &p.plain); err != nil {
				return err
			}
		}
		extents = extents[n:]
	}
	return nil
}

// readTogether reads extents that lie near each other by one request, into span. What lies
// between them may be unreadable, and matters to nobody: then it says false.
func (c *capture) readTogether(area int, extents []volume.Extent, span []byte, plain *[]byte) bool {
	first := extents[0].Start
	span = span[:extents[len(extents)-1].End()-first]
	if got, _ := c.disk.ReadAt(span, c.survey.starts[area]+first); got < len(span) {
		return false
	}
	for _, e := range extents {
		*plain = append(*plain, span[e.Start-first:][:e.Length]...)
	}
	return true
}

func (c *capture) readExtent(area int, e volume.Extent, plain *[]byte) error {
	n := len(*plain)
	*plain = (*plain)[:n+int(e.Length)]
	at := c.survey.starts[area] + e.Start
	got, err := c.disk.ReadAt((*plain)[n:], at)
	switch {
	case got == int(e.Length):
		return nil
	case !c.options.PastBadSectors:
		return fmt.Errorf("read %d bytes of the disk at byte %d: %w", e.Length, at, err)
	}
	return c.readPast(area, e, (*plain)[n:])
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
		if err := c.cannotRead(image.Unreadable{Partition: number, Start: e.Start + off, Length: int64(len(part))}); err != nil {
			return err
		}
	}
	return nil
}

func (c *capture) cannotRead(u image.Unreadable) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	for i := range slices.Backward(c.unreadable) { // it is mostly the last one
		if last := &c.unreadable[i]; last.Partition == u.Partition && last.Start+last.Length == u.Start {
			last.Length += u.Length
			return nil
		}
	}
	c.unreadable = append(c.unreadable, u)
	if len(c.unreadable) > maxUnreadable {
		return fmt.Errorf("more than %d places of the disk cannot be read, one at byte %d of partition %d; replace the disk", maxUnreadable, u.Start, u.Partition)
	}
	return nil
}

// unread is what could not be read, in the order of the disk.
func (c *capture) unread() (all []image.Unreadable) {
	slices.SortFunc(c.unreadable, func(a, b image.Unreadable) int {
		return cmp.Or(cmp.Compare(a.Partition, b.Partition), cmp.Compare(a.Start, b.Start))
	})
	for _, u := range c.unreadable {
		if n := len(all); n > 0 && all[n-1].Partition == u.Partition && all[n-1].Start+all[n-1].Length == u.Start {
			all[n-1].Length += u.Length
		} else {
			all = append(all, u)
		}
	}
	return all
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

// name reads a piece and computes its digest.
func (c *capture) name(p *piece) error {
	if err := c.readSlab(p); err != nil {
		return err
	}
	if p.slab.Zero = image.AllZero(p.plain); !p.slab.Zero {
		p.slab.Digest = slabstore.Sum(p.plain)
	}
	return nil
}

// enter puts the slabs of a batch into the map.
func (c *capture) enter(batch []piece) {
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

// send asks what of a batch is new, and has that sent.
func (c *capture) send(ctx context.Context, batch []piece, sending *errgroup.Group) error {
	pieces := map[slabstore.Digest]int{}
	var ask []slabstore.Digest
	for i, p := range batch {
		if _, twice := pieces[p.slab.Digest]; p.slab.Zero || twice || c.isUnderWay(p.slab.Digest) {
			continue
		}
		pieces[p.slab.Digest] = i
		ask = append(ask, p.slab.Digest)
	}
	if len(ask) > 0 {
		missing, err := c.sink.Missing(ctx, ask)
		if err != nil {
			return err
		}
		for _, d := range missing {
			i, asked := pieces[d]
			if !asked {
				return fmt.Errorf("the store asks for slab %s, which it was not told of", d.Short())
			}
			p := batch[i]
			batch[i].slab.Extents = nil // counted when it is through
			c.setUnderWay(d)
			sending.Go(func() error {
				if err := c.put(ctx, p); err != nil {
					return err
				}
				c.through(p.slab, 1)
				return nil
			})
		}
	}
	for _, p := range batch {
		if p.slab.Extents != nil {
			if p.buffer != nil {
				c.free <- p.buffer
			}
			c.through(p.slab, 0)
		}
	}
	return ctx.Err()
}

// put compresses a slab, gives its buffer back, and the frame to the sink.
func (c *capture) put(ctx context.Context, p piece) error {
	var frame []byte
	select {
	case frame = <-c.frames:
	case <-ctx.Done():
		return ctx.Err()
	}
	defer func() { c.frames <- frame }()
	c.compressing <- struct{}{}
	frame = slabstore.Compress(frame[:0], p.plain)
	<-c.compressing
	c.free <- p.buffer
	return c.sink.Put(ctx, p.slab.Digest, frame)
}

func (c *capture) isUnderWay(d slabstore.Digest) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.underWay[d]
}

func (c *capture) setUnderWay(d slabstore.Digest) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.underWay[d] = true
}

// through counts a slab that the sink has, and tells how far the capture is.
func (c *capture) through(s image.Slab, added int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.newSlabs += added; added > 0 {
		delete(c.underWay, s.Digest)
	}
	c.done += s.Length()
	if c.options.Progress != nil {
		c.options.Progress(c.done, c.total, c.newSlabs)
	}
}

// Nowhere is a Sink that wants no slab: a capture into it makes the map alone.
type Nowhere struct{}

// Missing is Sink's.
func (Nowhere) Missing(context.Context, []slabstore.Digest) ([]slabstore.Digest, error) {
	return nil, nil
}

// Put is Sink's.
func (Nowhere) Put(context.Context, slabstore.Digest, []byte) error { return nil }
