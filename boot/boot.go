// Package boot is network boot as a whole: it answers DHCP and TFTP on interfaces, hands
// out boot files and the script that each machine's loader asks for, and remembers how
// far each machine came.
//
// What a machine is and what it should boot, it asks a Roster; a service answers that
// from its records, and another process may answer it over a line. The decisions of the
// protocols are in package netboot, which has no sockets.
//
//	b := &boot.Boot{Config: config, Roster: roster, Builds: store, Log: log, Now: time.Now}
//	err := b.Start(ctx, until, 7460) // until one of the two ends
//	f, err := b.Open(ctx, "grub/grub.cfg", boot.Asker{Server: "192.0.2.1:7460"})
//
// change.go has other interfaces served while it runs.
//
// In dhcp.go, probe.go, tftp.go and wake.go are the sockets; links.go joins them for
// each interface; files.go has what loaders ask for; trail.go what is known of machines.
package boot

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"jugate/core/environment/builds"
	"jugate/core/hwaddr"
	"jugate/core/netboot"
	"jugate/core/parts"
	"jugate/core/slabstore"
)

// Roster says what machines are and what they boot. Its methods are called without a
// lock held.
type Roster interface {
	// Facts are what DHCP has to know of a machine.
	Facts(ctx context.Context, a hwaddr.Address) netboot.Facts
	// Choose decides what a machine boots now.
	Choose(ctx context.Context, l netboot.Loader, a hwaddr.Address) (netboot.Choice, error)
	// BuildFor is the build whose loaders a machine gets; 0 if none is offered. The
	// address is zero if nobody knows who asks.
	BuildFor(ctx context.Context, a hwaddr.Address) (int, error)
	// EntryLoaded is told that a machine has loaded the program, kernel or disc of a boot entry.
	EntryLoaded(ctx context.Context, a hwaddr.Address, file slabstore.Digest)
	// Leases are the addresses that were given, and Fixed those that belong to machines.
	Leases(ctx context.Context) ([]netboot.Lease, error)
	Fixed(ctx context.Context) (map[netip.Addr][]hwaddr.Address, error)
	// Lease keeps a lease before the machine is told of it.
	Lease(ctx context.Context, l netboot.Lease) error
}

// Config says where network boot is answered, and how.
type Config struct {
	Interfaces []Interface
	Pools      []netboot.PoolConfig // of mode whole
	// Force has mode whole start although another server gives addresses.
	Force bool
	// Lenient has an interface that cannot be served say so until it can be, where it would keep network boot from starting otherwise.
	Lenient bool
	// WakeBy is the interface that wake-ups go out by where none is served; empty leaves
	// it to the system's routes.
	WakeBy string
}

// Interface is one interface with its mode.
type Interface struct {
	Name string
	Mode netboot.Mode
}

// String writes an interface as ParseInterface reads it.
func (i Interface) String() string { return i.Name + "=" + string(i.Mode) }

// ParseInterface reads NAME=beside, NAME=whole or NAME=off.
func ParseInterface(text string) (Interface, error) {
	name, mode, _ := strings.Cut(text, "=")
	if name == "" || !slices.Contains([]netboot.Mode{netboot.Beside, netboot.Whole, netboot.Off}, netboot.Mode(mode)) {
		return Interface{}, fmt.Errorf("%q is not NAME=beside, NAME=whole or NAME=off", text)
	}
	return Interface{Name: name, Mode: netboot.Mode(mode)}, nil
}

// Boot answers machines that boot over the network. Its fields are set before Start.
type Boot struct {
	Config Config
	Roster Roster
	Builds *builds.Store
	// Entries has the files of boot entries.
	Entries   *parts.Store
	Authority []byte // AuthorityFile
	Log       *slog.Logger
	Now       func() time.Time
	// Stepped, if set, is told each step that a machine has taken; it must not wait.
	Stepped func(hwaddr.Address, netboot.Mark)
	// Silent, if set, tells who answers on an interface in place of this one; empty if nobody does.
	Silent func(ifname string) string

	serving  sync.WaitGroup
	until    context.Context // ends what was started
	httpPort int
	changing sync.Mutex // one change of what is served at a time; held across that, and before mu

	mu     sync.Mutex
	links  []*link
	trail  netboot.Trail
	byIP   *lru.Cache[netip.Addr, hwaddr.Address]
	models *lru.Cache[hwaddr.Address, string] // as firmware said
}

// othersWait is how long another server is listened for.
const othersWait = 5 * time.Second

// Start opens what the configuration asks for, around the port that HTTP answers on, and
// returns when all of it answers; ctx ends the start, and until what was started. An
// interface that cannot be served keeps it from starting, unless it is lenient: who asked for it relies on it.
func (b *Boot) Start(ctx, until context.Context, httpPort int) error {
	b.changing.Lock()
	defer b.changing.Unlock()
	b.until, b.httpPort = until, httpPort
	for _, want := range b.Config.Interfaces {
		l, err := b.begin(ctx, want)
		if err != nil && !b.Config.Lenient {
			return err
		}
		if err != nil {
			b.Log.Error("an interface cannot be served", "interface", want.Name, "error", err)
			l = b.outOfOrder(want, err)
		}
		b.mu.Lock()
		b.links = append(b.links, l)
		b.mu.Unlock()
	}
	b.serving.Go(b.keepMending)
	return nil
}

// all are the links as they are now.
func (b *Boot) all() []*link {
	b.mu.Lock()
	defer b.mu.Unlock()
	return slices.Clone(b.links)
}

// silent is Silent's.
func (b *Boot) silent(ifname string) string {
	if b.Silent == nil {
		return ""
	}
	return b.Silent(ifname)
}

// Wait waits until everything that Start has started has ended.
func (b *Boot) Wait() { b.serving.Wait() }

// Wake sends a wake-up to a machine's cards, on every interface that is served; where
// none is, by Config.WakeBy.
func (b *Boot) Wake(addresses []hwaddr.Address) (through []string, err error) {
	names := []string{b.Config.WakeBy}
	if links := b.all(); len(links) > 0 {
		names = nil
		for _, l := range links {
			names = append(names, l.Name)
		}
	}
	var problems []error
	for _, name := range names {
		var failed error
		for _, a := range addresses {
			failed = errors.Join(failed, Wake(name, a))
		}
		if failed != nil {
			problems = append(problems, fmt.Errorf("through %s: %w", cmp.Or(name, "the default interface"), failed))
		} else {
			through = append(through, cmp.Or(name, "the default interface"))
		}
	}
	if through == nil {
		return nil, errors.Join(problems...)
	}
	return through, nil
}
