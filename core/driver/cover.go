package driver

import (
	"fmt"
	"slices"
	"strings"

	"jugate/core/windows"
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

// Outlook is what is to be said of the drivers of a machine before it receives a system.
type Outlook struct {
	Lacking []string // what it would lack
	Remarks []string
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
	wakes   bool
	index   *Index
}

// NewComing makes choices ready to be asked. wakes says that drivers which the system has and starts too
// late will be started at once.
func NewComing(choices []Choice, wakes bool) *Coming {
	c := &Coming{choices: choices, wakes: wakes}
	var packages []*Package
	for _, one := range Merge(choices) {
		packages = append(packages, one.Package)
	}
	c.index = NewIndex(packages)
	return c
}

// Drives finds what of it drives a device; nil if nothing does.
func (c *Coming) Drives(d Device, t Target) *Candidate {
	if c == nil {
		return nil
	}
	for _, k := range c.index.Candidates(d, t) {
		if slices.ContainsFunc(c.choices, func(o Choice) bool {
			return o.Package.ID == k.Package.ID && (o.Modules == nil || slices.Contains(o.Modules, k.Module))
		}) {
			return &k
		}
	}
	return nil
}

// StartsFirst says why a driver cannot be among what a Windows starts first; empty if it can.
func (in *Inside) StartsFirst(c Candidate) string {
	s := c.Model.Service
	switch {
	case in.Closed != "":
		return "the settings database of the image cannot be changed: " + in.Closed
	case s == nil || s.Name == "":
		return "it does not say how it is started"
	case s.Start != windows.BootStart:
		return "it is not to be started first"
	case s.File == "":
		return "its file is not in the package"
	case c.Package.ClassID == "":
		return "it does not say which class its devices have"
	}
	return ""
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
	comes := coming.Drives(d, in.Target())
	if comes != nil && !late {
		return Verdict{State: WillInstall, By: comes.Package.Label(), Would: comes.Package}
	}
	if by := in.DrivenBy(d); by != "" {
		return Verdict{State: Covered, By: by}
	}
	if comes != nil {
		return in.first(*comes)
	}
	if service := in.Sleeps(d); service != "" {
		return in.woken(service, coming)
	}
	candidates := x.Candidates(d, in.Target())
	switch {
	case len(candidates) > 0:
		return Verdict{State: Uncovered, Would: candidates[0].Package, Why: candidates[0].Package.Label() + " would drive it"}
	case d.Class.Vital():
		return Verdict{State: Uncovered, Why: "no package of the library drives it"}
	}
	return Verdict{State: NotNeeded, Why: "nothing here drives it; many such devices need no driver"}
}

// first is what becomes of a disk controller of a Windows by a driver that comes.
func (in *Inside) first(c Candidate) Verdict {
	label := c.Package.Label()
	if why := in.StartsFirst(c); why != "" {
		return Verdict{State: TooLate, Would: c.Package, Why: fmt.Sprintf("%s drives it, but comes after the disk is needed, as %s", label, why)}
	}
	return Verdict{State: WillInstall, By: label, Would: c.Package, Why: "the copy will start with it; try that on one such workstation before a room"}
}

// woken is what becomes of a disk controller whose driver a Windows has and starts too late.
func (in *Inside) woken(service string, coming *Coming) Verdict {
	why := fmt.Sprintf("its driver %s is in the image, but is not started first", service)
	switch {
	case in.Closed != "":
		return Verdict{State: TooLate, By: service, Why: why + ", and the settings database of the image cannot be changed: " + in.Closed}
	case coming == nil || !coming.wakes:
		return Verdict{State: TooLate, By: service, Why: why + ", and the order has no drivers changed"}
	}
	return Verdict{State: WillInstall, By: service, Why: why + "; the copy will do so"}
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
