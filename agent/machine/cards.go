package machine

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"jugate/core/hwaddr"
)

// state is how far a network card got.
type state int

const (
	noLink    state = iota // no cable, or nothing at its other end
	noAddress              // the link is up, and no server gave an address
	linkLocal              // it has just an address that it chose itself
	hasAddress
)

// card is a network card that a module drives.
type card struct {
	name    string // eth0
	address hwaddr.Address
	driver  string
	state   state
	ip      netip.Prefix
	fixed   bool                  // the address comes from the settings
	typed   bool                  // somebody has typed it here
	note    string                // the reason why it has no address, where it is known
	renew   func(context.Context) // keeps the address that a server gave, until ctx ends; nil without one
}

// device is a network card that no module drives.
type device struct{ bus, id string }

// explain says in words how the network is, a line a card: what is wrong with it and
// what to do.
func explain(cards []card, silent []device) (lines []string) {
	for _, c := range cards {
		line := fmt.Sprintf("%s (%s, %s): ", c.address, c.name, c.driver)
		switch {
		case c.state == noLink:
			line += "no link; is the cable in, and the switch on?"
		case c.state == linkLocal:
			line += fmt.Sprintf("%s, which the card chose itself: nobody on this network gives addresses", c.ip.Addr())
		case c.state == noAddress:
			line += "the link is up, but no server on this network gave an address"
			if c.note != "" {
				line += " (" + c.note + ")"
			}
		case c.typed:
			line += fmt.Sprintf("%s, which was typed here", c.ip.Addr())
		case c.fixed:
			line += fmt.Sprintf("%s, the fixed address of these media", c.ip.Addr())
		default:
			line += c.ip.Addr().String()
		}
		lines = append(lines, line)
	}
	for _, d := range silent {
		lines = append(lines, fmt.Sprintf("%s %s: a network card without a driver in this build; add its driver to the boot environment, or put in a USB stick with its module", d.bus, d.id))
	}
	if len(cards)+len(silent) == 0 {
		lines = append(lines, "no network card was found at all; is it switched off in the firmware's setup?")
	}
	return lines
}

// isLinkLocal tells of addresses of RFC 3927, which a machine chooses itself.
func isLinkLocal(a netip.Addr) bool { return a.Is4() && a.IsLinkLocalUnicast() }

// findCards lists the cards that have a driver.
func findCards() (cards []card, err error) {
	interfaces, err := net.Interfaces()
	if err != nil {
		return nil, err
	}
	for _, i := range interfaces {
		driver, err := filepath.EvalSymlinks(filepath.Join("/sys/class/net", i.Name, "device/driver"))
		if err != nil {
			continue // not a device
		}
		a, err := hwaddr.Parse(i.HardwareAddr.String())
		if err != nil {
			continue
		}
		cards = append(cards, card{name: i.Name, address: a, driver: filepath.Base(driver)})
	}
	return cards, nil
}

// hasCard tells whether a card is there; it is not if a is zero.
func hasCard(a hwaddr.Address) bool {
	cards, _ := findCards()
	return slices.ContainsFunc(cards, func(c card) bool { return !a.IsZero() && c.address == a })
}

// findSilent lists PCI and USB devices that are network cards and have no driver,
// below /sys.
func findSilent(sys string) (silent []device) {
	read := func(parts ...string) string {
		text, _ := os.ReadFile(filepath.Join(parts...))
		return strings.TrimSpace(string(text))
	}
	driven := func(dir string) bool {
		_, err := os.Stat(filepath.Join(dir, "driver"))
		return err == nil
	}
	pci, _ := filepath.Glob(filepath.Join(sys, "bus/pci/devices/*"))
	for _, dir := range pci {
		// Class 02 is network controllers, of which subclass 80 is mostly radio.
		if class := read(dir, "class"); strings.HasPrefix(class, "0x02") && !strings.HasPrefix(class, "0x0280") && !driven(dir) {
			id := strings.TrimPrefix(read(dir, "vendor"), "0x") + ":" + strings.TrimPrefix(read(dir, "device"), "0x")
			silent = append(silent, device{"PCI " + filepath.Base(dir), id})
		}
	}
	usb, _ := filepath.Glob(filepath.Join(sys, "bus/usb/devices/*:*"))
	for _, dir := range usb {
		// Communications class, Ethernet and network control models.
		sub := read(dir, "bInterfaceSubClass")
		if read(dir, "bInterfaceClass") == "02" && (sub == "06" || sub == "0d") && !driven(dir) {
			whole, _, _ := strings.Cut(filepath.Base(dir), ":")
			id := read(sys, "bus/usb/devices", whole, "idVendor") + ":" + read(sys, "bus/usb/devices", whole, "idProduct")
			silent = append(silent, device{"USB " + whole, id})
		}
	}
	return slices.Compact(silent)
}
