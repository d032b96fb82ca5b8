package overview

import (
	"context"
	"fmt"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"
	"golang.org/x/sys/unix"

	"jugate/api"
)

// Parts are the rooms that know how a part of the service is.
type Parts struct {
	Dir      string // the data folder
	KeepFree int64  // bytes that are to stay free there
	Records  interface {
		Ready(ctx context.Context) error
	}
	Sites interface {
		List(ctx context.Context) ([]api.Outpost, error)
	}
	Stores interface {
		List(ctx context.Context) ([]api.Store, error)
	}
	Backups interface {
		Schedule(ctx context.Context) (api.BackupsDue, error)
	}
	Standby interface {
		Show(ctx context.Context) (api.Standby, error)
	}
	Directories interface {
		List(ctx context.Context) ([]api.Directory, error)
	}
	Notify interface {
		Rules(ctx context.Context) ([]api.NotificationRule, error)
	}
	Certificates interface{ Until() time.Time }
}

const (
	// tightAt is how many times what is to stay free is little.
	tightAt = 5
	// renewBefore is how long before its end a certificate is to be renewed by people; the service renews its own earlier.
	renewBefore = 14 * 24 * time.Hour
	// backupsLate is how long after its beginning a backup that ends none is late.
	backupsLate = 26 * time.Hour
)

// parts tells how each part of the service is.
func (o *Overview) parts(ctx context.Context, boot api.NetbootStatus, open []api.Delivery) (all []api.PartState, err error) {
	add := func(part, state, what, cure, page string) {
		all = append(all, api.PartState{Part: part, State: state, What: what, Cure: cure, Page: page, Again: means(part)})
	}
	if err := o.Parts.Records.Ready(ctx); err != nil {
		add("records", api.Bad, err.Error(), "look at the disk of the data folder, and start the service again", "/logbook")
	} else {
		add("records", api.Good, "written and read", "", "/logbook")
	}
	o.disk(add)
	links(boot, add)
	if boot.Renew != "" {
		add("boot environment", api.Warning, boot.Renew, "jugate environment build --offer", "/netboot")
	}
	const renew = "get another one from who issued it, and put it where this one is, with its key; it is read again by itself"
	if until := o.Parts.Certificates.Until(); until.Before(o.Now()) {
		add("certificate", api.Bad, "it ended "+until.Format(time.DateOnly), renew, "/people")
	} else if until.Before(o.Now().Add(renewBefore)) {
		add("certificate", api.Warning, "it ends "+until.Format(time.DateOnly), renew, "/people")
	}
	streams(open, add)
	asked, err := o.Parts.Directories.List(ctx)
	if err != nil {
		return nil, err
	}
	for _, d := range asked {
		switch part := directory + d.Name; {
		case d.Trouble != "":
			add(part, api.Bad, d.Trouble, "look at the directory, and at the line to it; who has signed in stays so", "/people")
		case d.Asked == nil:
			add(part, api.Good, "it was not asked since the start", "", "/people")
		default:
			add(part, api.Good, "it answers", "", "/people")
		}
	}
	outposts, err := o.Parts.Sites.List(ctx)
	if err != nil {
		return nil, err
	}
	for _, p := range outposts {
		switch part := "outpost " + p.Name; {
		case p.State == "withdrawn" || p.OnMedia && p.State == "away":
		case p.State == "expected":
			add(part, api.Warning, "it has not joined yet", "start jugate-outpost there with its code", "/sites")
		case p.State == "away":
			add(part, api.Bad, "nothing is heard of it; its machines boot from their disks", "look at the line, and at the machine there", "/sites")
		case brokenLink(p.Links) != "":
			add(part, api.Bad, brokenLink(p.Links), "look at the cable and address of that interface; it is tried again each minute", "/sites")
		case p.Trouble != "":
			add(part, api.Warning, p.Trouble, "jugate outpost show "+p.Name+"; and there, journalctl -u jugate-outpost", "/sites")
		default:
			add(part, api.Good, "it answers", "", "/sites")
		}
	}
	stores, err := o.Parts.Stores.List(ctx)
	if err != nil {
		return nil, err
	}
	for _, s := range stores {
		switch part := store + s.Name; {
		case s.State == "away":
			add(part, api.Bad, "it does not answer: "+s.Trouble, "versions that are there alone cannot be delivered until it does", "/stores")
		default:
			add(part, api.Good, english.Plural(s.Versions, "version", ""), "", "/stores")
		}
	}
	due, err := o.Parts.Backups.Schedule(ctx)
	if err != nil {
		return nil, err
	}
	o.backups(due, add)
	copied, err := o.Parts.Standby.Show(ctx)
	if err != nil {
		return nil, err
	}
	switch {
	case copied.Store == "":
	case copied.Trouble != "":
		add("copy for another machine", api.Bad, copied.Trouble, "look at the store "+copied.Store+"; it is tried again by itself", "/stores")
	default:
		add("copy for another machine", api.Good, "kept in "+copied.Store, "", "/stores")
	}
	rules, err := o.Parts.Notify.Rules(ctx)
	for _, r := range rules {
		if r.Trouble != "" {
			add(rule+r.Rule, api.Warning, r.Trouble, "mend what it says, and try the rule", "/notifications")
		}
	}
	return all, err
}

// brokenLink tells why an interface is not served; empty if all are.
func brokenLink(links []api.NetbootLink) string {
	for _, l := range links {
		if l.State != "serving" {
			return l.State
		}
	}
	return ""
}

// disk tells what is left on the disk of the data folder.
func (o *Overview) disk(add func(part, state, what, cure, page string)) {
	var fs unix.Statfs_t
	if err := unix.Statfs(o.Parts.Dir, &fs); err != nil {
		add("disk", api.Bad, err.Error(), "look at the disk of the data folder, "+o.Parts.Dir, "/images")
		return
	}
	free := int64(fs.Bavail) * fs.Bsize
	what := humanize.IBytes(uint64(free)) + " are free"
	const cure = "prune versions that nobody needs, or move some into a store"
	switch {
	case free <= o.Parts.KeepFree:
		add("disk", api.Bad, what+"; nothing is captured or imported until there is more room", cure, "/images")
	case free < tightAt*o.Parts.KeepFree:
		add("disk", api.Warning, what, cure, "/images")
	default:
		add("disk", api.Good, what, "", "/images")
	}
}

// links tell how network boot is on each interface.
func links(boot api.NetbootStatus, add func(part, state, what, cure, page string)) {
	for _, l := range boot.Links {
		part := netboot + l.Interface
		switch {
		case l.Mode == "off":
		case l.State != "serving":
			add(part, api.Bad, l.State, "look at its cable and address, and jugate part restart '"+part+"'", "/netboot")
		case boot.Offered == 0:
			add(part, api.Warning, "no build of the boot environment is offered", "make one, and offer it", "/netboot")
		default:
			add(part, api.Good, "serving, "+l.Mode, "", "/netboot")
		}
		for _, p := range l.Pools {
			if p.Of > 0 && p.Left*20 < p.Of {
				add(part, api.Warning, fmt.Sprintf("of the addresses %s, %d are left", p.Range, p.Left), "give it more addresses: jugate config set pool", "/netboot")
			}
		}
	}
}

// streams tell of the deliveries that send now, and whether the network carries multicast to them.
func streams(open []api.Delivery, add func(part, state, what, cure, page string)) {
	sending, unheard := 0, 0
	for _, d := range open {
		if d.RateNow > 0 {
			sending++
		}
		if d.Unicast {
			unheard++
		}
	}
	switch {
	case unheard > 0:
		add("streams", api.Warning, english.Plural(unheard, "delivery goes", "deliveries go")+" to each workstation alone: the network carries no multicast to them", "look at IGMP snooping and queriers of the switches (docs/multicast.md)", "/deliveries")
	case sending > 0:
		add("streams", api.Good, english.Plural(sending, "delivery sends", "deliveries send"), "", "/deliveries")
	default:
		add("streams", api.Good, "nothing is sent now", "", "/deliveries")
	}
}

// backups tell whether any are made by themselves, and how the last one went.
func (o *Overview) backups(due api.BackupsDue, add func(part, state, what, cure, page string)) {
	byHand := "look at the store " + due.Store + ", and make one now: jugate backup make --to " + due.Store
	switch {
	case due.Store == "":
		add("backups", api.Warning, "none are made by themselves", "say where to and when: jugate backup schedule", "/stores")
	case due.Trouble != "":
		add("backups", api.Bad, "the last one failed: "+due.Trouble, byHand, "/stores")
	case due.Ended != nil && o.Now().Sub(*due.Ended) > backupsLate:
		add("backups", api.Warning, "the last one ended "+humanize.RelTime(*due.Ended, o.Now(), "ago", "from now"), byHand, "/stores")
	default:
		add("backups", api.Good, "each day at "+due.At+" to "+due.Store, "", "/stores")
	}
}
