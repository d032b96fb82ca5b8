package packs

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"

	"jugate/core/fault"
	"jugate/core/objects"
	"jugate/core/slabstore"
)

// filling is a pack that is not full yet.
type filling struct {
	content []byte
	lines   []Line
	frames  map[slabstore.Digest]bool // false for those that lean
}

// Add puts a slab, as it is stored, into a pack, unless the store has it. It is there when Flush has
// returned, or once the pack is full. A delta is taken only if what it leans on is there as a frame.
func (p *Packs) Add(ctx context.Context, s Stored) (added bool, err error) {
	return p.add(ctx, s, false)
}

func (p *Packs) add(ctx context.Context, s Stored, again bool) (bool, error) {
	p.writing.Lock()
	defer p.writing.Unlock()
	if p.filling == nil {
		p.filling = &filling{content: bytes.Clone(packMagic), frames: map[slabstore.Digest]bool{}}
	}
	f := p.filling
	if _, is := f.frames[s.Digest]; is || !again && p.Has(s.Digest) {
		return false, nil
	}
	line := Line{Digest: s.Digest, Offset: int64(len(f.content)) + entryHead, Length: int64(len(s.Content))}
	if base, err := slabstore.BaseOf(s.Content); err == nil {
		if !p.hasFrame(base) {
			return false, fault.Conflict.Errorf("%s leans on %s, which is not in the store", s.Digest.Short(), base.Short())
		}
		line.Base = base
	}
	f.content = append(f.content, s.Digest[:]...)
	f.content = binary.LittleEndian.AppendUint32(f.content, uint32(len(s.Content)))
	f.content = append(f.content, s.Content...)
	f.lines, f.frames[s.Digest] = append(f.lines, line), line.Base == slabstore.Digest{}
	if len(f.content) < packBytes {
		return true, nil
	}
	return true, p.flush(ctx)
}

// Flush has everything that was added be in the store.
func (p *Packs) Flush(ctx context.Context) error {
	p.writing.Lock()
	defer p.writing.Unlock()
	return p.flush(ctx)
}

// flush keeps what could not be written for the next try.
func (p *Packs) flush(ctx context.Context) error {
	f := p.filling
	if f == nil || len(f.lines) == 0 {
		return nil
	}
	index := Index{Pack: slabstore.Sum(f.content), Size: int64(len(f.content)), Lines: f.lines}
	name := index.Pack.String()
	if err := p.store.Write(ctx, packFolder+name, bytes.NewReader(f.content)); err != nil {
		return err
	}
	there, err := p.store.Stat(ctx, packFolder+name)
	if err != nil {
		return err
	}
	if there.Size != index.Size {
		return fault.Unreachable.Errorf("the store has %d bytes of pack %s, of %d that it took", there.Size, name, index.Size)
	}
	if _, err := p.store.Put(ctx, indexFolder+name, index.Encode(), objects.Always); err != nil {
		return err
	}
	if err := p.replace(index); err != nil {
		return err
	}
	p.filling = nil
	return nil
}

// replace is note for a pack that was just written: its slabs are there from now on, wherever they
// were.
func (p *Packs) replace(index Index) error {
	slabs := make([]slabstore.Digest, len(index.Lines))
	for i, l := range index.Lines {
		slabs[i] = l.Digest
	}
	return errors.Join(p.Drop(slabs...), p.note(index))
}
