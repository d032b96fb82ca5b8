// Package packs keeps slabs in an object store, many to an object, so that a terabyte is some ten
// thousand objects and not five million.
//
//	slabs/packs/NAME   a pack: slabs as they are stored, one after the other
//	slabs/index/NAME   what is in it, and where
//	slabs/damaged/NAME/DIGEST   a slab of a pack that is not what its name promises
//
// NAME is the BLAKE3-256 digest of the pack. A pack is written before its index, and counts from
// then on; what is in all of them is remembered in a file here, which can be made again from the
// indexes. docs/format.md has both byte by byte.
package packs

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"iter"
	"path/filepath"
	"strings"
	"sync"
	"time"

	bolt "go.etcd.io/bbolt"
	bolterrors "go.etcd.io/bbolt/errors"

	"jugate/core/fault"
	"jugate/core/objects"
	"jugate/core/slabstore"
)

const (
	packFolder    = "slabs/packs/"
	indexFolder   = "slabs/index/"
	damagedFolder = "slabs/damaged/"

	// packBytes is when a pack is full; it lies in memory until then.
	packBytes = 32 << 20
	// ahead is how much is read at once when one slab is wanted: those after it are wanted next.
	ahead = 4 << 20

	entryHead = 36 // of a slab in a pack: its digest and its length
	lineBytes = 76 // of a slab in an index
	// maxIndex is the most that an index may have; a pack of the shortest slabs has less.
	maxIndex = 64 << 20
)

var (
	packMagic  = []byte("JGPACK1\n")
	indexMagic = []byte("JGINDX1\n")

	// ErrIndex says that an index is not one, or not that of its pack.
	ErrIndex = fault.Invalid.Errorf("not the index of a pack")
)

// In the file here: places have slabs by digest, names the packs by name, packs by number what is
// known of each.
var places, names, packs = []byte("places"), []byte("names"), []byte("packs")

// Packs are the slabs of an object store. It may be used from several goroutines, by one process
// at a time that writes.
type Packs struct {
	store objects.Store
	known *bolt.DB

	writing sync.Mutex // one pack is filled, and one sweep done, at a time
	filling *filling
}

// place is where a slab lies: number 8, offset 8, length 4, and the digest of what it leans on, or
// none; all numbers big-endian.
type place struct {
	pack           uint64
	offset, length int64
	base           slabstore.Digest
}

func (p place) bytes() []byte {
	b := binary.BigEndian.AppendUint64(nil, p.pack)
	b = binary.BigEndian.AppendUint64(b, uint64(p.offset))
	b = binary.BigEndian.AppendUint32(b, uint32(p.length))
	if p.base != (slabstore.Digest{}) {
		b = append(b, p.base[:]...)
	}
	return b
}

func placeOf(b []byte) (p place) {
	p.pack, p.offset, p.length = binary.BigEndian.Uint64(b), int64(binary.BigEndian.Uint64(b[8:])), int64(binary.BigEndian.Uint32(b[16:]))
	copy(p.base[:], b[20:])
	return p
}

// pack is what is known of one: its length, and how many bytes of it nobody needs; its name follows.
type pack struct {
	size, dead int64
	name       string
}

func (p pack) bytes() []byte {
	b := binary.BigEndian.AppendUint64(nil, uint64(p.size))
	return append(binary.BigEndian.AppendUint64(b, uint64(p.dead)), p.name...)
}

func packOf(b []byte) pack {
	return pack{int64(binary.BigEndian.Uint64(b)), int64(binary.BigEndian.Uint64(b[8:])), string(b[16:])}
}

func number(n uint64) []byte { return binary.BigEndian.AppendUint64(nil, n) }

// Open opens the slabs of an object store; what is in it is remembered in a file in dir. Nothing
// is asked of the store until Refresh is called.
func Open(store objects.Store, dir string) (*Packs, error) {
	known, err := bolt.Open(filepath.Join(dir, "packs.bolt"), 0o640, &bolt.Options{Timeout: time.Second, FreelistType: bolt.FreelistMapType})
	if errors.Is(err, bolterrors.ErrTimeout) {
		return nil, fault.Conflict.Errorf("%s is in use by another process", dir)
	}
	if err != nil {
		return nil, err
	}
	p := &Packs{store: store, known: known}
	err = known.Update(func(tx *bolt.Tx) error {
		for _, name := range [][]byte{places, names, packs} {
			if _, err := tx.CreateBucketIfNotExists(name); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return nil, errors.Join(err, known.Close())
	}
	return p, nil
}

// Close gives the file back. What was added and not flushed is not in the store.
func (p *Packs) Close() error { return p.known.Close() }

// Refresh learns what is in the store: packs that are new are read of, and those that are gone are
// forgotten. A list alone makes nothing be forgotten: each pack is asked for by its name before.
func (p *Packs) Refresh(ctx context.Context) error {
	p.writing.Lock()
	defer p.writing.Unlock()
	listed := map[string]bool{}
	for o, err := range p.store.List(ctx, indexFolder) {
		if err != nil {
			return err
		}
		name := strings.TrimPrefix(o.Name, indexFolder)
		listed[name] = true
		if p.knows(name) {
			continue
		}
		if err := p.learn(ctx, name); err != nil {
			return fmt.Errorf("index %s: %w", name, err)
		}
	}
	for _, k := range p.all() {
		if listed[k.name] {
			continue
		}
		_, err := p.store.Stat(ctx, packFolder+k.name)
		if err == nil {
			continue
		}
		if !errors.Is(err, objects.ErrNotFound) {
			return err
		}
		if err := p.forget(k.name); err != nil {
			return err
		}
	}
	for o, err := range p.store.List(ctx, damagedFolder) {
		if err != nil {
			return err
		}
		of, text, _ := strings.Cut(strings.TrimPrefix(o.Name, damagedFolder), "/")
		if d, err := slabstore.ParseDigest(text); err == nil {
			if err := p.drop(of, d); err != nil {
				return err
			}
		}
	}
	return nil
}

func (p *Packs) knows(name string) (known bool) {
	p.known.View(func(tx *bolt.Tx) error { known = tx.Bucket(names).Get([]byte(name)) != nil; return nil })
	return known
}

// all are the packs that are known.
func (p *Packs) all() (all []pack) {
	p.known.View(func(tx *bolt.Tx) error {
		return tx.Bucket(packs).ForEach(func(_, v []byte) error { all = append(all, packOf(v)); return nil })
	})
	return all
}

// learn reads the index of a pack.
func (p *Packs) learn(ctx context.Context, name string) error {
	raw, err := objects.Read(ctx, p.store, indexFolder+name, maxIndex)
	if err != nil {
		return err
	}
	index, err := ParseIndex(raw)
	if err != nil {
		return err
	}
	if index.Pack.String() != name {
		return fmt.Errorf("%w: it is that of %s", ErrIndex, index.Pack.Short())
	}
	return p.note(index)
}

// note remembers what a pack has. A slab that is elsewhere already stays there.
func (p *Packs) note(index Index) error {
	return p.known.Update(func(tx *bolt.Tx) error {
		if tx.Bucket(names).Get([]byte(index.Pack.String())) != nil {
			return nil
		}
		n, err := tx.Bucket(packs).NextSequence()
		if err != nil {
			return err
		}
		k := pack{size: index.Size, name: index.Pack.String()}
		for _, l := range index.Lines {
			if tx.Bucket(places).Get(l.Digest[:]) != nil {
				k.dead += l.Length + entryHead
				continue
			}
			if err := tx.Bucket(places).Put(l.Digest[:], place{n, l.Offset, l.Length, l.Base}.bytes()); err != nil {
				return err
			}
		}
		return errors.Join(tx.Bucket(names).Put([]byte(k.name), number(n)), tx.Bucket(packs).Put(number(n), k.bytes()))
	})
}

// forget takes a pack that is gone out of what is known.
func (p *Packs) forget(name string) error {
	return p.known.Update(func(tx *bolt.Tx) error {
		n := bytes.Clone(tx.Bucket(names).Get([]byte(name)))
		if n == nil {
			return nil
		}
		var gone [][]byte
		err := tx.Bucket(places).ForEach(func(d, at []byte) error {
			if bytes.HasPrefix(at, n) {
				gone = append(gone, bytes.Clone(d))
			}
			return nil
		})
		for _, d := range gone {
			err = errors.Join(err, tx.Bucket(places).Delete(d))
		}
		return errors.Join(err, tx.Bucket(names).Delete([]byte(name)), tx.Bucket(packs).Delete(n))
	})
}

func (p *Packs) at(d slabstore.Digest) (at place, of pack, there bool) {
	p.known.View(func(tx *bolt.Tx) error {
		b := tx.Bucket(places).Get(d[:])
		if b == nil {
			return nil
		}
		at = placeOf(b)
		if k := tx.Bucket(packs).Get(number(at.pack)); k != nil {
			of, there = packOf(k), true
		}
		return nil
	})
	return at, of, there
}

// Has tells whether a slab is in the store, as far as is known here.
func (p *Packs) Has(d slabstore.Digest) bool {
	_, _, there := p.at(d)
	return there
}

// HasFrame tells whether a slab is in the store and leans on none, or is about to be.
func (p *Packs) HasFrame(d slabstore.Digest) bool {
	p.writing.Lock()
	defer p.writing.Unlock()
	return p.hasFrame(d)
}

func (p *Packs) hasFrame(d slabstore.Digest) bool {
	if f := p.filling; f != nil {
		if f.frames[d] {
			return true
		}
	}
	at, _, there := p.at(d)
	return there && at.base == (slabstore.Digest{})
}

// Stored is a slab as it is stored: a frame, or a delta.
type Stored struct {
	Digest  slabstore.Digest
	Content []byte
}

// Fetch is slabstore.Behind's: the slabs that come along are those that follow in the pack.
func (p *Packs) Fetch(ctx context.Context, d slabstore.Digest, use func(d slabstore.Digest, content []byte) error) error {
	all, err := p.fetch(ctx, d)
	for _, s := range all {
		if err == nil {
			err = use(s.Digest, s.Content)
		}
	}
	return err
}

func (p *Packs) fetch(ctx context.Context, d slabstore.Digest) ([]Stored, error) {
	at, of, there := p.at(d)
	if !there {
		return nil, fmt.Errorf("%w: %s", slabstore.ErrNotFound, d)
	}
	length := max(at.length, min(ahead, of.size-at.offset))
	r, err := p.store.Open(ctx, packFolder+of.name, at.offset, length)
	if errors.Is(err, objects.ErrNotFound) {
		return nil, errors.Join(fmt.Errorf("%w: %s, as its pack %s is gone", slabstore.ErrNotFound, d, of.name), p.forget(of.name))
	}
	if err != nil {
		return nil, err
	}
	defer r.Close()
	raw := make([]byte, length)
	n, err := io.ReadFull(r, raw)
	if raw = raw[:n]; int64(n) < at.length {
		if err == nil || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) {
			err = fault.Unreachable.Errorf("pack %s ended after %d of %d bytes", of.name, at.offset+int64(n), of.size)
		}
		return nil, err
	}
	all := []Stored{{d, raw[:at.length]}}
	for rest := raw[at.length:]; len(rest) > entryHead; {
		size := int(binary.LittleEndian.Uint32(rest[32:]))
		if size > len(rest)-entryHead {
			break
		}
		all = append(all, Stored{slabstore.Digest(rest[:32]), rest[entryHead : entryHead+size]})
		rest = rest[entryHead+size:]
	}
	return all, nil
}

// Damaged is slabstore.Behind's. Whoever reads the indexes anew learns of it.
func (p *Packs) Damaged(ctx context.Context, d slabstore.Digest) error {
	_, of, there := p.at(d)
	if !there {
		return nil
	}
	_, err := p.store.Put(ctx, damagedFolder+of.name+"/"+d.String(), nil, objects.Always)
	return errors.Join(err, p.drop(of.name, d))
}

// Drop has slabs be missing; their bytes go when Compact is called.
func (p *Packs) Drop(slabs ...slabstore.Digest) error { return p.drop("", slabs...) }

// drop is Drop for slabs that lie in one pack, or in whichever, if its name is empty.
func (p *Packs) drop(name string, slabs ...slabstore.Digest) error {
	return p.known.Update(func(tx *bolt.Tx) error {
		for _, d := range slabs {
			b := tx.Bucket(places).Get(d[:])
			if b == nil {
				continue
			}
			at := placeOf(b)
			k := packOf(tx.Bucket(packs).Get(number(at.pack)))
			if name != "" && k.name != name {
				continue
			}
			k.dead += at.length + entryHead
			if err := errors.Join(tx.Bucket(places).Delete(d[:]), tx.Bucket(packs).Put(number(at.pack), k.bytes())); err != nil {
				return err
			}
		}
		return nil
	})
}

// All goes through the slabs, in the order of their digests. What is added or dropped meanwhile may
// be seen or not.
func (p *Packs) All() iter.Seq2[slabstore.Slab, error] {
	const some = 1000 // at once: nothing is read while the caller works
	return func(yield func(slabstore.Slab, error) bool) {
		var from []byte
		for {
			var found []slabstore.Slab
			err := p.known.View(func(tx *bolt.Tx) error {
				c := tx.Bucket(places).Cursor()
				k, v := c.Seek(from)
				for ; k != nil && len(found) < some; k, v = c.Next() {
					at := placeOf(v)
					found = append(found, slabstore.Slab{Digest: slabstore.Digest(k), Size: at.length, Leans: at.base != (slabstore.Digest{}), Base: at.base})
				}
				from = bytes.Clone(k)
				return nil
			})
			if err != nil {
				yield(slabstore.Slab{}, err)
				return
			}
			for _, s := range found {
				if !yield(s, nil) {
					return
				}
			}
			if from == nil {
				return
			}
		}
	}
}

// Size is how many packs there are, how many bytes they have, and how many of those nobody needs.
func (p *Packs) Size() (count int, bytes, dead int64) {
	for _, k := range p.all() {
		count, bytes, dead = count+1, bytes+k.size, dead+k.dead
	}
	return count, bytes, dead
}
