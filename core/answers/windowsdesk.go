package answers

import (
	"fmt"
	"maps"
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"

	"github.com/beevik/etree"

	"jugate/core/fileview"
)

// Components of Windows' setup for the network and for remote desktop.
const (
	tcpip         = "Microsoft-Windows-TCPIP"
	dnsClient     = "Microsoft-Windows-DNS-Client"
	remoteDesktop = "Microsoft-Windows-TerminalServices-LocalSessionManager"
	firewall      = "Networking-MPSSVC-Svc"
)

// firstStartPages are the elements below OOBE that leave out a page of the first-start dialogue.
var firstStartPages = map[string][2]string{
	"licence": {"HideEULAPage", "true"}, "registration": {"HideOEMRegistrationScreen", "true"}, "account": {"HideOnlineAccountScreens", "true"}, "network": {"HideWirelessSetupInOOBE", "true"}, "privacy": {"ProtectYourPC", "3"},
}

// skipPages leaves out pages of the first-start dialogue: those, or all that the file says
// nothing of.
func (f *answerFile) skipPages(pages []string) {
	do := f.set
	if pages == nil {
		pages, do = slices.Sorted(maps.Keys(firstStartPages)), f.suggest
	}
	for _, p := range pages {
		do(oobeSystem, shellSetup, "OOBE/"+firstStartPages[p][0], firstStartPages[p][1])
	}
}

// networkLocations are the kinds of network that the dialogue would ask for.
var networkLocations = map[string]string{"private": "Work", "public": "Other"}

// remoteAccess lets people work on the computer by remote desktop, or not.
func (f *answerFile) remoteAccess(on bool) {
	f.set(specialize, remoteDesktop, "fDenyTSConnections", strconv.FormatBool(!on))
	if !on {
		return
	}
	groups := childOf(f.component(specialize, firewall), "FirewallGroups", only, plain)
	g := keyed(groups, "FirewallGroup", "RemoteDesktop")
	g.CreateElement("Active").SetText("true")
	g.CreateElement("Group").SetText("@FirewallAPI.dll,-28752") // remote desktop, by its resource in any language
	g.CreateElement("Profile").SetText("all")
}

// keyed adds an item with a key to a list, in place of one that has it.
func keyed(list *etree.Element, tag, key string) *etree.Element {
	for _, e := range list.SelectElements(tag) {
		if e.SelectAttrValue("wcm:keyValue", "") == key {
			list.RemoveChild(e)
		}
	}
	e := add(list, tag)
	e.CreateAttr("wcm:keyValue", key)
	return e
}

// network sets up network cards, which Windows knows by their hardware addresses here.
func (f *answerFile) network(connections []Connection, firstCard string) (remarks []string) {
	for _, c := range connections {
		if c.HardwareAddress == "" {
			c.HardwareAddress = firstCard
		}
		if c.HardwareAddress == "" {
			remarks = append(remarks, "the hardware address of the first card is not known, so its network is as it was")
			continue
		}
		card := strings.ToUpper(strings.ReplaceAll(c.HardwareAddress, ":", "-"))
		f.addresses(c, card)
		if c.NameServers != nil || c.Search != nil {
			f.nameServers(c, card)
		}
	}
	return remarks
}

// interfaceOf begins the settings of a card in a component anew.
func (f *answerFile) interfaceOf(component, card string) *etree.Element {
	list := childOf(f.component(specialize, component), "Interfaces", only, plain)
	for _, e := range list.SelectElements("Interface") {
		if id := e.SelectElement("Identifier"); id != nil && strings.EqualFold(id.Text(), card) {
			list.RemoveChild(e)
		}
	}
	e := add(list, "Interface")
	e.CreateElement("Identifier").SetText(card)
	return e
}

func (f *answerFile) addresses(c Connection, card string) {
	e := f.interfaceOf(tcpip, card)
	v4, v6 := c.families()
	for _, family := range []struct {
		settings  string
		addresses []string
	}{{"Ipv4Settings", v4}, {"Ipv6Settings", v6}} {
		e.CreateElement(family.settings).CreateElement("DhcpEnabled").SetText(strconv.FormatBool(len(family.addresses) == 0))
	}
	if len(c.Addresses) > 0 {
		list := e.CreateElement("UnicastIpAddresses")
		for i, a := range slices.Concat(v4, v6) {
			keyed(list, "IpAddress", strconv.Itoa(i+1)).SetText(a)
		}
	}
	if c.Gateway != "" {
		prefix := "0.0.0.0/0"
		if netip.MustParseAddr(c.Gateway).Is6() {
			prefix = "::/0"
		}
		route := add(e.CreateElement("Routes"), "Route")
		route.CreateElement("Identifier").SetText("0")
		route.CreateElement("NextHopAddress").SetText(c.Gateway)
		route.CreateElement("Prefix").SetText(prefix)
	}
}

func (f *answerFile) nameServers(c Connection, card string) {
	e := f.interfaceOf(dnsClient, card)
	if len(c.Search) > 0 {
		e.CreateElement("DNSDomain").SetText(c.Search[0])
	}
	if c.NameServers != nil {
		list := e.CreateElement("DNSServerSearchOrder")
		for i, s := range c.NameServers {
			keyed(list, "IpAddress", strconv.Itoa(i+1)).SetText(s)
		}
	}
}

// startUp is where Windows opens from, whoever signs in.
const startUp = "ProgramData/Microsoft/Windows/Start Menu/Programs/StartUp"

// windowsFiles writes files to the system's drive, and programs to where they open at sign-in.
func (f *files) windowsFiles(s *Settings) {
	for _, one := range s.Files {
		at, _ := fileview.FindFold(f.FS, strings.TrimPrefix(one.Path, "/"))
		f.folder(path.Dir(at), "files", 0o755, 0, 0)
		f.write(at, "files", 0o644, []byte(one.Content))
	}
	for _, p := range s.Programs {
		at, _ := fileview.FindFold(f.FS, startUp+"/jugate-"+fileOf(p.Name)+".cmd")
		f.folder(path.Dir(at), "programs", 0o755, 0, 0)
		f.write(at, "programs", 0o644, fmt.Appendf(nil, "@start \"%s\" %s\r\n", p.Name, p.Command))
	}
}

// setupCommands are what setup runs at its end: what no element says, and the answers' own.
func setupCommands(s *Settings) (all []string) {
	if s.Description != "" {
		all = append(all, "net config server /srvcomment:"+commandQuoted(s.Description))
	}
	if s.Proxy != "" {
		all = append(all, "netsh winhttp set proxy "+commandQuoted(strings.TrimPrefix(strings.TrimPrefix(s.Proxy, "http://"), "https://")))
	}
	return append(all, s.Commands...)
}

// commandQuoted is a text in quotes for the command interpreter, which has no way to quote some
// characters; they are left out.
func commandQuoted(text string) string {
	return `"` + strings.NewReplacer(`"`, "'", "%", "", "!", "", "^", "").Replace(text) + `"`
}
