package driver

import (
	"fmt"
	"slices"
	"strings"
)

// State is whether a device will work in a system.
type State string

// The states.
const (
	Covered     State = "covered"           // the system drives it by itself
	WillInstall State = "will be installed" // a package that comes along will drive it
	Uncovered   State = "uncovered"         // nothing drives it
	TooLate     State = "too late"          // a package would drive it, but only after it is needed
	Unknown     State = "unknown"           // the system cannot be looked into
	NotNeeded   State = "no driver"         // nothing here has a driver for it, and it can do without
)

// States are all of them.
var States = []State{Covered, WillInstall, Uncovered, TooLate, Unknown, NotNeeded}

// Verdict is a device's state in one system.
type Verdict struct {
	State State
	By    string   // what drives it, or will
	Would *Package // what would drive it, of the library
	Why   string
}

// Row is what becomes of one device.
type Row struct {
	Device      Device
	Environment Verdict // in the boot environment
	Delivered   Verdict // in the system of the image
}

// Coming are packages that will be put into a system.
type Coming struct {
	choices []Choice
	index   *Index
}

// NewComing makes choices ready to be asked.
func NewComing(choices []Choice) *Coming {
	c := &Coming{choices: choices}
	var packages []*Package
	for _, one := range Merge(choices) {
		packages = append(packages, one.Package)
	}
	c.index = NewIndex(packages)
	return c
}

// drives finds what of it drives a device; nil if nothing does.
func (c *Coming) drives(d Device, t Target) *Package {
	if c == nil {
		return nil
	}
	for _, k := range c.index.Candidates(d, t) {
		if slices.ContainsFunc(c.choices, func(o Choice) bool {
			return o.Package.ID == k.Package.ID && (o.Modules == nil || slices.Contains(o.Modules, k.Module))
		}) {
			return k.Package
		}
	}
	return nil
}

// Judge says what becomes of a device in a system, which may be nil if it is not
// known; coming are the packages that will be put into it, and may be nil.
func Judge(d Device, in *Inside, coming *Coming, x *Index) Verdict {
	if in == nil {
		return Verdict{State: Unknown, Why: "what drivers the system has is not known"}
	}
	if in.System == Windows && strings.HasPrefix(d.Modalias, "virtio:") {
		return Verdict{State: NotNeeded, Why: "Windows knows the PCI device that carries it"}
	}
	late := in.System == Windows && d.Class == Storage
	if p := coming.drives(d, in.Target()); p != nil && !late {
		return Verdict{State: WillInstall, By: p.Label(), Would: p}
	}
	if by := in.DrivenBy(d); by != "" {
		return Verdict{State: Covered, By: by}
	}
	candidates := x.Candidates(d, in.Target())
	switch {
	case len(candidates) > 0 && late:
		return Verdict{State: TooLate, Would: candidates[0].Package,
			Why: fmt.Sprintf("%s drives it, but is installed at the first start, and the first start needs the disk: the golden disk itself must have it", candidates[0].Package.Label())}
	case len(candidates) > 0:
		return Verdict{State: Uncovered, Would: candidates[0].Package, Why: candidates[0].Package.Label() + " would drive it"}
	case d.Class.Vital():
		return Verdict{State: Uncovered, Why: "no package of the library drives it"}
	}
	return Verdict{State: NotNeeded, Why: "nothing here drives it; many such devices need no driver"}
}

// Cover says what becomes of each device in the boot environment and in the
// delivered system, vital ones first.
func Cover(devices []Device, environment, delivered *Inside, coming *Coming, x *Index) []Row {
	rows := make([]Row, 0, len(devices))
	for _, d := range devices {
		rows = append(rows, Row{d, Judge(d, environment, nil, x), Judge(d, delivered, coming, x)})
	}
	slices.SortStableFunc(rows, func(a, b Row) int {
		return slices.Index(Classes, a.Device.Class) - slices.Index(Classes, b.Device.Class)
	})
	return rows
}

// Lacking are the vital devices without which a workstation does not work, by what
// judge says of each: every disk controller that may have a disk has to be driven, and
// one network card.
func Lacking(rows []Row, of func(Row) Verdict) (all []Row) {
	fails := func(r Row) bool { s := of(r).State; return s == Uncovered || s == TooLate }
	var cards []Row
	reached := false
	for _, r := range rows {
		switch r.Device.Class {
		case Storage:
			if fails(r) && !r.Device.Empty && !strings.HasPrefix(r.Device.Modalias, "usb:") {
				all = append(all, r)
			}
		case Network:
			if fails(r) {
				cards = append(cards, r)
			} else {
				reached = true
			}
		}
	}
	if !reached {
		all = append(all, cards...)
	}
	return all
}

// InEnvironment picks the verdict on the boot environment, for Lacking.
func (r Row) InEnvironment() Verdict { return r.Environment }

// InDelivered picks the verdict on the delivered system.
func (r Row) InDelivered() Verdict { return r.Delivered }
