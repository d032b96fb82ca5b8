// Package stock has what workstations are given besides images: drivers and sets of them,
// builds of the boot environment, and what each machine boots next. It answers what drives
// which device, and it is the boot.Roster of a service.
//
// drivers.go and sets.go keep the library, coverage.go holds devices against it, and
// install.go says what goes into a delivered system; builds.go, layers.go and media.go
// make builds; bootentries.go keeps boot entries, bootentry.go says what one is, bootchoices.go says who boots one, and bootstarts.go what each is given; plan.go decides what a machine boots, and status.go tells how that went.
package stock

import (
	"context"
	"log/slog"
	"net/netip"
	"sync"
	"time"

	"jugate/api"
	"jugate/boot"
	"jugate/core/actor"
	"jugate/core/answers"
	"jugate/core/driver"
	"jugate/core/environment/builds"
	"jugate/core/hwaddr"
	"jugate/core/image"
	"jugate/core/memo"
	"jugate/core/netboot"
	"jugate/core/parts"
	"jugate/core/rights"
	"jugate/core/slabstore"
	"jugate/records"
)

// Boot is what the stock needs to know of machines that boot.
type Boot interface {
	// Model is what a machine's firmware said of its model; empty if it said nothing.
	Model(a hwaddr.Address) string
	// Neighbour is who has an address, if that is behind no router.
	Neighbour(a netip.Addr) (hwaddr.Address, bool)
	// CameUp tells whether the boot environment that a machine got last called; true if it got none that is known of.
	CameUp(a hwaddr.Address) bool
	// Machines are those that were seen booting, Links the interfaces that are served.
	Machines() []boot.Machine
	Links(now time.Time) []boot.LinkStatus
}

// Access gives what machines check in with.
type Access interface {
	Ticket(ctx context.Context, address hwaddr.Address) (string, error)
	NewMediaKey(ctx context.Context, note, group string, life time.Duration) (string, error)
	WithdrawMediaKey(ctx context.Context, ref string) error
}

// Orders know who is brought something when it appears.
type Orders interface {
	// IsWanted names the order that would run for a workstation if it appeared now; empty if none would.
	// ForEverybody names the orders that anybody may run at a workstation.
	ForEverybody(ctx context.Context, w records.Workstation) ([]string, error)
	IsWanted(ctx context.Context, w records.Workstation) (order string, err error)
	// EntryEnded is told that a boot entry that an errand asked for has ended, and why it has failed; empty if it has not.
	EntryEnded(ctx context.Context, errand int64, why string)
}

// Fleet knows workstations.
type Fleet interface {
	// Choose finds the workstations that names and a condition mean.
	Choose(ctx context.Context, names []string, where string) ([]records.Workstation, error)
	// Means tells whether a workstation is among those that names and a condition mean.
	Means(ctx context.Context, names []string, where string, w records.Workstation) (bool, error)
	// Settings are the answers of one.
	Settings(ctx context.Context, w records.Workstation) (*answers.Settings, error)
	// SignedInAt is who has signed in at one, and what they may do; nobody if nobody has.
	SignedInAt(ctx context.Context, id int64) (by actor.Actor, person int64, holder *rights.Holder, err error)
}

// Carrier has media be an outpost.
type Carrier interface {
	// Carry enters the outpost, and orders what its media carry. It gives what lies on them beside a build, whose key has that
	// digest; made is called when they are made, or could not be.
	Carry(ctx context.Context, b *builds.Build, in api.NewMedia, key slabstore.Digest) (m builds.Media, out api.MediaMade, made func(failed error), err error)
}

// Config is what a stock is made of. All of it is set.
type Config struct {
	Dir     string // the data folder
	Scratch string // a folder for what is worked on
	Records *records.DB
	Library *driver.Library
	Builds  *builds.Store
	Entries *parts.Store // files of boot entries
	Files   image.Files
	Slabs   slabstore.Slabs
	Boot    Boot
	Access  Access
	Log     *slog.Logger
	Now     func() time.Time
	Publish func(event any)

	Version     string                 // of this program
	Unknown     func() netboot.Unknown // what becomes of machines that nobody has admitted
	Agent       string                 // the agent's file, for builds
	Certificate []byte                 // PEM, that builds carry
	BuildFrom   []string               // folders that builds may read
}

// Stock has drivers and builds.
type Stock struct {
	Config

	Orders   Orders  // set before machines boot
	Fleet    Fleet   // set before machines boot
	Carrier  Carrier // set before media are made
	fleet    fleet
	systems  memo.Cache[string, system]      // what is on images, by the digest of the manifest
	insides  memo.Cache[int, *builds.Inside] // what builds drive
	composed memo.Cache[string, builds.Part] // layers on demand, by build and what is in them
	making   sync.Mutex                      // held while a build is made
	keeping  sync.Mutex                      // held while the content of a payload comes or goes
	entering sync.Mutex                      // held while files of a boot entry come or go
}

// What is remembered: a system, or what a build drives, may take some MiB.
const (
	systemsKept  = 8
	insidesKept  = 16
	composedKept = 1000
)

// New makes a stock that remembers nothing yet.
func New(c Config) *Stock {
	k := &Stock{Config: c}
	k.systems.Most, k.insides.Most, k.composed.Most = systemsKept, insidesKept, composedKept
	return k
}
