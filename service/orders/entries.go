package orders

import (
	"context"
	"strings"
	"time"

	"jugate/api"
	"jugate/core/errand"
	"jugate/core/fault"
	"jugate/core/rights"
	"jugate/records"
)

// A boot entry that was asked for is started by the loader. The errand of it is over when it has said that it has done its work, or
// when the workstation starts anew, which the stock tells.

// limitOfEntry is how long a boot entry may take, if an order does not say so.
const limitOfEntry = 4 * time.Hour

// prepared is a boot entry of an order.
type prepared api.PreparedEntry

// preparedEntry is the boot entry of an order with that name; nil if there is none.
func preparedEntry(in api.Order, name string) *prepared {
	for i := range in.Entries {
		if strings.EqualFold(in.Entries[i].Entry, name) {
			return (*prepared)(&in.Entries[i])
		}
	}
	return nil
}

func (p *prepared) waits() time.Duration {
	if p.Wait > 0 {
		return time.Duration(p.Wait) * time.Minute
	}
	return waitForEach
}

func (p *prepared) limit() time.Duration {
	if p.Limit > 0 {
		return time.Duration(p.Limit) * time.Minute
	}
	return limitOfEntry
}

// checkEntries refuses boot entries that are not there, or are not told what they have to be.
func (o *Orders) checkEntries(ctx context.Context, in api.Order) error {
	for _, e := range in.Entries {
		if err := o.Stock.CheckEntry(ctx, e.EntryErrand); err != nil {
			return err
		}
	}
	return nil
}

// orderEntry has workstations start a boot entry of an order. Who cannot is taken out when it comes.
func (o *Orders) orderEntry(ctx context.Context, in api.Order, name string, to []string, where string) error {
	p := preparedEntry(in, name)
	if p == nil {
		return fault.NotFound.Errorf("the order has no boot entry %s", name)
	}
	if err := o.Stock.CheckEntry(ctx, p.EntryErrand); err != nil {
		return err
	}
	targets, err := o.Fleet.Choose(ctx, to, where)
	if err != nil {
		return err
	}
	_, err = o.addErrands(ctx, targets, errand.Entry, func(records.Workstation) any { return p.EntryErrand })
	return err
}

// startEntryAt has a workstation start a boot entry now, for whoever is at it.
func (o *Orders) startEntryAt(ctx context.Context, w *records.Workstation, name string, values map[string]string) error {
	in := api.EntryErrand{Entry: name, Parameters: values}
	if err := o.Stock.MayStartEntry(ctx, *w, rights.From(ctx), in); err != nil {
		return err
	}
	_, err := o.addErrands(ctx, []records.Workstation{*w}, errand.Entry, func(records.Workstation) any { return in })
	return err
}

// fillEntry tells an agent which boot entry is to be started. One that was told so, and is there again after a restart, does not start
// from the network.
func (o *Orders) fillEntry(ctx context.Context, e *records.Errand, out *api.ToErrand) (*api.ToErrand, error) {
	in, err := records.OptionsOf[api.EntryErrand](e)
	if err != nil {
		return nil, err
	}
	boot := o.Fleet.BootOf(e.WorkstationID)
	o.toldEntry.Lock()
	before, told := o.toldEntry.boots[e.ID]
	if o.toldEntry.boots == nil {
		o.toldEntry.boots = map[int64]string{}
	}
	o.toldEntry.boots[e.ID] = boot
	o.toldEntry.Unlock()
	if told && before != boot {
		return nil, o.endEntry(ctx, e, "the workstation has restarted and did not ask the service what to boot: it does not start from the network")
	}
	out.Entry = in.Entry
	return out, nil
}

// EntryEnded ends an errand that has started a boot entry; why says why it has failed, and is empty if it has not. A run goes on
// before the workstation is told what it boots next.
func (o *Orders) EntryEnded(ctx context.Context, id int64, why string) {
	e, err := o.Records.Errand(ctx, id)
	if err == nil && e.State.Open() {
		err = o.endEntry(ctx, e, why)
	}
	if err == nil && e.RunID.Valid {
		err = o.advance(ctx, e.RunID.Int64)
	}
	if err != nil {
		o.Log.Error("the end of a boot entry could not be noted", "errand", id, "error", err)
	}
}

func (o *Orders) endEntry(ctx context.Context, e *records.Errand, why string) error {
	state := errand.Done
	if why != "" {
		state = errand.Failed
	}
	o.toldEntry.Lock()
	delete(o.toldEntry.boots, e.ID)
	o.toldEntry.Unlock()
	if err := o.Records.EndErrand(ctx, o.Now(), e.ID, state, why); err != nil {
		return err
	}
	if why != "" {
		o.Log.Warn("a boot entry failed", "workstation", e.Workstation, "errand", e.ID, "reason", why)
	}
	o.publishErrand(ctx, e.ID)
	o.Fleet.Ring(e.WorkstationID)
	return nil
}
