package orders

import (
	"context"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/rights"
	"jugate/records"
)

// Before a disk is erased, an order can have it captured as it is: as a version of an image that is of that workstation alone, and
// that expires. Who cannot be saved is taken out, and keeps what is there.

// whySaved is why findings do not forbid that.
const whySaved = "saved before it was erased; nobody makes copies of it"

// OrderSave has workstations capture their disks, to be kept for some days.
func (o *Orders) OrderSave(ctx context.Context, disk string, days int, to []string, where string) error {
	targets, err := o.Fleet.Choose(ctx, to, where)
	if err != nil {
		return err
	}
	for _, w := range targets {
		if err := rights.Check(rights.Needing(ctx, rights.Capture), w.Label(), w.Groups()); err != nil {
			return err
		}
	}
	for _, w := range targets {
		name, err := o.Records.SavedImage(ctx, w)
		if err != nil {
			return err
		}
		e, err := o.Records.AddCapture(ctx, o.Now(), w.ID, name, whySaved, records.SaveOptions{Days: days,
			CaptureOptions: api.CaptureOptions{Disk: disk, Despite: whySaved, PastBadSectors: true, KeepPageFiles: false, CopyEncrypted: true, WhenDone: "stay"}})
		if err != nil {
			return err
		}
		o.Log.Info("a disk is saved before it is erased", "workstation", w.Label(), "image", name, "days", days, "errand", e.ID, "by", actor.From(ctx))
		o.Fleet.Ring(w.ID)
		o.publishErrand(ctx, e.ID)
	}
	return nil
}

// erases is the disk that the first part of an order erases, and for whom; false if it erases nothing.
func erases(in api.Order) (disk string, t task, is bool) {
	if w := in.Wipe; w != nil {
		return w.Disk, task{to: w.Workstations}, true
	}
	if d := in.Deliver; d != nil {
		return d.Disk, task{to: d.To, where: d.Where}, true
	}
	return "", task{}, false
}
