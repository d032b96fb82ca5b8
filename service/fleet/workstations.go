package fleet

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"time"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/core/hwaddr"
	"jugate/core/rights"
	"jugate/core/roster"
	"jugate/records"
)

// workstation puts together what the records and the agents' presence say.
func (f *Fleet) workstation(w records.Workstation) api.Workstation {
	out := api.Workstation{
		ID: w.ID, Name: w.Name, State: w.State, Addresses: []string{},
		Maker: w.Maker, Model: w.Model, Serial: w.Serial, UUID: w.UUID, Groups: w.Groups(), Proposed: []string{},
		Memory: w.Memory, Disks: w.Disks(), AgentVersion: w.AgentVersion, Site: w.Site, Note: w.Note, Job: w.Job, Fields: w.Fields(),
	}
	for _, a := range w.Addresses() {
		out.Addresses = append(out.Addresses, a.String())
	}
	for _, a := range w.Proposed() {
		out.Proposed = append(out.Proposed, a.String())
	}
	if out.Fields == nil {
		out.Fields = map[string]string{}
	}
	if out.Groups == nil {
		out.Groups = []string{}
	}
	if holds, unfinished := w.Holds(); holds.Image != "" {
		at := time.Unix(w.Brought, 0).UTC()
		out.Image, out.ImagedAt, out.Unfinished = holds.String(), &at, unfinished
	}
	out.Wanted, out.Behind = each(w.Wanted(), roster.Ref.String), w.Behind()
	if w.Seen() {
		out.FirstSeen, out.LastSeen = &w.FirstSeen, &w.LastSeen
	}
	out.Helper = f.helperOf(w)
	if p, known := f.agents.presence(w.ID); known {
		out.Online = f.Now().Sub(p.seen) < onlineFor
		out.Activity = p.activity.Text
		if p.seen.After(w.LastSeen) {
			out.LastSeen = &p.seen
		}
	}
	if !out.Online {
		out.Activity = ""
	}
	return out
}

// publish publishes how a workstation is now.
func (f *Fleet) publish(ctx context.Context, id int64) {
	if w, err := f.Records.Workstation(ctx, id); err == nil {
		f.Publish(f.workstation(*w))
	}
}

// enter enters a workstation that was never seen, by its hardware address. Other
// references, and those of workstations that are known, it leaves alone, and tells 0.
func (f *Fleet) enter(ctx context.Context, ref string) (id int64, err error) {
	a, err := hwaddr.Parse(ref)
	if err != nil {
		return 0, nil
	}
	return f.Records.Enter(ctx, f.Now(), a)
}

// change changes a workstation and tells how it is then.
func (f *Fleet) change(ctx context.Context, ref string, change func(id int64) error) (api.Workstation, error) {
	w, err := f.Records.FindWorkstation(ctx, ref)
	if err != nil {
		return api.Workstation{}, err
	}
	if err := change(w.ID); err != nil {
		return api.Workstation{}, err
	}
	ctx = context.WithoutCancel(ctx) // it is done, and all hear of it even if who did it has gone
	f.touched(ctx, []int64{w.ID})
	if w, err = f.recall(ctx, w.ID); err != nil {
		return api.Workstation{}, err
	}
	f.Log.Info("workstation changed", "workstation", w.Label(), "state", w.State, "by", actor.From(ctx))
	return f.withInventory(ctx, *w)
}

// touched has everybody hear of workstations that have changed.
func (f *Fleet) touched(ctx context.Context, ids []int64) {
	all, err := f.recallAll(ctx, ids)
	if err != nil {
		f.Log.Error("workstations cannot be read", "error", err)
	}
	for _, w := range all {
		f.agents.ring(w.ID)
		f.Stock.Touched(w.ID)
		f.Publish(f.workstation(w))
	}
	if err := f.Boot.Refix(ctx); err != nil {
		f.Log.Error("fixed addresses cannot be read", "error", err)
	}
}

// List lists workstations; with a condition, those that it fits.
func (f *Fleet) List(ctx context.Context, filter records.WorkstationFilter, where string, p records.Page) ([]api.Workstation, int, error) {
	filter.Within = rights.From(ctx).Groups(rights.See)
	if filter.Group != "" {
		if _, err := f.Records.Group(ctx, filter.Group); err != nil {
			return nil, 0, err
		}
	}
	if where == "" {
		rows, total, err := f.Records.Workstations(ctx, filter, p)
		return each(rows, f.workstation), total, err
	}
	all, _, err := f.Records.Workstations(ctx, filter, records.Page{Sort: p.Sort, Search: p.Search})
	if err != nil {
		return nil, 0, err
	}
	if all, err = f.fitting(ctx, all, where); err != nil {
		return nil, 0, err
	}
	from := min(p.Offset, len(all))
	return each(all[from:min(from+p.Limit, len(all))], f.workstation), len(all), nil
}

// each turns rows of the records into what is told of them.
func each[R, T any](rows []R, turn func(R) T) []T {
	all := make([]T, len(rows))
	for i, r := range rows {
		all[i] = turn(r)
	}
	return all
}

// Get finds a workstation by name or hardware address.
func (f *Fleet) Get(ctx context.Context, ref string) (api.Workstation, error) {
	w, err := f.Records.FindWorkstation(ctx, ref)
	if err != nil {
		return api.Workstation{}, err
	}
	return f.withInventory(ctx, *w)
}

// withInventory is a workstation with what it is made of.
func (f *Fleet) withInventory(ctx context.Context, w records.Workstation) (api.Workstation, error) {
	out := f.workstation(w)
	inv, err := f.Records.Inventory(ctx, w.ID)
	if errors.Is(err, fault.NotFound) { // it was only entered
		inv = api.Inventory{Disks: []api.Disk{}, Cards: []api.Card{}}
	} else if err != nil {
		f.Log.Warn("an inventory in the records cannot be read", "workstation", w.Label(), "error", err)
		inv = api.Inventory{Disks: []api.Disk{}, Cards: []api.Card{}}
	}
	out.Inventory = &inv
	changes, err := f.Records.InventoryChanges(ctx, w.ID)
	for _, c := range changes {
		out.Changed = append(out.Changed, api.InventoryChange{At: c.At.UTC(), What: c.What})
	}
	return out, err
}

// Admit takes a newcomer, or a hardware address that was never seen, into the roster.
func (f *Fleet) Admit(ctx context.Context, ref string, in api.Admission) (api.Workstation, error) {
	if err := roster.CheckName("a workstation", in.Name); err != nil {
		return api.Workstation{}, err
	}
	for _, g := range in.Groups {
		if err := rights.CheckGroup(ctx, g); err != nil {
			return api.Workstation{}, err
		}
	}
	entered, err := f.enter(ctx, ref)
	if err != nil {
		return api.Workstation{}, err
	}
	w, err := f.change(ctx, ref, func(id int64) error { return f.Records.Admit(ctx, id, in.Name, in.Groups) })
	if err != nil && entered != 0 { // nothing is left of an order that failed
		err = errors.Join(err, f.Records.Forget(context.WithoutCancel(ctx), entered))
	}
	return w, err
}

// Rename gives a workstation another name; its receipts keep the one it had.
func (f *Fleet) Rename(ctx context.Context, ref, name string) (api.Workstation, error) {
	if err := roster.CheckName("a workstation", name); err != nil {
		return api.Workstation{}, err
	}
	return f.change(ctx, ref, func(id int64) error { return f.Records.Rename(ctx, id, name) })
}

// Retire puts a workstation out of service; its receipts stay.
func (f *Fleet) Retire(ctx context.Context, ref string) (api.Workstation, error) {
	return f.change(ctx, ref, func(id int64) error { return f.Records.Retire(ctx, id) })
}

// PutAway is Retire for a workstation that is known by its number.
func (f *Fleet) PutAway(ctx context.Context, id int64) error {
	if err := f.Records.Retire(ctx, id); err != nil {
		return err
	}
	f.Changed(ctx, id)
	f.Ring(id)
	return nil
}

// Relearn takes the UUID and serial number that a workstation tells next: its main board
// was exchanged.
func (f *Fleet) Relearn(ctx context.Context, ref string) (api.Workstation, error) {
	return f.change(ctx, ref, func(id int64) error { return f.Records.Relearn(ctx, id) })
}

// Forget forgets a newcomer, or a retired workstation of which nothing is recorded; it
// may come again.
func (f *Fleet) Forget(ctx context.Context, ref string) error {
	w, err := f.Records.FindWorkstation(ctx, ref)
	if err != nil {
		return err
	}
	if err := f.Records.Forget(ctx, w.ID); err != nil {
		return err
	}
	f.agents.forget(w.ID)
	f.Stock.Touched(w.ID)
	f.Log.Info("workstation forgotten", "workstation", w.Label(), "by", actor.From(ctx))
	f.Publish(api.BootStepped{})
	return nil
}

// MustBeAdmitted refuses newcomers and retired workstations whose agents call, with a
// fault.Forbidden.
func (f *Fleet) MustBeAdmitted(id int64) error {
	p, _ := f.agents.presence(id)
	return fault.Forbidden.Mark(roster.MustBeAdmitted(p.label, p.state))
}

// FixAddress gives a workstation an IPv4 address of its own, in mode whole; an empty one
// ends that.
func (f *Fleet) FixAddress(ctx context.Context, ref, address string) error {
	w, err := f.Records.FindWorkstation(ctx, ref)
	if err != nil {
		return err
	}
	var a netip.Addr
	if address != "" {
		if a, err = netip.ParseAddr(address); err != nil || !a.Is4() {
			return fault.Invalid.Errorf("%q is not an IPv4 address", address)
		}
		if err := f.Boot.MayFix(a); err != nil {
			return err
		}
	}
	if err := f.Records.SetFixedAddress(ctx, w.ID, a); err != nil {
		return err
	}
	return f.Boot.Refix(context.WithoutCancel(ctx))
}

// SwitchOn sends wake-ups to workstations and groups, and says which got one and through
// which interfaces. Whether they start shows when they ask for an address. An error says
// that no interface could send any.
func (f *Fleet) SwitchOn(ctx context.Context, in api.WakeUp) (api.Woken, error) {
	targets, err := f.Choose(ctx, in.To, in.Where)
	if err != nil {
		return api.Woken{}, err
	}
	out := api.Woken{Workstations: []string{}, Interfaces: []string{}}
	var away error
	for _, w := range targets {
		if w.Site != "" {
			if err := f.Sites.Wake(w.Site, w.Addresses()); err != nil { // the others are woken all the same
				f.Log.Warn("a workstation cannot be woken", "workstation", w.Name, "error", err)
				away = err
				continue
			}
			out.Workstations = append(out.Workstations, w.Name)
			if by := "the outpost " + w.Site; !slices.Contains(out.Interfaces, by) {
				out.Interfaces = append(out.Interfaces, by)
			}
			continue
		}
		through, err := f.Boot.Wake(w.Addresses())
		if err != nil {
			return api.Woken{}, fault.Unreachable.Errorf("no interface could send a wake-up to %s: %w", w.Name, err)
		}
		out.Workstations = append(out.Workstations, w.Name)
		for _, name := range through {
			if !slices.Contains(out.Interfaces, name) {
				out.Interfaces = append(out.Interfaces, name)
			}
		}
	}
	if len(out.Workstations) == 0 && away != nil {
		return api.Woken{}, away
	}
	return out, nil
}
