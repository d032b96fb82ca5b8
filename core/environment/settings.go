// Package environment has what the boot environment tells the agent that runs in it.
// How builds of it are made, package builds knows; the agent does not link that.
package environment

import (
	"fmt"
	"net/netip"
	"strings"
)

// Settings is what the settings layer tells the agent, in the file SettingsFile.
// The kernel's command line goes before.
type Settings struct {
	Service string        `json:"service,omitempty"` // URL
	Key     string        `json:"key,omitempty"`     // instead of a boot ticket: of media
	Network *FixedNetwork `json:"network,omitempty"`
	Shell   bool          `json:"shell,omitempty"`
	// Outpost is set on media whose machine is an outpost, too.
	Outpost *Outpost `json:"outpost,omitempty"`
}

// Outpost says how the machine that was started from media is an outpost.
type Outpost struct {
	Name string `json:"name"`
	// Netboot is how it answers network boot: "beside", "whole", or nothing for not at all.
	Netboot string   `json:"netboot,omitempty"`
	Pools   []string `json:"pools,omitempty"` // of mode whole
	// Alone says that it serves this machine only, without any network.
	Alone bool `json:"alone,omitempty"`
	// InMemory has slabs that come over the line be kept in memory, and not on the media.
	InMemory bool `json:"in_memory,omitempty"`
}

// FixedNetwork is what to fall back to where no server gives an address.
type FixedNetwork struct {
	// Address is one with the prefix's length, as 192.0.2.70/24, or several of which each machine takes one that nobody has:
	// 192.0.2.70-192.0.2.99/24.
	Address string `json:"address"`
	Gateway string `json:"gateway,omitempty"`
}

// Where the agent finds its things.
const (
	SettingsFile    = "etc/jugate/settings.json"
	CertificateFile = "etc/jugate/service.pem"
	OutpostProgram  = "bin/jugate-outpost"
	// DataVolume is the name of the partition, on media that are an outpost, that is its data folder.
	DataVolume = "jugate-data"
)

// maxRange is how many addresses media can have.
const maxRange = 1024

// Addresses are those of a fixed network, each with its prefix. They are of IPv4.
func (n FixedNetwork) Addresses() ([]netip.Prefix, error) {
	bad := fmt.Errorf("%q is no IPv4 address with the length of its prefix, as 192.0.2.70/24, and no range of them, as 192.0.2.70-192.0.2.99/24", n.Address)
	addresses, bits, _ := strings.Cut(n.Address, "/")
	first, last, ranged := strings.Cut(addresses, "-")
	if !ranged {
		last = first
	}
	from, err := netip.ParsePrefix(strings.TrimSpace(first) + "/" + bits)
	to, err2 := netip.ParsePrefix(strings.TrimSpace(last) + "/" + bits)
	if err != nil || err2 != nil || !from.Addr().Is4() || to.Addr().Less(from.Addr()) || from.Masked() != to.Masked() {
		return nil, bad
	}
	var all []netip.Prefix
	for a := from.Addr(); !to.Addr().Less(a); a = a.Next() {
		if all = append(all, netip.PrefixFrom(a, from.Bits())); len(all) > maxRange {
			return nil, fmt.Errorf("%s has more than %d addresses", n.Address, maxRange)
		}
	}
	return all, nil
}
