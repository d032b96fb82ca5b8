// Package orders has what workstations are asked to do: deliveries, captures, drivers to
// install, and the receipts of what was done.
//
// plan.go says what a delivery would do and what speaks against it, deliver.go takes an order
// and makes it a delivery; package stream carries that through,
// and writes into ledger.go. deliveries.go shows deliveries, changes.go changes those that
// run, progress.go takes what workstations report. errands.go, start.go and install.go are
// about what one workstation does, wishes.go about what a person at it asks for.
//
// course.go keeps what a delivery does over time, and story.go tells it in words.
//
// checks.go has workstations check themselves, wipes.go has their disks wiped.
//
// there.go has orders run at one workstation by whoever stands there.
//
// prepared.go keeps orders for many days, runs.go carries one out, keeper.go begins those
// whose time has come, unless it is one of quiet.go, behind.go has them run for whoever appears and
// lacks what it should have, each.go has the parts that are about each workstation alone, and
// again.go goes on for those that a run failed for.
package orders

import (
	"context"
	"log/slog"
	"os"
	"sync"
	"time"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/answers"
	"jugate/core/driver"
	"jugate/core/durable"
	"jugate/core/image"
	"jugate/core/rights"
	"jugate/records"
	"jugate/stream"
)

// Fleet is what orders need of the workstations.
type Fleet interface {
	Ring(id int64)       // has one that waits for an errand look again
	At(id, errand int64) // notes which errand one is at
	Activity(id int64) (api.Activity, bool)
	// SignedInAt is who has signed in at a workstation, and what they may do; nobody if nobody has.
	SignedInAt(ctx context.Context, id int64) (by actor.Actor, person int64, holder *rights.Holder, err error)
	IsOnline(id int64) bool
	// BootOf is the boot that a workstation's agent has checked in from; empty if nobody knows.
	BootOf(id int64) string
	Doing(id int64, text string) // notes what one does in a delivery
	Active(ctx context.Context, id int64, activity api.Activity)
	Changed(ctx context.Context, id int64)       // something was recorded of it
	PutAway(ctx context.Context, id int64) error // retires one
	Admit(ctx context.Context, ref string, in api.Admission) (api.Workstation, error)
	// ToAnswer is what one carries out on its copy of a version; nil if nothing is set for it.
	// With goOn it joins no domain if that does not answer; else that is a join.ErrAway.
	ToAnswer(ctx context.Context, w records.Workstation, v *records.Version, own map[string]string, goOn bool) (*api.ToAnswer, error)
	// OwnAnswers checks those that a delivery has of its own.
	OwnAnswers(ctx context.Context, values map[string]any) (map[string]string, error)
	// Answered tells whether every copy of an image is answered.
	Answered(ctx context.Context, image string) (bool, error)
	// HowAnswered tells by number how workstations would be answered.
	HowAnswered(ctx context.Context, all []records.Workstation, v *records.Version, own map[string]string) (map[int64]answers.Verdict, error)
	// Keyboard is the layout in which people type at a workstation; empty if none is set.
	Keyboard(ctx context.Context, w records.Workstation) (string, error)
	// Choose finds the workstations that names and a condition mean.
	Choose(ctx context.Context, names []string, where string) ([]records.Workstation, error)
	// Means tells whether a workstation is among those that names and a condition mean.
	Means(ctx context.Context, names []string, where string, w records.Workstation) (bool, error)
	// SwitchOn wakes workstations over the network.
	SwitchOn(ctx context.Context, in api.WakeUp) (api.Woken, error)
	// Tell has systems that are on restart or switch off; TellLater does so when their helper is heard next.
	Tell(ctx context.Context, in api.Telling) (api.Told, error)
	TellLater(ctx context.Context, targets []records.Workstation, verb string, warn time.Duration, why string) error
	Running(id int64) bool
	// Arrived notes whether a helper stays on a system that has reported its first start.
	Arrived(ctx context.Context, workstation int64, key string, stays bool) error
}

// Versions are what deliveries bring and captures make.
type Versions interface {
	Load(v *records.Version) (*image.Manifest, *image.Map, error)
	GiveUp(errand int64) // forgets what is held for a capture
}

// Stock says what goes into delivered systems.
type Stock interface {
	// Lacking says of workstations, by number, why they would not start or not reach the
	// network with what they get.
	Lacking(ctx context.Context, v *records.Version, order api.DriverOrder, targets []records.Workstation) (map[int64]driver.Outlook, error)
	// ToInstall is what is installed for a workstation; nil if nothing is.
	ToInstall(ctx context.Context, w records.Workstation, o records.InstallOptions) (*api.ToInstall, error)
	// CheckEntry refuses a boot entry that is not there, or whose parameters cannot be what is said.
	CheckEntry(ctx context.Context, in api.EntryErrand) error
	// MayStartEntry refuses whoever is at a workstation a boot entry that is not theirs to start there, or that it cannot start.
	MayStartEntry(ctx context.Context, w records.Workstation, holder *rights.Holder, in api.EntryErrand) error
	// PayloadContent opens what a digest names.
	PayloadContent(digest string) (*os.File, error)
	// DriverFile opens a file of a package.
	DriverFile(id, name string) (*os.File, error)
}

// Access says who may receive what.
type Access interface {
	MayReceive(ctx context.Context, image string, targets []records.Workstation) error
	// HolderOf is what a person may do now. It is a fault.Forbidden if they may not sign in any more.
	HolderOf(ctx context.Context, person int64) (*rights.Holder, error)
}

// Orders gives workstations their work. Its fields are set before anything is asked of it.
type Orders struct {
	Records  *records.DB
	Streams  *stream.Streams
	Fleet    Fleet
	Versions Versions
	Stock    Stock
	Access   Access
	Sites    Sites            // nil if there are no outposts
	Reserve  *durable.Reserve // room for receipts
	Log      *slog.Logger
	Now      func() time.Time
	Publish  func(event any)
	Until    context.Context // ends deliveries; they go on at the next start
	// IdentityFiles are patterns of files that tell one machine from another; nil takes
	// those of package readiness.
	IdentityFiles []string

	// ArrivalWithin is how long after its delivery a copy is to have started.
	ArrivalWithin func() time.Duration
	// Rate is the rate of one stream, in bits a second, unless an order says another.
	Rate func() int64

	// ordering is held while a delivery is recorded and not reachable yet, and shared
	// while an agent is given its errand.
	ordering sync.RWMutex
	// advancing is held while a run goes on; runs that go on order work, so it comes before ordering.
	advancing sync.Mutex
	// beginning is held while a run begins for a workstation that is behind, so that there is one for many. It comes before advancing.
	beginning sync.Mutex
	toldEntry struct { // which boot of a workstation was told to start a boot entry, by errand
		sync.Mutex
		boots map[int64]string
	}
	courses courses
	moved   bell // an order was saved, or something of a run may have ended
}
