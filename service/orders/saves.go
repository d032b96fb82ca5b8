package orders

import (
	"context"
	"io/fs"

	"jugate/api"
	"jugate/core/errand"
	"jugate/core/fault"
	"jugate/core/rights"
	"jugate/records"
)

// Before a disk is erased, an order can have it captured as it is: as a version of an image that is of that workstation alone, and
// that expires. Who cannot be saved is taken out, and keeps what is there.

// whySaved is why findings do not forbid that.
const whySaved = "saved before it was erased; nobody makes copies of it"

// OrderSave has workstations capture their disks, to be kept for some days.
func (o *Orders) OrderSave(ctx context.Context, in api.Order, to []string, where string) error {
	disk, _, _ := erases(in)
	targets, err := o.Fleet.Choose(ctx, to, where)
	if err != nil {
		return err
	}
	for _, w := range targets {
		if err := rights.Check(rights.Needing(ctx, rights.Capture), w.Label(), w.Groups()); err != nil {
			return err
		}
	}
	options := records.SaveOptions{Days: in.SaveDays, Folders: in.Folders, CaptureOptions: api.CaptureOptions{Disk: disk, Despite: whySaved, PastBadSectors: true, CopyEncrypted: true, WhenDone: "stay"}}
	var asked []records.Asked
	for _, w := range targets {
		name, err := o.Records.SavedImage(ctx, w)
		if err != nil {
			return err
		}
		asked = append(asked, records.Asked{Workstation: w.ID, Kind: errand.Capture, Image: name, Note: whySaved, Options: options})
	}
	_, err = o.ask(ctx, asked)
	return err
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

// checkFolders refuses folders that could not go back.
func checkFolders(in api.Order) error {
	if len(in.Folders) == 0 {
		return nil
	}
	switch {
	case in.SaveDays == 0 || in.Deliver == nil:
		return fault.Invalid.Errorf("folders go back with a delivery, from a disk that is saved first: say save_days and deliver")
	case leaves(in.Deliver.WhenDone):
		return fault.Invalid.Errorf("after the delivery workstations leave (when_done), and folders could not go back; give when_done to a command, or leave it out")
	}
	for _, name := range in.Folders {
		if !fs.ValidPath(name) || name == "." {
			return fault.Invalid.Errorf("%q is no folder: write it without a slash in front, such as home or srv/photos", name)
		}
	}
	return nil
}

// foldersBack is kept with an errand that brings folders back.
type foldersBack struct {
	From int64  `json:"from_errand"`
	Disk string `json:"disk"`
}

// OrderFolders has workstations bring back what they have handed in last. It tells whether there was anything.
func (o *Orders) OrderFolders(ctx context.Context, in api.Order, to []string, where string) (some bool, err error) {
	targets, err := o.Fleet.Choose(ctx, to, where)
	if err != nil {
		return false, err
	}
	var asked []records.Asked
	for _, w := range targets {
		f, err := o.Records.FoldersAway(ctx, w.ID)
		if err != nil {
			return false, err
		}
		if f == nil {
			continue
		}
		asked = append(asked, records.Asked{Workstation: w.ID, Kind: errand.Folders, Options: foldersBack{f.ErrandID, in.Deliver.Disk}})
	}
	_, err = o.ask(ctx, asked)
	return len(asked) > 0, err
}

// fillFolders tells an agent which folders it brings back.
func (o *Orders) fillFolders(ctx context.Context, e *records.Errand, out *api.ToErrand) error {
	how, err := records.OptionsOf[foldersBack](e)
	if err != nil {
		return err
	}
	f, err := o.Records.FoldersOf(ctx, how.From)
	if err != nil {
		return err
	}
	out.Folders = &api.ToFolders{Digest: f.Digest, Bytes: f.Bytes, Disk: how.Disk}
	return nil
}

// FoldersFor is the errand whose folders a workstation may fetch, which brings them back with another.
func (o *Orders) FoldersFor(ctx context.Context, workstation, id int64) (from int64, err error) {
	e, err := o.Records.RunningErrand(ctx, workstation, id, errand.Folders)
	if err != nil {
		return 0, err
	}
	how, err := records.OptionsOf[foldersBack](e)
	return how.From, err
}
