// Package intake brings versions in, by captures of workstations and imports of people,
// and keeps the store of slabs.
//
// uploads.go receives slabs and maps and makes them a version; images.go has what people
// do with versions, and store.go what concerns the whole store. pins.go keeps a prune from
// removing slabs that an upload counts on.
package intake

import (
	"context"
	"log/slog"
	"time"

	"jugate/api"
	"jugate/core/image"
	"jugate/core/slabstore"
	"jugate/records"
)

// Fleet is what the intake needs to know of workstations.
type Fleet interface {
	// Activity is what a workstation is doing; false if its agent has not called since the
	// start of the service.
	Activity(id int64) (api.Activity, bool)
}

// Stores are those elsewhere that versions may lie in.
type Stores interface {
	// NewVersionsTo is where a version is moved that is committed now; empty if it stays.
	NewVersionsTo(ctx context.Context) (string, error)
	// Wake has versions be moved now.
	Wake()
	// Prune gives up what no version needs; unless calls a function with those of some slabs that
	// no upload counts on.
	Prune(ctx context.Context, dryRun bool, unless func([]slabstore.Digest, func([]slabstore.Digest) error) error) (slabs int, bytes int64, err error)
}

// Intake brings versions into the store and keeps it. Its fields are set before anything
// is asked of it; the rest of its state begins empty.
type Intake struct {
	Dir     string // the data folder
	Records *records.DB
	Slabs   slabstore.Slabs
	Stores  Stores
	Files   image.Files
	Fleet   Fleet
	Log     *slog.Logger
	Now     func() time.Time
	Publish func(event any)
	// KeepFree is how many bytes of the records' disk slabs do not take.
	KeepFree int64

	captures captures
	lean     lean
	pins     pins
	imports  imports
}
