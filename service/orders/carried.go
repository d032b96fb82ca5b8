package orders

import (
	"context"
	"fmt"
	"io"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/core/rights"
	"jugate/core/slabstore"
	"jugate/records"
)

// A delivery can be carried by media to workstations that no network reaches: their errands are made ahead, and receipts are
// handed in by the outpost that is on the media.

// CarriedErrand is the errand of a workstation, as it is carried.
type CarriedErrand struct {
	Workstation records.Workstation
	Keyboard    string
	Errand      *api.ToErrand
}

// CarriedFile is a file that a workstation asks for while it does its errand.
type CarriedFile struct {
	Asked  string // below /agent/v1
	Digest slabstore.Digest
	Size   int64 // bytes
	Open   func() (io.ReadCloser, error)
}

// Carry orders a delivery that the media of an outpost carry, and makes all errands of it ahead, with the files that they need.
// What would fail at a workstation is an error here, and the delivery is stopped before anything is brought.
func (o *Orders) Carry(ctx context.Context, outpost string, in api.NewDelivery) (d api.Delivery, errands []CarriedErrand, files []CarriedFile, err error) {
	if in.Sealed {
		return d, nil, nil, fault.Invalid.Errorf("a delivery that media carry cannot be sealed on the wire: its key would lie on the media")
	}
	if d, err = o.deliver(rights.Needing(ctx, rights.Deliver), in, outpost); err != nil {
		return d, nil, nil, err
	}
	if errands, files, err = o.ahead(ctx, d.ID); err != nil {
		if r := o.Streams.Runner(d.ID); r != nil {
			r.Abandon(o.Now(), outpost, "its media could not be made")
		}
		o.Log.Warn("a delivery is dropped, as its media could not be made", "delivery", d.ID, "by", actor.From(ctx))
	}
	return d, errands, files, err
}

// ahead makes the errands of a delivery.
func (o *Orders) ahead(ctx context.Context, delivery int64) (errands []CarriedErrand, files []CarriedFile, err error) {
	members, err := o.Records.DeliveryMembers(ctx, delivery)
	if err != nil {
		return nil, nil, err
	}
	has := map[string]bool{}
	add := func(asked, digest string, size int64, open func() (io.ReadCloser, error)) error {
		if has[asked] {
			return nil
		}
		has[asked] = true
		d, err := slabstore.ParseDigest(digest)
		files = append(files, CarriedFile{asked, d, size, open})
		return err
	}
	for _, w := range members {
		e, err := o.Records.ErrandOf(ctx, delivery, w.ID)
		if err != nil {
			return nil, nil, err
		}
		to, err := o.toErrand(ctx, e)
		if err != nil {
			return nil, nil, fmt.Errorf("%s: %w", w.Label(), err)
		}
		in := to.Receive
		if a := in.Answer; a != nil {
			if a.Problem != "" {
				return nil, nil, fault.Conflict.Errorf("%s: %s", w.Label(), a.Problem)
			}
			for _, p := range a.Payloads {
				if err := add("payloads/"+p.Digest, p.Digest, p.Size, func() (io.ReadCloser, error) { return o.Stock.PayloadContent(p.Digest) }); err != nil {
					return nil, nil, err
				}
			}
		}
		if i := in.Install; i != nil {
			if i.Problem != "" {
				return nil, nil, fault.Conflict.Errorf("%s: %s", w.Label(), i.Problem)
			}
			for _, p := range i.Packages {
				for _, f := range p.Files {
					if err := add("drivers/"+p.ID+"/files/"+f.Path, f.Digest, f.Bytes, func() (io.ReadCloser, error) { return o.Stock.DriverFile(p.ID, f.Path) }); err != nil {
						return nil, nil, err
					}
				}
			}
		}
		keyboard, err := o.Fleet.Keyboard(ctx, w)
		if err != nil {
			return nil, nil, err
		}
		errands = append(errands, CarriedErrand{w, keyboard, to})
	}
	return errands, files, nil
}
