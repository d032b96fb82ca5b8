// Package netboot decides what a machine that boots over the network is told: by
// DHCP (RFC 2131 and 2132, with RFC 4578 and the PXE specification 2.1), by TFTP
// (RFC 1350 and its options), and by the boot script that the loader asks for.
//
// Everything is a function from a request and what is known to a reply. There are no
// sockets here, no records and no clock: package bootwire has the sockets, the
// service has the records.
//
//	client, err := netboot.Identify(request)         // who asks, and what it can load
//	reply, err := netboot.Answer(link, port, request, client, address)
//	text := netboot.Script(loader, choice)
package netboot

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"strings"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"jugate/core/hwaddr"
)

// Arch is a client's architecture, as option 93 numbers them (RFC 4578, 2.1, and
// IANA's list of processor architecture types).
type Arch uint16

// The architectures that have a name here. Those of ARM are reserved: nothing is
// made for them yet.
const (
	BIOS      Arch = 0
	EFI32     Arch = 6
	EFIBC     Arch = 7 // what most 64-bit UEFI firmware says
	EFI64     Arch = 9
	ARM64     Arch = 11
	HTTP32    Arch = 15
	HTTP64    Arch = 16
	HTTPARM64 Arch = 19
	// NoArch is of a machine that does not boot: its operating system asks.
	NoArch Arch = 0xffff
)

func (a Arch) String() string {
	switch a {
	case BIOS:
		return "BIOS"
	case EFI32:
		return "UEFI 32-bit"
	case EFIBC, EFI64:
		return "UEFI x64"
	case ARM64:
		return "UEFI arm64"
	case HTTP32:
		return "UEFI 32-bit HTTP"
	case HTTP64:
		return "UEFI x64 HTTP"
	case HTTPARM64:
		return "UEFI arm64 HTTP"
	case NoArch:
		return "no loader"
	default:
		return fmt.Sprintf("architecture %d", uint16(a))
	}
}

// HTTP tells whether the firmware loads by HTTP and not by TFTP.
func (a Arch) HTTP() bool { return a == HTTP32 || a == HTTP64 || a == HTTPARM64 }

// The names of loaders, below the root of TFTP and of the service's boot files.
const (
	shimFile  = "shimx64.efi"
	biosFile  = "bios.0"
	plainFile = "plainx64.efi" // Jugate's own: not signed, but it knows its server
)

// Loader is the file that a machine of this architecture loads first; "" if there is
// none for it. On UEFI it is the signed one.
func (a Arch) Loader() string {
	switch a {
	case BIOS:
		return biosFile
	case EFIBC, EFI64:
		return shimFile
	case HTTP64:
		return plainFile
	default:
		return ""
	}
}

// Client is who sent a request.
type Client struct {
	Address hwaddr.Address
	ID      string // see Holder.Client
	Arch    Arch
	UUID    []byte // option 97; nil if it does not say
	Relayed bool
	// Signed says that it gets the signed loader beside another server.
	Signed bool   `json:"signed"`
	Disc   string // see Facts
}

// Holder is the client as the holder of an address.
func (c Client) Holder() Holder { return Holder{Client: c.ID, Hardware: c.Address} }

// Facts are what the roster says of a machine.
type Facts struct {
	Refused string `json:"refused"` // why it is not served; empty if it is
	// Signed says that it gets the signed loader beside another server. That one asks
	// the other server for its script, as it looks at the address alone and not at who
	// said what to boot; Jugate's own does not, but Secure Boot refuses it.
	Signed bool `json:"signed"`
	// Disc is the file of a disc that firmware which loads by HTTP takes into its memory, in place of the loader (UEFI 2.10,
	// 24.7.3.1 and 13.12).
	Disc string `json:"disc"`
}

// Boots tells whether it asks for a loader, and not just for an address.
func (c Client) Boots() bool { return c.Arch != NoArch }

// Places of the fields in a packet that options may lie in, too (RFC 2131, 2).
const (
	serverNameAt, serverNameLen = 44, 64
	fileAt, fileLen             = 108, 128
)

// Parse reads a DHCP packet, with the options that lie in the fields for names
// (option 52; RFC 2132, 9.3).
func Parse(b []byte) (*dhcpv4.DHCPv4, error) {
	m, err := dhcpv4.FromBytes(b)
	if err != nil {
		return nil, err
	}
	overload := m.Options.Get(dhcpv4.OptionOptionOverload)
	if len(overload) != 1 || len(b) < fileAt+fileLen {
		return m, nil
	}
	if overload[0]&1 != 0 {
		m.BootFileName = ""
		err = m.Options.FromBytes(b[fileAt : fileAt+fileLen])
	}
	if overload[0]&2 != 0 {
		m.ServerHostName = ""
		err = errors.Join(err, m.Options.FromBytes(b[serverNameAt:serverNameAt+serverNameLen]))
	}
	return m, err
}

// ErrRequest says that a packet is not one that a client sends.
var ErrRequest = errors.New("not a request of a client")

const ethernet = 1 // hardware type (RFC 1700)

// Identify reads who sent a request. Errors wrap ErrRequest.
func Identify(m *dhcpv4.DHCPv4) (Client, error) {
	c := Client{Arch: NoArch, Relayed: isSet(m.GatewayIPAddr)}
	if m.OpCode != dhcpv4.OpcodeBootRequest || m.HWType != ethernet {
		return c, ErrRequest
	}
	var err error
	if c.Address, err = hwaddr.Parse(m.ClientHWAddr.String()); err != nil {
		return c, fmt.Errorf("%w: %w", ErrRequest, err)
	}
	// A client identifier that repeats the hardware address says nothing new, and
	// firmware that sends one is the machine that its system without one is.
	if id := m.Options.Get(dhcpv4.OptionClientIdentifier); len(id) >= 2 && !bytes.Equal(id, append([]byte{ethernet}, c.Address[:]...)) {
		c.ID = hex.EncodeToString(id)
	}
	class := m.ClassIdentifier()
	if strings.HasPrefix(class, classPXE) || strings.HasPrefix(class, classHTTP) {
		c.Arch = BIOS // the PXE specification's own, where option 93 is absent
		if arch := m.Options.Get(dhcpv4.OptionClientSystemArchitectureType); len(arch) >= 2 {
			c.Arch = Arch(binary.BigEndian.Uint16(arch))
		}
	}
	if id := m.Options.Get(dhcpv4.OptionClientMachineIdentifier); len(id) == 17 && id[0] == 0 {
		c.UUID = bytes.Clone(id[1:])
	}
	return c, nil
}

// isSet tells of an address that is not all zeros.
func isSet(ip net.IP) bool { return ip != nil && !ip.IsUnspecified() }
