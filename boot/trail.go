package boot

import (
	"fmt"
	"net/netip"
	"slices"

	lru "github.com/hashicorp/golang-lru/v2"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/vishvananda/netlink"

	"jugate/core/hwaddr"
	"jugate/core/netboot"
)

// addressesAtMost bounds the addresses that are remembered.
const addressesAtMost = 8192

// Machine is what is known of a machine that boots.
type Machine struct {
	Address hwaddr.Address
	Model   string // as its firmware said; empty if it did not
	Steps   []netboot.Mark
	Stuck   string // why it does not get on; empty if it does
	Silent  bool   // it has got everything, and its agent never called
}

// Machines are those that were seen booting, the latest first.
func (b *Boot) Machines() []Machine {
	now := b.Now()
	b.mu.Lock()
	defer b.mu.Unlock()
	var all []Machine
	for _, a := range b.trail.Machines() {
		m := Machine{Address: a, Model: b.model(a), Steps: b.trail.Steps(a), Stuck: b.trail.Stuck(now, a)}
		m.Silent = m.Stuck != "" && b.trail.Silent(now, a)
		all = append(all, m)
	}
	return all
}

// Model is what a machine's firmware said of its model when it asked for its script.
func (b *Boot) Model(a hwaddr.Address) string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.model(a)
}

// CameUp tells whether the boot environment that a machine got last called; true for one of which nobody knows that it got any.
func (b *Boot) CameUp(a hwaddr.Address) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.trail.CameUp(a)
}

// model is Model. The caller holds mu.
func (b *Boot) model(a hwaddr.Address) string {
	if b.models == nil {
		return ""
	}
	m, _ := b.models.Peek(a)
	return m
}

// Called notes that a machine's agent has called, if the machine was seen booting.
func (b *Boot) Called(a hwaddr.Address, label string) {
	b.mu.Lock()
	known := b.trail.Steps(a) != nil
	b.mu.Unlock()
	if known {
		b.step(a, netboot.StepAgent, "called as "+label)
	}
}

// step notes a step of a machine and tells whoever watches.
func (b *Boot) step(a hwaddr.Address, step netboot.Step, detail string) {
	b.mu.Lock()
	b.trail.Note(b.Now(), a, step, detail)
	b.mu.Unlock()
	b.stepped(a)
}

func (b *Boot) stepped(a hwaddr.Address) {
	b.mu.Lock()
	steps := b.trail.Steps(a)
	b.mu.Unlock()
	if b.Stepped != nil && len(steps) > 0 {
		b.Stepped(a, steps[len(steps)-1])
	}
}

// Hear notes a step that a machine has taken elsewhere.
func (b *Boot) Hear(a hwaddr.Address, m netboot.Mark) {
	b.mu.Lock()
	b.trail.Note(m.At, a, m.Step, m.Detail)
	b.mu.Unlock()
	b.stepped(a)
}

// stepOf notes a step of whoever has an IP address.
func (b *Boot) stepOf(client netip.Addr, step netboot.Step, detail string) {
	if hw, known := b.whoHas(client); known {
		b.step(hw, step, detail)
	}
}

// onDHCP notes what became of a request.
func (b *Boot) onDHCP(l *link, o netboot.Outcome) {
	b.logDHCP(l, o)
	if b.noteDHCP(l, o) {
		b.stepped(o.Client.Address)
	}
}

// logDHCP writes a line for what an engineer looks for when an address is missing or
// there twice.
func (b *Boot) logDHCP(l *link, o netboot.Outcome) {
	line := b.Log.With("interface", l.Name, "workstation", o.Client.Address)
	switch {
	case o.Lease != nil && o.Lease.Hardware.IsZero() && o.Lease.Client == "":
		line.Warn("address set aside, as another machine uses it", "address", o.Lease.Address, "why", o.Why)
	case o.Asked == dhcpv4.MessageTypeRelease && o.Lease != nil:
		line.Info("address released", "address", o.Lease.Address)
	case o.Lease != nil:
		line.Info("address given", "address", o.Lease.Address, "until", o.Lease.Until)
	case o.Full:
		line.Warn("no address left", "why", o.Why)
	case o.Why != "":
		line.Debug("not answered", "asked", o.Asked, "why", o.Why)
	}
}

// noteDHCP notes the step of a machine that boots, and tells whether it was one.
func (b *Boot) noteDHCP(l *link, o netboot.Outcome) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, a := range []netip.Addr{o.Given, o.Heard} {
		if a.IsValid() {
			b.knowAddress(a, o.Client.Address)
		}
	}
	now := b.Now()
	switch {
	case o.Why != "" && (o.Client.Boots() || o.Reply == nil):
		b.trail.Note(now, o.Client.Address, netboot.StepRefused, l.Name+": "+o.Why)
	case o.Reply != nil && o.Client.Boots():
		detail := fmt.Sprintf("%s: %s", l.Name, o.Client.Arch)
		if o.Given.IsValid() {
			detail += ", " + o.Given.String()
		} else {
			detail += ", its address comes from another server"
		}
		if o.Client.Relayed {
			detail += ", by way of a relay agent"
		}
		b.trail.Note(now, o.Client.Address, netboot.StepAddress, detail)
	default:
		return false
	}
	return true
}

// knowAddress remembers who has an address. The caller holds mu.
func (b *Boot) knowAddress(a netip.Addr, hw hwaddr.Address) {
	if b.byIP == nil {
		b.byIP, _ = lru.New[netip.Addr, hwaddr.Address](addressesAtMost) // which is more than none
	}
	b.byIP.Add(a, hw)
}

// whoHas finds the hardware address behind an address: from what was heard, or from
// the kernel's table of neighbours.
func (b *Boot) whoHas(a netip.Addr) (hwaddr.Address, bool) {
	b.mu.Lock()
	byIP := b.byIP
	b.mu.Unlock()
	if byIP != nil {
		if hw, known := byIP.Get(a); known {
			return hw, true
		}
	}
	return b.Neighbour(a)
}

// Neighbour is the hardware address behind an address by the kernel's table of neighbours alone, which knows those that are behind no
// router.
func (b *Boot) Neighbour(a netip.Addr) (hwaddr.Address, bool) {
	neighbours, err := netlink.NeighList(0, netlink.FAMILY_V4)
	if err != nil {
		return hwaddr.Address{}, false
	}
	i := slices.IndexFunc(neighbours, func(n netlink.Neigh) bool {
		ip, ok := netip.AddrFromSlice(n.IP.To4())
		return ok && ip == a && len(n.HardwareAddr) > 0
	})
	if i < 0 {
		return hwaddr.Address{}, false
	}
	hw, err := hwaddr.Parse(neighbours[i].HardwareAddr.String())
	return hw, err == nil
}

// NoteModel remembers what a machine's firmware says of its model.
func (b *Boot) NoteModel(a hwaddr.Address, model string) {
	if model == "" {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.models == nil {
		b.models, _ = lru.New[hwaddr.Address, string](addressesAtMost)
	}
	b.models.Add(a, model)
}
