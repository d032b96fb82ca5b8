package agent

import (
	"context"

	"jugate/apiclient"
	"jugate/core/image"
)

// takeBases looks which slabs can come as what differs from the version before.
func (r *receiver) takeBases(ctx context.Context) error {
	based := &image.SlabSet{}
	if r.to.Bases && r.to.Reuse {
		raw, err := authorized(ctx, r.agent, func(c *apiclient.Client) ([]byte, error) { return c.DeliveryBases(ctx, r.to.Delivery) })
		if err != nil {
			return err
		}
		if bases, err := image.ParseBases(raw, r.manifest); err != nil {
			r.agent.options.Log.Warn("what the disk may have of the version before makes no sense; all comes whole", "delivery", r.to.Delivery, "error", err)
		} else if based, err = r.restore.TakeBases(ctx, bases); err != nil {
			return err
		}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.based = based
	return nil
}

// hasBase tells whether the base of a slab is on the disk.
func (r *receiver) hasBase(slab int) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.based.Has(slab)
}

// ofBases are those of some slabs whose base is on the disk.
func (r *receiver) ofBases(slabs *image.SlabSet) *image.SlabSet {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slabs.Both(r.based)
}

// loseBase says that it is not, or not any more.
func (r *receiver) loseBase(slab int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.based.Remove(slab)
}
