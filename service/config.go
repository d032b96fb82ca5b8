package service

import (
	"cmp"
	"context"
	"log/slog"
	"net"
	"os"
	"time"

	"jugate/api"
	"jugate/boot"
	"jugate/core/netboot"
	"jugate/core/version"
	"jugate/service/access"
	"jugate/service/intake"
	"jugate/service/settings"
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
	Unknown = netboot.Unknown
)

const (
	// NoTTL as Multicast.TTL keeps packets on this machine.
	NoTTL = stream.NoTTL
	// Ignore, Hold and Welcome are what becomes of machines that nobody has admitted: they
	// get no answer, they boot and wait, or they show a menu.
	Ignore  = netboot.Ignore
	Hold    = netboot.Hold
	Welcome = netboot.Welcome
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
	// BootTickets has Tickets as soon as network boot is answered on an interface.
	BootTickets bool
	// Settings are all settings as they are shown, with where each comes from; what is not here is shown as a default.
	Settings []api.Setting
	// Version is of the program; version.Program() by default.
	Version string
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
	// Lenient has the service start although an interface cannot be served. It is served as soon as it can be.
	Lenient bool
	// Agent is the agent's file, for builds of the boot environment.
	Agent string
}

// base are the settings that the service is started with.
func (c *Config) base() settings.Base {
	return settings.Base{All: c.Settings, Values: settings.Values{Interfaces: c.Netboot.Interfaces, Pools: c.Netboot.Pools, Force: c.Netboot.Force, Unknown: c.Netboot.Unknown,
		Rate: c.Multicast.Rate, Ceiling: c.Multicast.Ceiling, AcceptCards: c.AcceptCards, ArrivalWithin: c.ArrivalWithin, KeepLines: c.KeepLines}}
}

// setDefaults fills in what is not set.
func (c *Config) setDefaults() {
	if c.Log == nil {
		c.Log = slog.New(slog.DiscardHandler)
	}
	if c.Machine == "" {
		c.Machine, _ = os.Hostname()
	}
	if c.Now == nil {
		c.Now = time.Now
	}
	c.Version = cmp.Or(c.Version, version.Program())
	c.Multicast.SetDefaults()
	c.KeepFree = cmp.Or(c.KeepFree, intake.KeepFree)
	c.ArrivalWithin = cmp.Or(c.ArrivalWithin, arrivalWithin)
	c.Netboot.Unknown = cmp.Or(c.Netboot.Unknown, netboot.Hold)
}

// arrivalWithin is Config.ArrivalWithin by default.
const arrivalWithin = 2 * time.Hour
