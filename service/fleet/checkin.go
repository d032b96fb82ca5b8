package fleet

import (
	"cmp"
	"context"
	"net/netip"

	"jugate/core/version"

	"jugate/api"
	"jugate/core/fault"
	"jugate/core/hwaddr"
	"jugate/core/slabstore"
	"jugate/records"
)

// Caller is where an agent calls from, and the digest of the key that it has proven to have by TLS; empty
// if none. Outpost is who has passed that on; empty if it has called the service itself.
type Caller struct {
	At      netip.Addr
	Key     string
	Outpost string
	Ends    []int64 // deliveries that it is through with at the outpost, which hands the receipts in
}

// OnDisks notes which partitions are on a workstation's disks now.
func (f *Fleet) OnDisks(ctx context.Context, workstation int64, disks []api.Disk) error {
	return f.Records.SetOnDisks(ctx, workstation, func(inv *api.Inventory) {
		for i := range inv.Disks[:min(len(inv.Disks), len(disks))] {
			if d := &inv.Disks[i]; d.Serial == disks[i].Serial && d.Size == disks[i].Size {
				d.Table, d.Partitions = disks[i].Table, disks[i].Partitions
			}
		}
	})
}

// CheckIn takes what an agent tells of its machine, and gives it a pass, which is good with the agent's key
// alone (RFC 8705, 3).
func (f *Fleet) CheckIn(ctx context.Context, by Caller, in api.CheckIn) (api.CheckedIn, error) {
	from := by.At
	seen, err := f.seen(by, in)
	if err != nil {
		return api.CheckedIn{}, err
	}
	w, err := f.Records.CheckIn(ctx, f.Now(), seen)
	if err != nil {
		f.Log.Warn("an agent may not check in", "addresses", few(in.Addresses), "from", from, "error", err)
		return api.CheckedIn{}, err
	}
	pass := f.agents.admit(w.ID, f.Now(), in.Boot, by, in.Errand)
	if w, err = f.recall(ctx, w.ID); err != nil {
		return api.CheckedIn{}, err
	}
	for _, a := range append(seen.Own, seen.Adapters...) {
		f.Boot.Called(a, w.Label())
	}
	f.Log.Info("agent checked in", "workstation", w.Label(), "state", w.State, "model", w.Model, "from", from)
	if len(w.Proposed()) > 0 {
		f.Log.Warn("a workstation has network cards that nobody has accepted (jugate card list --state proposed)", "workstation", w.Label(), "addresses", w.Proposed())
	}
	keyboard, err := f.Keyboard(ctx, *w)
	if err != nil {
		return api.CheckedIn{}, err
	}
	f.Stock.Touched(w.ID)
	f.Publish(f.workstation(*w))
	return api.CheckedIn{Pass: pass, Name: w.Name, State: w.State, OnDisk: onDisk(*w), Keyboard: keyboard, At: f.AlsoAt}, nil
}

// few are the first of many texts, for the log.
func few(texts []string) []string { return texts[:min(len(texts), 4)] }

// oldestAgent is the oldest version whose agents understand what this service says: from then on they check signatures.
const oldestAgent = "0.3.0"

// seen is what the records are told of a check-in.
func (f *Fleet) seen(by Caller, in api.CheckIn) (records.Seen, error) {
	if version.Before(in.AgentVersion, oldestAgent) {
		return records.Seen{}, fault.Forbidden.Errorf("this workstation's agent is of version %s, and the service needs %s at least; make a build with the service's own agent: jugate environment build --offer", in.AgentVersion, oldestAgent)
	}
	inv := in.Inventory
	out := records.Seen{AgentVersion: cmp.Or(in.AgentVersion, "unknown"), // whoever has none was never seen
		Inventory: inv, Site: by.Outpost, AcceptCards: f.AcceptCards(), Errand: in.Errand, Allow: func(id int64) error {
			if id == 0 {
				return f.newcomers.allow(by.At, f.Now())
			}
			return f.agents.mayEnter(id, f.Now(), in.Boot)
		}}
	adapters := map[hwaddr.Address]bool{}
	for _, c := range inv.Cards {
		if a, err := hwaddr.Parse(c.Address); err == nil && c.Adapter {
			adapters[a] = true
		}
	}
	for _, text := range in.Addresses {
		a, err := hwaddr.Parse(text)
		if err != nil {
			return out, err
		}
		if adapters[a] {
			out.Adapters = append(out.Adapters, a)
		} else {
			out.Own = append(out.Own, a)
		}
	}
	if in.Ticket != "" { // refused if it is not good, even where none is needed: something is wrong then
		out.Ticket = &records.Ticket{Digest: slabstore.Sum([]byte(in.Ticket)).String(), Boot: in.Boot}
	} else if f.Tickets() {
		return out, fault.Forbidden.Errorf("workstations check in with the ticket of their boot script, or the key of their media, and this one has neither; start it over the network or from media")
	}
	return out, nil
}
