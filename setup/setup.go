// Package setup makes a service of a machine: it tries what somebody answers to a few questions, writes it into the configuration
// file, and has the service manager start the service with it.
//
//	a, err := setup.Read("setup.yaml")       // or asked for, one after the other
//	problems := a.Problems(ctx, setup.Here)
//	err = a.Write(setup.Here)
//
// answers.go has the questions with their defaults, problems.go what is tried of each answer, write.go what is written, and here.go
// this machine.
package setup

import (
	"context"
	"net/netip"
)

// Machine is the machine that is set up.
type Machine interface {
	// Interfaces are the network interfaces that carry something, without loopback.
	Interfaces() ([]Interface, error)
	// OtherServers are those that give addresses on an interface; it listens for some seconds.
	OtherServers(ctx context.Context, ifname string) ([]netip.Addr, error)
	// Free is how many bytes are left where a folder lies or would lie, whether that is kept when the machine is off, and what else
	// speaks against it; empty if nothing does.
	Free(dir string) (bytes int64, kept bool, problem string)
	// Listens tells what is wrong with listening at an address; nil if it can, or if it is the service that does already.
	Listens(a netip.AddrPort) error
	// Own makes a folder, if it is not there, for the service's user, and has the service manager let the service write there.
	Own(dir string) error
	// ReadFile and WriteFile are for the configuration.
	ReadFile(path string) ([]byte, error)
	WriteFile(path string, text []byte) error
	// Start has the service manager start the service anew. It is an error if there is none, or if the service does not come up.
	Start(ctx context.Context) error
}

// Interface is a network interface.
type Interface struct {
	Name      string
	Addresses []netip.Prefix // IPv4
	Up        bool
}
