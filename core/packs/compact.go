package packs

import (
	"bytes"
	"context"
	"errors"
	"strings"
	"time"

	bolt "go.etcd.io/bbolt"

	"jugate/core/objects"
	"jugate/core/slabstore"
)

// orphanAge is how old a pack without an index must be to be taken for what a cut has left.
const orphanAge = 24 * time.Hour

// Compact takes packs away that nobody needs, and those without an index that a cut has left, and
// writes what is needed of packs that are mostly not into new ones; freed is how many bytes the
// store has fewer.
func (p *Packs) Compact(ctx context.Context, now time.Time) (freed int64, err error) {
	if err := p.Flush(ctx); err != nil {
		return 0, err
	}
	if freed, err = p.removeOrphans(ctx, now); err != nil {
		return freed, err
	}
	for _, k := range p.all() {
		if 2*k.dead < k.size-int64(len(packMagic)) {
			continue
		}
		live, err := p.live(k.name)
		if err != nil {
			return freed, err
		}
		var moved int64
		for _, d := range live {
			stored, err := p.fetch(ctx, d)
			if err != nil {
				return freed, err
			}
			if _, err := p.add(ctx, stored[0], true); err != nil {
				return freed, err
			}
			moved += int64(len(stored[0].Content)) + entryHead
		}
		if err := p.Flush(ctx); err != nil {
			return freed, err
		}
		if err := p.remove(ctx, k.name); err != nil {
			return freed, err
		}
		freed += k.size - moved
	}
	return freed, nil
}

func (p *Packs) removeOrphans(ctx context.Context, now time.Time) (freed int64, err error) {
	for o, err := range p.store.List(ctx, packFolder) {
		if err != nil {
			return freed, err
		}
		name := strings.TrimPrefix(o.Name, packFolder)
		if p.knows(name) || now.Sub(o.Changed) < orphanAge {
			continue
		}
		if _, err := p.store.Stat(ctx, indexFolder+name); !errors.Is(err, objects.ErrNotFound) {
			if err != nil {
				return freed, err
			}
			continue // a list may lack an index that is there
		}
		if err := p.store.Remove(ctx, o.Name); err != nil {
			return freed, err
		}
		freed += o.Size
	}
	return freed, nil
}

// live are the slabs of a pack that are needed.
func (p *Packs) live(name string) (all []slabstore.Digest, err error) {
	err = p.known.View(func(tx *bolt.Tx) error {
		n := tx.Bucket(names).Get([]byte(name))
		return tx.Bucket(places).ForEach(func(d, at []byte) error {
			if n != nil && bytes.HasPrefix(at, n) {
				all = append(all, slabstore.Digest(d))
			}
			return nil
		})
	})
	return all, err
}

// remove takes a pack away: its index first, as nobody looks for it then.
func (p *Packs) remove(ctx context.Context, name string) error {
	if err := p.store.Remove(ctx, indexFolder+name); err != nil {
		return err
	}
	for o, err := range p.store.List(ctx, damagedFolder+name+"/") {
		if err != nil {
			return err
		}
		if err := p.store.Remove(ctx, o.Name); err != nil {
			return err
		}
	}
	if err := p.store.Remove(ctx, packFolder+name); err != nil {
		return err
	}
	return p.forget(name)
}
