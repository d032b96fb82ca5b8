// Package rights says what somebody may do: plain rights, roles that are sets of them, and
// grants, which give a role for everything, for a group of workstations or for an image.
//
//	h := rights.Of([]rights.Grant{{Role: engineer, On: rights.Group("herbarium")}})
//	h.May(rights.Deliver)                       // false: not for everything
//	h.On(rights.Deliver, []string{"herbarium"}) // true: the workstation is in that group
//
// Whoever lets a request in puts its Holder into the context, and whoever does what was asked
// takes it from there. What has no holder is done by the service itself.
package rights

import (
	"slices"
	"strings"
)

// Right is something that somebody may do, or not.
type Right string

// The rights.
const (
	See         Right = "see"          // what is there, and what was done
	Admit       Right = "admit"        // take workstations in, name, group and retire them
	Answer      Right = "set-answers"  // say what workstations are to become
	Capture     Right = "capture"      // make images of disks
	Deliver     Right = "deliver"      // bring images, drivers and payloads to workstations, and wake them
	Wipe        Right = "wipe"         // erase disks
	Order       Right = "run-orders"   // run what was prepared
	KeepImages  Right = "keep-images"  // name, retire and remove images, and take them in and out
	KeepDrivers Right = "keep-drivers" // keep drivers, payloads and builds of the boot environment
	KeepEntries Right = "keep-entries" // keep boot entries
	KeepSites   Right = "keep-sites"   // keep outposts and stores
	Administer  Right = "administer"   // say who may do what, and keep domains and settings
)

// All are all rights.
var All = []Right{See, Admit, Answer, Capture, Deliver, Wipe, Order, KeepImages, KeepDrivers, KeepEntries, KeepSites, Administer}

// Known tells whether a right is one of All.
func Known(r Right) bool { return slices.Contains(All, r) }

// Role is a set of rights with a name.
type Role struct {
	Name    string
	Note    string
	Rights  []Right
	BuiltIn bool
}

// BuiltIn are the roles that every service has.
var BuiltIn = []Role{
	{"administrator", "may do everything", All, true},
	{"engineer", "keeps workstations and images, and brings one to the other", []Right{See, Admit, Answer, Capture, Deliver, Wipe, Order, KeepImages, KeepDrivers, KeepEntries}, true},
	{"helper", "brings images that others have made", []Right{See, Deliver, Order}, true},
	{"reader", "sees everything and changes nothing", []Right{See}, true},
}

// FindBuiltIn finds a role that every service has, whatever the case of its letters.
func FindBuiltIn(name string) (Role, bool) {
	i := slices.IndexFunc(BuiltIn, func(r Role) bool { return strings.EqualFold(r.Name, name) })
	if i < 0 {
		return Role{}, false
	}
	return BuiltIn[i], true
}

// Kind is what a grant is for.
type Kind string

// The kinds of scopes.
const (
	Everything Kind = "everything"
	OfGroup    Kind = "group"
	OfImage    Kind = "image"
)

// Scope is what a grant is for: everything, the workstations of a group, or an image.
type Scope struct {
	Kind Kind
	Name string // of the group or image
}

// String is the scope as people write it: "everything", "group:herbarium", "image:garden-desk".
func (s Scope) String() string {
	if s.Kind == Everything {
		return string(Everything)
	}
	return string(s.Kind) + ":" + s.Name
}

// Grant gives the rights of a role for a scope.
type Grant struct {
	Role Role
	On   Scope
}

// set is a set of rights, as bits in the order of All.
type set uint32

func bit(r Right) set {
	if i := slices.Index(All, r); i >= 0 {
		return 1 << i
	}
	return 0
}

func setOf(all []Right) (s set) {
	for _, r := range all {
		s |= bit(r)
	}
	return s
}

// Holder is what somebody may do. The zero value may do nothing; nil is the service itself, which
// may do everything.
type Holder struct {
	everything set
	groups     map[string]set // by name in small letters
	images     map[string]set
	roles      []string // in small letters
}

// Of is the holder of some grants.
func Of(grants []Grant) *Holder {
	h := &Holder{groups: map[string]set{}, images: map[string]set{}}
	for _, g := range grants {
		name := strings.ToLower(g.On.Name)
		h.roles = append(h.roles, strings.ToLower(g.Role.Name))
		switch s := setOf(g.Role.Rights); g.On.Kind {
		case Everything:
			h.everything |= s
		case OfGroup:
			h.groups[name] |= s
		case OfImage:
			h.images[name] |= s
		}
	}
	return h
}

// Only is a holder that may do no more than these rights, wherever h has them.
func (h *Holder) Only(all []Right) *Holder {
	s := setOf(all)
	if h == nil {
		return &Holder{everything: s}
	}
	cut := &Holder{everything: h.everything & s, groups: map[string]set{}, images: map[string]set{}, roles: h.roles}
	for name, has := range h.groups {
		cut.groups[name] = has & s
	}
	for name, has := range h.images {
		cut.images[name] = has & s
	}
	return cut
}

// HasRole tells whether it has one of these roles for anything.
func (h *Holder) HasRole(names []string) bool {
	return h != nil && slices.ContainsFunc(names, func(name string) bool { return slices.Contains(h.roles, strings.ToLower(name)) })
}

// May tells whether it has a right for everything.
func (h *Holder) May(r Right) bool { return h == nil || h.everything&bit(r) != 0 }

// On tells whether it has a right for a workstation that is in these groups.
func (h *Holder) On(r Right, groups []string) bool {
	return h.May(r) || slices.ContainsFunc(groups, func(g string) bool { return h.groups[strings.ToLower(g)]&bit(r) != 0 })
}

// OnImage tells whether it has a right for an image.
func (h *Holder) OnImage(r Right, image string) bool {
	return h.May(r) || h.images[strings.ToLower(image)]&bit(r) != 0
}

// Somewhere tells whether it has a right for anything at all.
func (h *Holder) Somewhere(r Right) bool {
	if h.May(r) {
		return true
	}
	for _, all := range []map[string]set{h.groups, h.images} {
		for _, s := range all {
			if s&bit(r) != 0 {
				return true
			}
		}
	}
	return false
}

// Groups are the names of the groups that it has a right for, in small letters; nil if it has that for
// everything.
func (h *Holder) Groups(r Right) []string {
	if h.May(r) {
		return nil
	}
	return having(h.groups, r)
}

// Images are the names of the images that it has a right for, in small letters; nil if it has that for
// everything.
func (h *Holder) Images(r Right) []string {
	if h.May(r) {
		return nil
	}
	return having(h.images, r)
}

func having(all map[string]set, r Right) []string {
	names := []string{}
	for name, s := range all {
		if s&bit(r) != 0 {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}
