package service

import (
	"context"
	"log/slog"
	"net"
	"time"

	"jugate/boot"
	"jugate/core/netboot"
	"jugate/service/access"
	"jugate/service/stock"
	"jugate/stream"
)

// The types of a configuration, so that a program that starts a service imports this
// package alone.
type (
	// Multicast says where streams go.
	Multicast = stream.Multicast
	// NetbootInterface is one interface with its mode.
	NetbootInterface = boot.Interface
	// Names says what the service is called in certificates.
	Names = access.Names
	// Unknown is what becomes of machines that nobody has admitted.
	Unknown = stock.Unknown
)

const (
	// NoTTL as Multicast.TTL keeps packets on this machine.
	NoTTL = stream.NoTTL
	// Ignore, Hold and Welcome are what becomes of machines that nobody has admitted: they
	// get no answer, they boot and wait, or they show a menu.
	Ignore  = stock.Ignore
	Hold    = stock.Hold
	Welcome = stock.Welcome
)

// Config says how a service runs. Only Data has no default.
type Config struct {
	Data      string
	File      string // the configuration file, which goes into backups; none if it is empty
	Multicast Multicast
	Log       *slog.Logger     // discards by default
	Now       func() time.Time // time.Now by default
	// IdentityFiles are patterns of files that tell one machine from another; nil stands
	// for those of package readiness.
	IdentityFiles []string
	Netboot       Netboot
	// Names is what the service is called, and a certificate of the engineer's own.
	Names Names
	// Dial reaches directories; nil does it as usual.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
	// KeepFree is how many bytes of the records' disk slabs do not take; intake.KeepFree
	// by default.
	KeepFree int64
	// AcceptCards has unknown network cards of workstations accepted at once that are
	// known by UUID and serial number; otherwise they are proposals.
	AcceptCards bool
	// ArrivalWithin is how long after its delivery a copy is to have started and reported; 0
	// stands for two hours.
	ArrivalWithin time.Duration
	// KeepLines is how long lines of the logbook are kept; 0 stands for ever.
	KeepLines time.Duration
	// BuildFrom are the folders that systems for builds of the boot environment may lie
	// in, beside the machine's own root as a whole.
	BuildFrom []string
	// Tickets has agents check in with what their boot script or media gave them, and
	// not just with a hardware address.
	Tickets bool
	// Machine is what people call this machine, and At where the service answers, for who looks who is the
	// service; LeaseFor is how long that is good without being renewed, 0 for the usual time.
	Machine  string
	At       []string
	LeaseFor time.Duration
	// Answers, if set, is told once the service answers.
	Answers func()
	// TakenOver is what a takeover has brought; nil otherwise.
	TakenOver *TakenOver
}

// Netboot says how the service answers machines that boot over the network.
type Netboot struct {
	Interfaces []NetbootInterface
	Pools      []netboot.PoolConfig // of mode whole
	Unknown    Unknown              // what becomes of machines that nobody has admitted; Hold by default
	// Force has mode whole start although another server gives addresses.
	Force bool
	// Agent is the agent's file, for builds of the boot environment.
	Agent string
}
