package answers

import (
	"crypto/sha256"
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"github.com/google/uuid"
)

// network writes the connections for what the system manages its network with, in place of
// those of the golden machine.
func (f *files) network(connections []Connection, firstCard string) {
	const why = "network"
	var write func(c Connection, n int)
	switch {
	case f.has("etc/netplan") && f.hasAny("usr/sbin/netplan", "usr/libexec/netplan") != "":
		f.removeAll("etc/netplan/*.yaml", "the golden machine's network")
		write = f.netplan
	case f.hasAny("usr/sbin/NetworkManager", "usr/bin/NetworkManager") != "":
		f.removeAll("etc/NetworkManager/system-connections/*", "the golden machine's network")
		write = f.networkManager
	case f.hasAny(wants+"/systemd-networkd.service", "etc/systemd/network") == wants+"/systemd-networkd.service":
		f.removeAll("etc/systemd/network/*.network", "the golden machine's network")
		write = f.networkd
	case f.has("etc/network"):
		f.write("etc/network/interfaces", why, 0o644, []byte("# Written when the image was delivered.\nsource /etc/network/interfaces.d/*\n\nauto lo\niface lo inet loopback\n"))
		f.removeAll("etc/network/interfaces.d/*", "the golden machine's network")
		write = f.ifupdown
	case f.hasAny("usr/lib/systemd/systemd-networkd", "lib/systemd/systemd-networkd") != "":
		f.folder(wants, why, 0o755, 0, 0)
		f.link(wants+"/systemd-networkd.service", "/usr/lib/systemd/system/systemd-networkd.service", why)
		f.removeAll("etc/systemd/network/*.network", "the golden machine's network")
		write = f.networkd
	default:
		f.remark("nothing that manages the network was found in the system, so its network is as it was")
		return
	}
	for i, c := range connections {
		if c.HardwareAddress == "" {
			if firstCard == "" {
				f.remark("the hardware address of the first card is not known, so its network is as it was")
				continue
			}
			c.HardwareAddress = firstCard
		}
		write(c, i+1)
	}
}

func quotedList(all []string) string {
	quoted := make([]string, len(all))
	for i, one := range all {
		quoted[i] = strconv.Quote(one)
	}
	return strings.Join(quoted, ", ")
}

// families are the addresses of IPv4 and of IPv6.
func (c *Connection) families() (v4, v6 []string) {
	for _, a := range c.Addresses {
		if netip.MustParsePrefix(a).Addr().Is4() {
			v4 = append(v4, a)
		} else {
			v6 = append(v6, a)
		}
	}
	return v4, v6
}

// of are those of some addresses that are of a kind.
func of(v4 bool, addresses ...string) (all []string) {
	for _, a := range addresses {
		if ip, err := netip.ParseAddr(a); err == nil && ip.Is4() == v4 {
			all = append(all, a)
		}
	}
	return all
}

// networkd writes systemd.network(5).
func (f *files) networkd(c Connection, n int) {
	var b strings.Builder
	fmt.Fprintf(&b, "# Written when the image was delivered.\n[Match]\nPermanentMACAddress=%s\n\n[Network]\n", c.HardwareAddress)
	if len(c.Addresses) == 0 {
		b.WriteString("DHCP=yes\n")
	}
	for _, a := range c.Addresses {
		fmt.Fprintf(&b, "Address=%s\n", a)
	}
	if c.Gateway != "" {
		fmt.Fprintf(&b, "Gateway=%s\n", c.Gateway)
	}
	for _, s := range c.NameServers {
		fmt.Fprintf(&b, "DNS=%s\n", s)
	}
	if c.Search != nil {
		fmt.Fprintf(&b, "Domains=%s\n", strings.Join(c.Search, " "))
	}
	f.folder("etc/systemd/network", "network", 0o755, 0, 0)
	f.write(fmt.Sprintf("etc/systemd/network/10-jugate-%d.network", n), "network", 0o644, []byte(b.String()))
}

// networkManager writes a keyfile (nm-settings-keyfile(5)).
func (f *files) networkManager(c Connection, n int) {
	sum := sha256.Sum256([]byte("connection of " + c.HardwareAddress))
	id, _ := uuid.FromBytes(sum[:16])
	var b strings.Builder
	fmt.Fprintf(&b, "[connection]\nid=jugate-%d\nuuid=%s\ntype=ethernet\nautoconnect=true\n\n[ethernet]\nmac-address=%s\n", n, id, strings.ToUpper(c.HardwareAddress))
	v4, v6 := c.families()
	for _, family := range []struct {
		name      string
		is4       bool
		addresses []string
	}{{"ipv4", true, v4}, {"ipv6", false, v6}} {
		method := "auto"
		if len(family.addresses) > 0 {
			method = "manual"
		}
		fmt.Fprintf(&b, "\n[%s]\nmethod=%s\n", family.name, method)
		gateway := of(family.is4, c.Gateway)
		for i, a := range family.addresses {
			fmt.Fprintf(&b, "address%d=%s", i+1, a)
			if i == 0 && gateway != nil {
				b.WriteString("," + gateway[0])
			}
			b.WriteString("\n")
		}
		if servers := of(family.is4, c.NameServers...); servers != nil {
			fmt.Fprintf(&b, "dns=%s;\n", strings.Join(servers, ";"))
		}
		if c.Search != nil {
			fmt.Fprintf(&b, "dns-search=%s;\n", strings.Join(c.Search, ";"))
		}
	}
	f.folder("etc/NetworkManager/system-connections", "network", 0o700, 0, 0)
	f.write(fmt.Sprintf("etc/NetworkManager/system-connections/jugate-%d.nmconnection", n), "network", 0o600, []byte(b.String()))
}

// ifupdown writes interfaces(5), where a card is named by its hardware address.
func (f *files) ifupdown(c Connection, n int) {
	card := "/mac/" + c.HardwareAddress
	var b strings.Builder
	fmt.Fprintf(&b, "# Written when the image was delivered.\nauto %s=lan%d\n", card, n)
	stanza := func(family, method string) { fmt.Fprintf(&b, "iface lan%d %s %s\n", n, family, method) }
	v4, v6 := c.families()
	if len(c.Addresses) == 0 {
		stanza("inet", "dhcp")
	}
	servers := func(v4 bool) {
		if all := of(v4, c.NameServers...); all != nil {
			fmt.Fprintf(&b, "\tdns-nameservers %s\n", strings.Join(all, " "))
		}
		if c.Search != nil {
			fmt.Fprintf(&b, "\tdns-search %s\n", strings.Join(c.Search, " "))
		}
	}
	for i, a := range append(v4, v6...) {
		is4 := i < len(v4)
		family := "inet6"
		if is4 {
			family = "inet"
		}
		stanza(family, "static")
		fmt.Fprintf(&b, "\taddress %s\n", a)
		if i != 0 && i != len(v4) {
			continue // a further address of its family
		}
		if gateway := of(is4, c.Gateway); gateway != nil {
			fmt.Fprintf(&b, "\tgateway %s\n", gateway[0])
		}
		servers(is4)
	}
	f.folder("etc/network/interfaces.d", "network", 0o755, 0, 0)
	f.write(fmt.Sprintf("etc/network/interfaces.d/jugate-%d", n), "network", 0o644, []byte(b.String()))
}

// netplan writes YAML for netplan(5).
func (f *files) netplan(c Connection, n int) {
	var b strings.Builder
	fmt.Fprintf(&b, "# Written when the image was delivered.\nnetwork:\n  version: 2\n  ethernets:\n    jugate%d:\n      match:\n        macaddress: %q\n", n, c.HardwareAddress)
	if len(c.Addresses) == 0 {
		b.WriteString("      dhcp4: true\n      dhcp6: true\n")
	} else {
		b.WriteString("      addresses:\n")
		for _, a := range c.Addresses {
			fmt.Fprintf(&b, "        - %q\n", a)
		}
	}
	if c.Gateway != "" {
		fmt.Fprintf(&b, "      routes:\n        - to: default\n          via: %q\n", c.Gateway)
	}
	if c.NameServers != nil || c.Search != nil {
		fmt.Fprintf(&b, "      nameservers:\n        addresses: [%s]\n        search: [%s]\n", quotedList(c.NameServers), quotedList(c.Search))
	}
	f.write(fmt.Sprintf("etc/netplan/10-jugate-%d.yaml", n), "network", 0o600, []byte(b.String()))
}
