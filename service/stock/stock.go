// Package stock has what workstations are given besides images: drivers and sets of them,
// builds of the boot environment, and what each machine boots next. It answers what drives
// which device, and it is the boot.Roster of a service.
//
// drivers.go and sets.go keep the library, coverage.go holds devices against it, and
// install.go says what goes into a delivered system; builds.go, layers.go and media.go
// make builds; plan.go decides what a machine boots, and status.go tells how that went.
package stock

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"jugate/boot"
	"jugate/core/driver"
	"jugate/core/environment/builds"
	"jugate/core/hwaddr"
	"jugate/core/image"
	"jugate/core/slabstore"
	"jugate/records"
)

// Boot is what the stock needs to know of machines that boot.
type Boot interface {
	// Model is what a machine's firmware said of its model; empty if it said nothing.
	Model(a hwaddr.Address) string
	// Machines are those that were seen booting, Links the interfaces that are served.
	Machines() []boot.Machine
	Links(now time.Time) []boot.LinkStatus
}

// Access gives what machines check in with, and says where.
type Access interface {
	Ticket(ctx context.Context, address hwaddr.Address) (string, error)
	NewMediaKey(ctx context.Context, note, group string, life time.Duration) (string, error)
	AgentURL(server string) string
}

// Stock has drivers and builds. Its fields are set before anything is asked of it; the
// rest of its state begins empty.
type Stock struct {
	Dir     string // the data folder
	Scratch string // a folder for what is worked on
	Records *records.DB
	Library *driver.Library
	Builds  *builds.Store
	Files   image.Files
	Slabs   *slabstore.Store
	Boot    Boot
	Access  Access
	Log     *slog.Logger
	Now     func() time.Time
	Publish func(event any)

	Unknown     Unknown  // what becomes of machines that nobody has admitted
	Agent       string   // the agent's file, for builds
	Certificate []byte   // PEM, that builds carry
	BuildFrom   []string // folders that builds may read

	fleet   fleet
	systems systems
	insides insides
	making  sync.Mutex // held while a build is made
}
