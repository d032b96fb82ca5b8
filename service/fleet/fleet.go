// Package fleet knows the workstations: who is in the roster, in which groups, by which
// hardware addresses, and which of them are there and what they are doing.
//
// In checkin.go a machine comes in; presence.go has what is known of agents since the
// start of the service, and standing.go how they wait for an errand. workstations.go,
// groups.go, cards.go, newcomers.go and refusals.go have what people do.
package fleet

import (
	"context"
	"log/slog"
	"net/netip"
	"sync"
	"time"

	"jugate/api"
	"jugate/core/hwaddr"
	"jugate/records"
)

// Boot is what the fleet needs of network boot.
type Boot interface {
	// Called notes that the agent of a machine that was seen booting has called.
	Called(a hwaddr.Address, label string)
	// Refix takes the addresses that belong to machines from the records anew.
	Refix(ctx context.Context) error
	// MayFix tells whether an address can belong to a machine.
	MayFix(a netip.Addr) error
	// Wake switches a machine on.
	Wake(cards []hwaddr.Address) (through []string, err error)
}

// Sites reach what is behind outposts.
type Sites interface {
	// Wake has an outpost switch a machine on. It is a fault.Unreachable if the outpost is away.
	Wake(site string, cards []hwaddr.Address) error
}

// Stock is told of workstations that have changed.
type Stock interface {
	Touched(workstation int64)
}

// Errands are what workstations are asked to do.
type Errands interface {
	// Start is the errand that a workstation has to do now, or nil.
	Start(ctx context.Context, workstation int64) (*api.ToErrand, error)
}

// Fleet knows the workstations. Its fields are set before anything is asked of it; the
// rest of its state begins empty.
type Fleet struct {
	Records *records.DB
	Boot    Boot
	Errands Errands
	Sites   Sites // set before anybody is woken
	Stock   Stock
	Systems Systems
	Domains Domains
	Secrets Secrets
	Log     *slog.Logger
	Now     func() time.Time
	Publish func(event any)
	AlsoAt  []string        // where else the service may answer
	Closing <-chan struct{} // is closed when nothing more is waited for

	// AcceptCards has unknown network cards of workstations accepted at once that are
	// known by UUID and serial number; otherwise they are proposals.
	AcceptCards func() bool
	// Tickets has agents check in with what their boot script or media gave them.
	Tickets func() bool

	agents    agents
	newcomers newcomers
	helpers   helpers
	recalling sync.Mutex
}
