package stock

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"jugate/boot"
	"jugate/core/fault"
	"jugate/core/hwaddr"
	"jugate/core/netboot"
	"jugate/core/roster"
	"jugate/records"
)

// Facts are what the roster says of a machine that asks for an address.
func (k *Stock) Facts(ctx context.Context, a hwaddr.Address) netboot.Facts {
	refused, err := k.Records.Refused(ctx, a)
	if err == nil && refused {
		return netboot.Facts{Refused: "an engineer has refused it"}
	}
	w, err := k.Records.FindWorkstation(ctx, a.String())
	ignored := k.Unknown() == netboot.Ignore
	switch {
	case errors.Is(err, fault.NotFound) && ignored:
		return netboot.Facts{Refused: "nobody has admitted it, and unknown machines are ignored"}
	case err != nil && !errors.Is(err, fault.NotFound):
		return netboot.Facts{Refused: err.Error()}
	case err == nil && w.State.Unknown() && ignored:
		return netboot.Facts{Refused: "it is a newcomer, and unknown machines are ignored"}
	}
	if err == nil {
		inv, err := k.Records.Inventory(ctx, w.ID)
		facts := netboot.Facts{Signed: err == nil && inv.SecureBoot}
		if a, start, err := k.disc(ctx, *w); err != nil {
			k.Log.Error("nobody can tell what a workstation boots", "workstation", w.Label(), "error", err)
		} else if a != nil {
			facts.Disc = boot.EntryFile(start.Files[0].Part, boot.EntryDisc)
		}
		return facts
	}
	return netboot.Facts{}
}

// BuildFor is the build whose loaders a machine gets; 0 if none is offered.
func (k *Stock) BuildFor(ctx context.Context, a hwaddr.Address) (int, error) {
	if w, err := k.Records.FindWorkstation(ctx, a.String()); err == nil {
		if plan, err := k.Records.Plan(ctx, k.Now(), w.ID); err == nil && plan.Build > 0 {
			return plan.Build, nil
		}
	}
	return k.Records.Offered(ctx)
}

// Leases are the addresses that were given.
func (k *Stock) Leases(ctx context.Context) ([]netboot.Lease, error) { return k.Records.Leases(ctx) }

// Fixed are the addresses that belong to workstations.
func (k *Stock) Fixed(ctx context.Context) (map[netip.Addr][]hwaddr.Address, error) {
	return k.Records.FixedAddresses(ctx)
}

// Lease keeps a lease.
func (k *Stock) Lease(ctx context.Context, l netboot.Lease) error { return k.Records.SetLease(ctx, l) }

// welcomeMenu is how long machines that nobody has admitted show their menu.
const welcomeMenu = 30 * time.Second

// Choose decides what a machine boots now.
func (k *Stock) Choose(ctx context.Context, l netboot.Loader, a hwaddr.Address) (netboot.Choice, error) {
	c := netboot.Choice{Do: netboot.Disk, Name: a.String(), Address: a, Service: "https://" + l.Server}
	w, err := k.Records.FindWorkstation(ctx, a.String())
	switch {
	case errors.Is(err, fault.NotFound), err == nil && w.State.Unknown():
		return k.chooseForNewcomer(ctx, l, c, w)
	case err != nil:
		return c, err
	}
	c.Name = w.Label()
	if w.State == roster.Retired {
		c.Why = "retired"
		return c, nil
	}
	if err := k.endStarts(ctx, *w); err != nil { // a run goes on, and may ask for something now
		return c, err
	}
	plan, err := k.Records.Plan(ctx, k.Now(), w.ID)
	if err != nil {
		return c, err
	}
	c.Build, c.Menu = plan.Build, time.Duration(plan.Menu)*time.Second
	starts, err := k.chooseEntry(ctx, l, *w, &c)
	if err != nil {
		return c, err
	}
	refused := c.Why
	switch {
	case c.Do == netboot.BootEntry && c.Menu == 0: // it is booted at once
		return c, k.Records.AddBootStarts(ctx, w.ID, starts)
	case plan.Build == 0 && c.Do == netboot.Disk:
		c.Why, c.Menu = cmp.Or(c.Why, "no boot environment is offered"), 0
		return c, nil
	case c.Do == netboot.BootEntry:
	case plan.Errand > 0:
		c.Do, c.Why, c.Menu = netboot.Environment, "an errand waits", 0
	case w.State == roster.Expected: // so that it is seen
		c.Do, c.Why, c.Menu = netboot.Environment, "expected", 0
	default:
		order, err := k.Orders.IsWanted(ctx, *w)
		if err != nil {
			return c, err
		}
		if c.Why = cmp.Or(c.Why, "no errand"); order != "" {
			c.Do, c.Why, c.Menu = netboot.Environment, "behind; the order "+order+" runs for it", 0
		}
	}
	if refused != "" && c.Why != refused && c.Do != netboot.BootEntry {
		c.Why += "; " + refused
	}
	if c.Menu > 0 {
		c.SignIn = true
		prepared, err := k.Records.Prepared(ctx, w.ID)
		if err != nil {
			return c, err
		}
		for _, image := range prepared {
			c.Items = append(c.Items, netboot.MenuItem{Title: "Receive " + image + " (all data on this disk is lost)", Wish: "receive:" + image})
		}
	}
	if c.Menu > 0 {
		forAll, err := k.Orders.ForEverybody(ctx, *w)
		if err != nil {
			return c, err
		}
		for _, name := range forAll {
			c.Items = append(c.Items, netboot.MenuItem{Title: "Run the order " + name + " for this workstation", Wish: "order:" + name})
		}
		items, more, err := k.entriesFor(ctx, l, *w, a)
		if err != nil {
			return c, err
		}
		c.Items, starts = append(c.Items, items...), append(starts, more...)
	}
	if len(starts) > 0 {
		if err := k.Records.AddBootStarts(ctx, w.ID, starts); err != nil {
			return c, err
		}
	}
	return k.prepareBoot(ctx, c, *w)
}

// chooseEntry has a workstation boot a boot entry, if one was chosen for it and it can. What was chosen for one start, or by an
// errand, shows no menu.
func (k *Stock) chooseEntry(ctx context.Context, l netboot.Loader, w records.Workstation, c *netboot.Choice) ([]records.BootStart, error) {
	e, err := k.Records.NextErrand(ctx, k.Now(), w.ID)
	if err != nil {
		return nil, err
	}
	a, err := k.askedFor(ctx, w, e)
	if a == nil || err != nil {
		return nil, err
	}
	explicit := a.once || a.errand != 0
	if !explicit && (e != nil || w.State == roster.Expected) {
		return nil, nil // first what was asked of it
	}
	entry, start, err := k.prepare(ctx, l, w, c.Address, *a)
	if err != nil {
		c.Why = whyNot(err)
		k.Log.Warn("a boot entry cannot be started", "entry", a.Name, "workstation", w.Label(), "error", err)
		if a.errand != 0 {
			k.Orders.EntryEnded(ctx, a.errand, whyNot(err))
		}
		return nil, nil
	}
	if a.errand != 0 {
		if _, err := k.Records.StartErrand(ctx, k.Now(), w.ID); err != nil {
			return nil, err
		}
	}
	c.Do, c.Entry, c.Why = netboot.BootEntry, entry, a.ref()
	if explicit {
		c.Menu = 0
	}
	return []records.BootStart{*start}, nil
}

// chooseForNewcomer decides for a machine that nobody has admitted.
func (k *Stock) chooseForNewcomer(ctx context.Context, l netboot.Loader, c netboot.Choice, w *records.Workstation) (netboot.Choice, error) {
	var err error
	if w != nil && w.ID != 0 { // somebody has signed in at it
		if err := k.endStarts(ctx, *w); err != nil {
			return c, err
		}
		if starts, err := k.chooseEntry(ctx, l, *w, &c); err != nil {
			return c, err
		} else if c.Do == netboot.BootEntry {
			c.Menu = 0
			return c, k.Records.AddBootStarts(ctx, w.ID, starts)
		}
	}
	if c.Build, err = k.Records.Offered(ctx); err != nil {
		return c, err
	}
	switch {
	case c.Build == 0:
		c.Why = "no boot environment is offered"
		return c, nil
	case k.Unknown() == netboot.Hold:
		c.Do, c.Why = netboot.Environment, "new here"
	case k.Unknown() == netboot.Welcome:
		c.Why, c.Menu, c.SignIn = "new here", welcomeMenu, true
		known := records.Workstation{}
		if w != nil {
			known = *w
		}
		if c.Items, _, err = k.entriesFor(ctx, l, known, c.Address); err != nil {
			return c, err
		}
	default:
		c.Why = "unknown machines are ignored"
		return c, nil
	}
	if w.ID == 0 { // never seen: its address is all that is known
		w = &records.Workstation{AddressList: c.Address.String()}
	}
	return k.prepareBoot(ctx, c, *w)
}

// prepareBoot adds what the environment needs, for the case that it is booted.
func (k *Stock) prepareBoot(ctx context.Context, c netboot.Choice, w records.Workstation) (netboot.Choice, error) {
	if c.Do == netboot.Disk && c.Menu == 0 {
		return c, nil
	}
	b, err := k.Builds.Build(c.Build)
	if err != nil {
		return c, fmt.Errorf("build %d cannot be read: %w", c.Build, err)
	}
	c.Words = b.Words
	if c.Initrd, err = k.initrdFor(ctx, w, b); err != nil {
		k.Log.Warn("no layers for this machine in particular", "workstation", c.Name, "build", c.Build, "error", err)
	}
	c.Ticket, err = k.Access.Ticket(ctx, c.Address)
	return c, err
}
