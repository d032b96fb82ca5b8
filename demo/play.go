package demo

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/dustin/go-humanize"

	"jugate/api"
	"jugate/apiclient"
	"jugate/demo/golddisk"
	"jugate/demo/madeup"
)

// Report is what came of the demo.
type Report struct {
	Image      string    `json:"image"`
	Version    int       `json:"version"`
	Receipts   []Receipt `json:"receipts"`
	WireBytes  int64     `json:"wire_bytes"`  // multicast packets with headers, and mending
	ImageBytes int64     `json:"image_bytes"` // in use in the image
}

// Receipt is the part of a receipt that the report repeats.
type Receipt struct {
	Workstation    string  `json:"workstation"`
	Address        string  `json:"hardware_address"`
	Image          string  `json:"image"`
	Version        int     `json:"version"`
	Digest         string  `json:"digest"`
	Verified       bool    `json:"verified"`
	Outcome        string  `json:"outcome"`
	BytesMulticast int64   `json:"bytes_multicast"`
	BytesUnicast   int64   `json:"bytes_unicast"`
	Seconds        float64 `json:"seconds"`
}

// Prepared is how the stage stands before the delivery.
type Prepared struct {
	Gold    *golddisk.Disk
	Version api.Version // captured from it
	Room    []string    // names of the blank workstations in the group
	Group   string
}

// Play shows the whole way. It fails if any disk is not right in the end, by the
// judgement of the system's own tools; the report is there all the same as soon
// as there are receipts.
func (s *Stage) Play(ctx context.Context) (*Report, error) {
	p, err := s.Prepare(ctx)
	if err != nil {
		return nil, err
	}
	report, err := s.deliver(ctx, p.Version, p.Room)
	if err != nil {
		return report, err
	}
	if err := s.judge(ctx, p.Gold, p.Room); err != nil {
		return report, err
	}
	if err := s.playDrivers(ctx, p); err != nil {
		return report, err
	}
	if err := s.playArrival(ctx, p); err != nil {
		return report, err
	}
	if err := s.playEntries(ctx); err != nil {
		return report, err
	}
	if err := s.playAlpine(ctx); err != nil {
		return report, err
	}
	return report, s.playWeek(ctx, p)
}

// Prepare is the first half of Play: the golden disk is made and captured, and
// the workstations are on, admitted and blank.
func (s *Stage) Prepare(ctx context.Context) (*Prepared, error) {
	gold, err := s.SwitchOn(ctx)
	if err != nil {
		return nil, err
	}
	room, err := s.admitAll(ctx)
	if err != nil {
		return nil, err
	}
	version, err := s.capture(ctx)
	return &Prepared{gold, version, room, scanning}, err
}

// SwitchOn makes the golden disk, and switches the golden machine and all others on: each is a newcomer then.
func (s *Stage) SwitchOn(ctx context.Context) (*golddisk.Disk, error) {
	gold, err := golddisk.Build(ctx, golddisk.Spec{Path: filepath.Join(s.dir, "gold.disk"), Size: goldSize, Data: 48 * golddisk.MiB, Seed: 1, Also: madeup.WriteKernel})
	if err != nil {
		return nil, err
	}
	s.say("golden disk of %s made: a GPT with an EFI partition (FAT32) and an ext4 volume", size(gold.Size))
	if err := s.switchOn(ctx, template, gold.Path); err != nil {
		return nil, err
	}
	all := cast(s.options.Loss)
	for _, m := range all {
		disk := filepath.Join(s.dir, fmt.Sprintf("%x.disk", m.address[5]))
		if err := golddisk.Blank(disk, m.disk); err != nil {
			return nil, err
		}
		if err := s.switchOn(ctx, m, disk); err != nil {
			return nil, err
		}
	}
	newcomers := apiclient.List{Filter: map[string]string{"state": "newcomer"}, Limit: 1}
	err = s.await(ctx, "workstation", func() (bool, error) {
		page, err := s.Client.Workstations(ctx, newcomers)
		return page.Total == 1+len(all), err
	})
	if err != nil {
		return nil, err
	}
	s.say("%d workstations are on; each appears as a newcomer with its hardware address and inventory", 1+len(all))
	return gold, nil
}

// FirstStart has a machine start from its disk for the first time.
func (s *Stage) FirstStart(ctx context.Context, name string) error {
	return s.machines[name].FirstStart(ctx)
}

// template is the golden machine.
var template = machine{name: goldName, address: address(1), maker: "Alder Works", model: "A310", memory: 8 << 30, devices: a310}

// admitAll admits the newcomers, and returns the names of the blank ones.
func (s *Stage) admitAll(ctx context.Context) ([]string, error) {
	all := cast(s.options.Loss)
	for _, g := range groups {
		if _, err := s.Client.AddGroup(ctx, api.NewGroup{Name: g}); err != nil {
			return nil, err
		}
	}
	for _, m := range models {
		if _, err := s.Client.SetModel(ctx, m); err != nil {
			return nil, err
		}
	}
	if err := s.takeIn(ctx); err != nil {
		return nil, err
	}
	if _, err := s.Client.Admit(ctx, template.address.String(), api.Admission{Name: template.name}); err != nil {
		return nil, err
	}
	var room []string
	newcomer := 0
	for _, m := range all {
		if m.name == "" {
			newcomer++
			continue
		}
		if _, err := s.Client.Admit(ctx, m.address.String(), api.Admission{Name: m.name, Groups: []string{m.group}}); err != nil {
			return nil, err
		}
		if m.group == scanning {
			room = append(room, m.name)
		}
	}
	s.say("admitted: the template %s, %s to %s in %s, two in %s (%d kiosks stay newcomers)",
		goldName, room[0], room[len(room)-1], scanning, seedBank, newcomer)
	return room, nil
}

func (s *Stage) capture(ctx context.Context) (api.Version, error) {
	e, err := s.Client.Capture(ctx, api.NewCapture{Workstation: goldName, Image: imageName, Note: "desk for the scanning room"})
	if err != nil {
		return api.Version{}, err
	}
	err = s.await(ctx, "errand", func() (bool, error) {
		e, err = s.Client.Errand(ctx, e.ID)
		return e.Ended != nil, err
	})
	if err != nil {
		return api.Version{}, err
	}
	if e.State != "done" {
		return api.Version{}, fmt.Errorf("the capture %s: %s", e.State, e.Error)
	}
	v, err := s.Client.Version(ctx, fmt.Sprintf("%s@%d", e.Image, e.Version))
	if err != nil {
		return v, err
	}
	s.say("captured as %s@%d: %s in use of %s, %d new slabs stored in %s",
		v.Image, v.Version, size(v.UsedBytes), size(v.DiskBytes), v.NewSlabs, size(v.StoredBytes))
	return v, nil
}

// receiptsOf waits until a delivery has ended, tells its states meanwhile, and lists its receipts.
func (s *Stage) receiptsOf(ctx context.Context, d *api.Delivery) ([]api.Receipt, error) {
	state := d.State
	err := s.await(ctx, "delivery", func() (bool, error) {
		var err error
		*d, err = s.Client.Delivery(ctx, d.ID)
		if d.State != state {
			state = d.State
			s.say("  %s", state)
		}
		return d.Ended != nil, err
	})
	if err != nil {
		return nil, err
	}
	page, err := s.Client.Receipts(ctx, apiclient.List{Sort: "workstation", Filter: map[string]string{"delivery": fmt.Sprint(d.ID)}})
	return page.Items, err
}

func (s *Stage) deliver(ctx context.Context, v api.Version, room []string) (*Report, error) {
	d, err := s.Client.Deliver(ctx, api.NewDelivery{Image: fmt.Sprintf("%s@%d", v.Image, v.Version), To: []string{scanning}, Start: fmt.Sprintf("ready:%d", len(room))})
	if err != nil {
		return nil, err
	}
	s.say("delivery %d ordered for the group %s: one stream to %s as soon as %d are ready", d.ID, scanning, d.Channel, len(room))
	receipts, err := s.receiptsOf(ctx, &d)
	if err != nil {
		return nil, err
	}
	report := &Report{Image: v.Image, Version: v.Version, WireBytes: d.WireBytes, ImageBytes: v.UsedBytes}
	for _, r := range receipts {
		report.Receipts = append(report.Receipts, Receipt{
			r.Workstation, r.Address, r.Image, r.Version, r.Digest, r.Verified, string(r.Outcome), r.Multicast, r.Unicast, r.Seconds})
		s.say("  receipt: %s %s, %s by multicast, %s by unicast, %.1f s %s", r.Workstation, r.Outcome, size(r.Multicast), size(r.Unicast), r.Seconds, r.Reason)
	}
	s.say("on the wire: %s for %d workstations; the image has %s in use", size(d.WireBytes), len(room), size(v.UsedBytes))
	for _, r := range report.Receipts {
		if !r.Verified || r.Outcome != "delivered" {
			return report, fmt.Errorf("%s: %s", r.Workstation, r.Outcome)
		}
	}
	if len(report.Receipts) != len(room) {
		return report, fmt.Errorf("%d receipts for %d workstations", len(report.Receipts), len(room))
	}
	return report, nil
}

// judge holds every delivered disk against the golden one, with sfdisk, fsck and
// the digests of the files inside.
func (s *Stage) judge(ctx context.Context, gold *golddisk.Disk, room []string) error {
	wantDump, err := gold.Dump(ctx)
	if err != nil {
		return err
	}
	wantFiles, err := gold.Files(ctx)
	if err != nil {
		return err
	}
	for _, name := range room {
		disk := gold.On(s.disks[name])
		dump, err := disk.Dump(ctx)
		info, err2 := os.Stat(disk.Path)
		if err = errors.Join(err, err2); err == nil && dump != golddisk.Grown(wantDump, info.Size()) {
			err = errors.New("sfdisk finds another partition table")
		}
		files, err2 := disk.Files(ctx)
		if err2 == nil && !maps.Equal(files, wantFiles) {
			err2 = fmt.Errorf("its files differ: %d of them, %d on the golden disk", len(files), len(wantFiles))
		}
		if err := errors.Join(err, err2, disk.Check(ctx), disk.VerifyTable(ctx)); err != nil {
			return fmt.Errorf("the disk of %s is not right: %w", name, err)
		}
	}
	s.say("judged by sfdisk, fsck and the digests of %d files: all %d disks are right", len(wantFiles), len(room))
	return nil
}

// await waits until done, looking again at each event of a kind.
func (s *Stage) await(ctx context.Context, kind string, done func() (bool, error)) error {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	enough := errors.New("enough")
	err := s.Client.Events(ctx, 0, func(got string, _ []byte) error {
		if !slices.Contains([]string{kind, "hello", "resync"}, got) {
			return nil
		}
		ok, err := done()
		if err == nil && ok {
			err = enough
		}
		return err
	})
	switch {
	case errors.Is(err, enough):
		return nil
	case err == nil:
		return errors.New("the service ended")
	}
	return err
}

func size(n int64) string { return humanize.IBytes(uint64(n)) }
