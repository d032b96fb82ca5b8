package agent

import (
	"context"
	"errors"
	"sync"

	"jugate/apiclient"
	"jugate/core/image"
	"jugate/core/parcel"
)

// learn waits for the slab map to come in the stream, tells the service what this
// workstation needs then, and fetches the map if it does not come, or not any more.
func (r *receiver) learn(ctx context.Context, in *intake) error {
	coming := in.learning()
	if coming == nil {
		return nil // it was fetched at once
	}
	for r.slabs == nil {
		now, slabMap := r.latest(), coming.whole()
		var err error
		switch {
		case slabMap != nil:
			if err = r.plan(ctx, slabMap); errors.Is(err, image.ErrManifest) {
				r.agent.options.Log.Warn("the slab map of the stream is not the version's, and is fetched", "delivery", r.to.Delivery, "error", err)
				err = r.fetchMap(ctx)
			}
		case now.FetchMap || now.Aside != "":
			err = r.fetchMap(ctx)
		default:
			select {
			case <-r.changed:
			case <-ctx.Done():
				err = ctx.Err()
			}
		}
		if err != nil {
			return err
		}
	}
	in.learned() // before the service hears of it: the stream may begin with that
	return r.say(ctx, 0)
}

// fetchMap fetches the slab map by unicast.
func (r *receiver) fetchMap(ctx context.Context) error {
	slabMap, err := authorized(ctx, r.agent, func(c *apiclient.Client) ([]byte, error) { return c.DeliveryMap(ctx, r.to.Delivery) })
	if err != nil {
		return err
	}
	return r.plan(ctx, slabMap)
}

// pieces become a slab map. They may come in any order, and more than once.
type pieces struct {
	size int64 // bytes of the map

	mu      sync.Mutex
	slabMap []byte // as far as it has come; nil until the first piece
	lacking map[int]struct{}
}

func newPieces(size int64) *pieces {
	p := &pieces{size: size, lacking: map[int]struct{}{}}
	for n := range parcel.Pieces(size) {
		p.lacking[n] = struct{}{}
	}
	return p
}

// lacks tells whether piece n is still to come.
func (p *pieces) lacks(n int) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	_, lacks := p.lacking[n]
	return lacks
}

// put takes piece n. A piece of the wrong length is dropped, as if it had been lost.
func (p *pieces) put(n int, content []byte) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.slabMap == nil {
		p.slabMap = make([]byte, p.size)
	}
	if place := parcel.Piece(p.slabMap, n); len(place) == len(content) {
		copy(place, content)
		delete(p.lacking, n)
	}
}

// whole is the slab map, once nothing of it is lacking.
func (p *pieces) whole() []byte {
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.lacking) > 0 {
		return nil
	}
	return p.slabMap
}
