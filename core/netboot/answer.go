package netboot

import (
	"cmp"
	"fmt"
	"net"
	"net/netip"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
)

// Mode is how network boot is served on an interface.
type Mode string

// The modes.
const (
	Off    Mode = "off"    // no DHCP at all
	Beside Mode = "beside" // another server gives addresses, this one says what to boot
	Whole  Mode = "whole"  // addresses, too
)

// Values of options 60 and the first port of each service.
const (
	classPXE  = "PXEClient"
	classHTTP = "HTTPClient"

	DHCPPort  = 67
	ReplyPort = 68
	PXEPort   = 4011
	TFTPPort  = 69
)

// Link is a network interface that is served.
type Link struct {
	Name   string
	Mode   Mode
	Server netip.Addr // this server's address there
	HTTP   string     // base of its URLs there: http://ADDRESS:PORT
}

// loader is the first file of a machine on this link.
func (l Link) loader(c Client) string {
	if file := c.Arch.Loader(); file != shimFile || l.Mode != Beside || c.Signed {
		return file
	}
	return plainFile
}

// Terms are what comes with an address.
type Terms struct {
	Address netip.Addr
	Prefix  netip.Prefix
	Router  netip.Addr // none if invalid
	DNS     []netip.Addr
	Lease   time.Duration
}

// Reply is a message and where it goes.
type Reply struct {
	Message *dhcpv4.DHCPv4
	To      netip.AddrPort // 255.255.255.255 for all
	// Hardware is set if the client has the address To only once it gets this: ARP
	// would find nobody there.
	Hardware net.HardwareAddr
}

// Answer makes the reply of the kind (offer or acknowledgement) to a request. terms
// are nil where another server gives the address. port is the one that the request
// came to. The loader goes along if the client asks for one and there is one.
func Answer(l Link, port int, m *dhcpv4.DHCPv4, c Client, kind dhcpv4.MessageType, terms *Terms) (*Reply, error) {
	server := net.IP(l.Server.AsSlice())
	mods := []dhcpv4.Modifier{
		dhcpv4.WithMessageType(kind),
		dhcpv4.WithServerIP(server),
		dhcpv4.WithOption(dhcpv4.OptServerIdentifier(server)),
	}
	if terms != nil {
		mods = append(mods, terms.modifiers()...)
	}
	if c.Boots() {
		mods = append(mods, boot(l, m, c)...)
	}
	if id := m.Options.Get(dhcpv4.OptionClientIdentifier); id != nil { // RFC 6842, 3
		mods = append(mods, dhcpv4.WithGeneric(dhcpv4.OptionClientIdentifier, id))
	}
	// RFC 3046, 2.2: what a relay agent wrote goes back to it, as the last option.
	if info := m.Options.Get(dhcpv4.OptionRelayAgentInformation); info != nil {
		mods = append(mods, dhcpv4.WithGeneric(dhcpv4.OptionRelayAgentInformation, info))
	}
	reply, err := dhcpv4.NewReplyFromRequest(m, mods...)
	if err != nil {
		return nil, err
	}
	reply.ClientIPAddr = m.ClientIPAddr
	to, hardware := destination(m, reply, port)
	return &Reply{reply, to, hardware}, nil
}

// Refuse makes the negative acknowledgement of a request for an address.
func Refuse(l Link, m *dhcpv4.DHCPv4, why string) (*Reply, error) {
	reply, err := dhcpv4.NewReplyFromRequest(m,
		dhcpv4.WithMessageType(dhcpv4.MessageTypeNak),
		dhcpv4.WithOption(dhcpv4.OptServerIdentifier(net.IP(l.Server.AsSlice()))),
		dhcpv4.WithOption(dhcpv4.OptMessage(why)))
	if err != nil {
		return nil, err
	}
	to := netip.AddrPortFrom(broadcast, ReplyPort)
	if relay, ok := netip.AddrFromSlice(m.GatewayIPAddr.To4()); ok && isSet(m.GatewayIPAddr) {
		reply.SetBroadcast() // RFC 2131, 4.3.2
		to = netip.AddrPortFrom(relay, DHCPPort)
	}
	return &Reply{Message: reply, To: to}, nil
}

var broadcast = netip.AddrFrom4([4]byte{255, 255, 255, 255})

// destination is where a reply goes (RFC 2131, 4.1): to the relay agent; to the
// client where it has an address; to the address that it gets, by its hardware
// address, unless it asks for a broadcast; else to all.
func destination(m, reply *dhcpv4.DHCPv4, port int) (netip.AddrPort, net.HardwareAddr) {
	if isSet(m.GatewayIPAddr) {
		relay, _ := netip.AddrFromSlice(m.GatewayIPAddr.To4())
		return netip.AddrPortFrom(relay, DHCPPort), nil
	}
	if client, ok := netip.AddrFromSlice(m.ClientIPAddr.To4()); ok && isSet(m.ClientIPAddr) {
		if port == PXEPort { // PXE 2.1, 2.2.4: it listens where it sent from
			return netip.AddrPortFrom(client, PXEPort), nil
		}
		return netip.AddrPortFrom(client, ReplyPort), nil
	}
	if yours, ok := netip.AddrFromSlice(reply.YourIPAddr.To4()); ok && isSet(reply.YourIPAddr) && !m.IsBroadcast() {
		return netip.AddrPortFrom(yours, ReplyPort), m.ClientHWAddr
	}
	return netip.AddrPortFrom(broadcast, ReplyPort), nil
}

func (t *Terms) modifiers() []dhcpv4.Modifier {
	mods := []dhcpv4.Modifier{
		dhcpv4.WithYourIP(t.Address.AsSlice()),
		dhcpv4.WithNetmask(net.CIDRMask(t.Prefix.Bits(), 32)),
		dhcpv4.WithLeaseTime(uint32(t.Lease / time.Second)),
	}
	if t.Router.IsValid() {
		mods = append(mods, dhcpv4.WithRouter(t.Router.AsSlice()))
	}
	if len(t.DNS) > 0 {
		var servers []net.IP
		for _, a := range t.DNS {
			servers = append(servers, a.AsSlice())
		}
		mods = append(mods, dhcpv4.WithDNS(servers...))
	}
	return mods
}

// pxeDirect is option 43 for clients of PXE (PXE 2.1, 2.2.3): discovery control, with
// the bit that says to take the file that this reply names.
var pxeDirect = []byte{6, 1, 1 << 3, 255}

// boot says what to load.
func boot(l Link, m *dhcpv4.DHCPv4, c Client) []dhcpv4.Modifier {
	file := l.loader(c)
	if file == "" {
		return nil
	}
	if c.Arch.HTTP() {
		url := l.HTTP + FilesPath + cmp.Or(c.Disc, file)
		return []dhcpv4.Modifier{
			dhcpv4.WithOption(dhcpv4.OptClassIdentifier(classHTTP)),
			dhcpv4.WithOption(dhcpv4.OptBootFileName(url)),
		}
	}
	mods := []dhcpv4.Modifier{
		dhcpv4.WithOption(dhcpv4.OptClassIdentifier(classPXE)),
		dhcpv4.WithGeneric(dhcpv4.OptionVendorSpecificInformation, pxeDirect),
		dhcpv4.WithOption(dhcpv4.OptBootFileName(file)),
		dhcpv4.WithOption(dhcpv4.OptTFTPServerName(l.Server.String())),
		func(d *dhcpv4.DHCPv4) { d.BootFileName = file },
	}
	if c.UUID != nil { // PXE 2.1, 2.2.2: it goes back
		mods = append(mods, dhcpv4.WithGeneric(dhcpv4.OptionClientMachineIdentifier, append([]byte{0}, c.UUID...)))
	}
	return mods
}

// FilesPath is where the service has boot files for HTTP, and ScriptPath the boot
// script; over TFTP they are at the root.
const (
	FilesPath  = "/boot/files/"
	ScriptPath = "/boot/script/"
)

// Advice is what to enter into another DHCP server so that it sends machines here:
// for each architecture, the options with their values.
type Advice struct {
	Arch    Arch
	Options []Option
}

// Option is one line of advice.
type Option struct {
	Code  int // 0 for a field of the header
	Name  string
	Value string
}

// Advise lists what another server has to say, for each architecture that there is a
// loader for.
func Advise(l Link) (all []Advice) {
	for _, a := range []Arch{BIOS, EFIBC, EFI64, HTTP64} {
		advice := Advice{Arch: a}
		if a.HTTP() {
			advice.Options = []Option{
				{60, "vendor class identifier", classHTTP},
				{67, "boot file name", l.HTTP + FilesPath + a.Loader()},
			}
		} else {
			advice.Options = []Option{
				{0, "next server (siaddr)", l.Server.String()},
				{66, "TFTP server name", l.Server.String()},
				{67, "boot file name", a.Loader()},
			}
		}
		all = append(all, advice)
	}
	return all
}

// When is how another server recognises the machines that a piece of advice is for.
func (a Advice) When() string {
	class := classPXE
	if a.Arch.HTTP() {
		class = classHTTP
	}
	return fmt.Sprintf("option 60 begins with %q and option 93 is %d", class, uint16(a.Arch))
}
