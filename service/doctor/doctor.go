// Package doctor finds out what is wrong: with the service, and with a workstation that does not come up. It gathers what the other
// rooms know, and judges that; every judgment says what to do.
//
//	all, err := d.Service(ctx)
//	all, err = d.Workstation(ctx, "herb-07")
//
// service.go judges the service, workstation.go a workstation. The judgments are functions of facts, which are gathered here.
package doctor

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"jugate/api"
	"jugate/boot"
	"jugate/core/fault"
	"jugate/core/hwaddr"
	"jugate/core/netboot"
	"jugate/core/roster"
	"jugate/records"
)

// Doctor gathers and judges.
type Doctor struct {
	Overview interface {
		Show(ctx context.Context) (api.Overview, error)
	}
	Stock interface {
		NetbootStatus(ctx context.Context) (api.NetbootStatus, error)
		Build(ctx context.Context, number int) (api.Build, error)
	}
	Fleet interface {
		Get(ctx context.Context, ref string) (api.Workstation, error)
		Model(ctx context.Context, name string) (api.Model, error)
	}
	Orders interface {
		Errands(ctx context.Context, workstation string, open bool, p records.Page) ([]api.Errand, int, error)
		Checks(ctx context.Context, workstation string, f records.MachineCheckFilter, p records.Page) ([]api.Check, int, error)
	}
	Intake interface {
		Unrecorded(ctx context.Context) ([]roster.Ref, error)
	}
	Records *records.DB
	// Others are the servers that give addresses on an interface; boot.Others by default.
	Others func(ctx context.Context, ifname string) ([]netip.Addr, error)
	// Buffer is how many bytes the system holds for a stream.
	Buffer func() (int, error)
	At     []string // where the service answers
	Dir    string   // the data folder

	listening sync.Mutex // held while it is listened for other servers: whoever asks meanwhile waits, and gets the same
	heard     map[string]answers
	heardAt   time.Time // zero before the first time
}

// answers are what was heard on an interface when servers were asked for.
type answers struct {
	from []netip.Addr // servers that give addresses
	err  error        // why nobody could listen
}

// heardFor is how long what was heard of other servers is good, so that nobody floods a network by asking again and again.
const heardFor = 10 * time.Second

// Service looks at the service. It takes some seconds where network boot is answered.
func (d *Doctor) Service(ctx context.Context) ([]api.Diagnosis, error) {
	f := serviceFacts{at: d.At}
	now, err := d.Overview.Show(ctx)
	if err != nil {
		return nil, err
	}
	f.parts = now.Parts
	status, err := d.Stock.NetbootStatus(ctx)
	if err != nil {
		return nil, err
	}
	f.links = status.Links
	if status.Offered > 0 {
		b, err := d.Stock.Build(ctx, status.Offered)
		if err != nil {
			return nil, err
		}
		f.offered = &b
	}
	people, err := d.Records.People(ctx)
	if err != nil {
		return nil, err
	}
	for _, p := range people {
		if !p.ShutOut && (p.Password != "" || p.Directory != "") {
			f.people++
		}
	}
	if _, f.images, err = d.Records.Images(ctx, nil, false, records.Page{Limit: 1}); err != nil {
		return nil, err
	}
	if f.unrecorded, err = d.Intake.Unrecorded(ctx); err != nil {
		return nil, err
	}
	f.others = d.others(ctx, status.Links)
	if f.buffer, err = d.Buffer(); err != nil {
		return nil, err
	}
	var files unix.Rlimit
	if err := unix.Getrlimit(unix.RLIMIT_NOFILE, &files); err != nil {
		return nil, err
	}
	f.files = files.Cur
	var fs unix.Statfs_t
	if err := unix.Statfs(d.Dir, &fs); err != nil {
		return nil, err
	}
	f.inodes, f.inodesFree = fs.Files, fs.Ffree
	return f.judge(), nil
}

// others are the servers that give addresses on each interface that is served.
func (d *Doctor) others(ctx context.Context, links []api.NetbootLink) map[string]answers {
	look := d.Others
	if look == nil {
		look = boot.Others
	}
	d.listening.Lock()
	defer d.listening.Unlock()
	var served []string
	for _, l := range links {
		if l.Mode != string(netboot.Off) && l.State == "serving" {
			served = append(served, l.Interface)
		}
	}
	unasked := func(ifname string) bool { _, asked := d.heard[ifname]; return !asked }
	if time.Since(d.heardAt) < heardFor && !slices.ContainsFunc(served, unasked) {
		return d.heard
	}
	var mu sync.Mutex
	var all sync.WaitGroup
	found := map[string]answers{}
	for _, ifname := range served {
		all.Go(func() {
			servers, err := look(ctx, ifname)
			mu.Lock()
			defer mu.Unlock()
			found[ifname] = answers{servers, err}
		})
	}
	all.Wait()
	d.heard, d.heardAt = found, time.Now()
	return found
}

// Workstation looks at one workstation, by its name or hardware address; it may be one that nobody has seen yet.
func (d *Doctor) Workstation(ctx context.Context, ref string) ([]api.Diagnosis, error) {
	f := workstationFacts{ref: ref}
	var err error
	if f.status, err = d.Stock.NetbootStatus(ctx); err != nil {
		return nil, err
	}
	w, err := d.Fleet.Get(ctx, ref)
	switch {
	case err == nil:
		f.is = &w
	case !errors.Is(err, fault.NotFound):
		return nil, err
	}
	addresses := []string{}
	if a, err := hwaddr.Parse(ref); err == nil {
		addresses = append(addresses, a.String())
	} else if f.is == nil {
		return nil, fault.NotFound.Errorf("no workstation is called %q; one that nobody has seen yet is named by its hardware address", ref)
	}
	if f.is != nil {
		addresses = append(addresses, w.Addresses...)
		if err := d.fillKnown(ctx, &f); err != nil {
			return nil, err
		}
	}
	for _, text := range addresses {
		a, err := hwaddr.Parse(text)
		if err != nil {
			continue
		}
		refused, err := d.Records.Refused(ctx, a)
		if err != nil {
			return nil, err
		}
		f.refused = f.refused || refused
		for i, m := range f.status.Machines {
			if m.Address == text {
				f.trail = &f.status.Machines[i]
			}
		}
	}
	return f.judge(), nil
}

// fillKnown gathers what is on record of a workstation of the roster.
func (d *Doctor) fillKnown(ctx context.Context, f *workstationFacts) (err error) {
	if f.errands, _, err = d.Orders.Errands(ctx, f.is.Addresses[0], true, records.Page{Limit: 5}); err != nil {
		return err
	}
	checks, _, err := d.Orders.Checks(ctx, f.is.Addresses[0], records.MachineCheckFilter{}, records.Page{Limit: 1})
	if err != nil {
		return err
	}
	if len(checks) > 0 {
		f.check = &checks[0]
	}
	if f.is.Maker+f.is.Model == "" {
		return nil
	}
	m, err := d.Fleet.Model(ctx, f.is.Maker+" "+f.is.Model)
	if errors.Is(err, fault.NotFound) {
		return nil
	}
	f.bootKey = m.BootKey
	return err
}
