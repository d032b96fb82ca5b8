package driver

import (
	"errors"
	"fmt"
	"strings"
)

// Device is something that wants a driver.
type Device struct {
	Modalias string // as Linux names it, "pci:v00008086d…"
	Name     string // what people call it, if anybody said
	Class    Class
	Driver   string // module that has taken it, empty for none
	Empty    bool   // a disk controller that works, and has no disk on it

	// Hardware and Compatible are the identifiers of the INF reference, each list from
	// the most exact to the most general.
	Hardware, Compatible []string
}

// Label is the device's short identifier: bus, vendor and product.
func (d *Device) Label() string {
	if len(d.Hardware) == 0 {
		return d.Modalias
	}
	bus, rest, _ := strings.Cut(d.Hardware[len(d.Hardware)-1], `\`)
	var vendor, product string
	for part := range strings.SplitSeq(rest, "&") {
		key, value, _ := strings.Cut(part, "_")
		switch key {
		case "VEN", "VID":
			vendor = value
		case "DEV", "PID":
			product = value
		}
	}
	if vendor == "" || product == "" {
		return strings.ToLower(bus) + " " + rest
	}
	return strings.ToLower(bus + " " + vendor + ":" + product)
}

// ErrDevice says that a text names no device.
var ErrDevice = errors.New("not the identifier of a device")

// ParseModalias reads what Linux calls a device, and derives the identifiers that
// the INF reference gives such a device ("Identifiers for PCI devices", "… for USB
// devices"). The class is what the identifier itself says.
func ParseModalias(modalias string) (Device, error) {
	d := Device{Modalias: modalias, Class: Other}
	bus, rest, _ := strings.Cut(modalias, ":")
	ok := len(modalias) < 1024
	switch bus {
	case "pci":
		ok = ok && d.pci(rest)
	case "usb":
		ok = ok && d.usb(rest)
	case "hid":
		ok = ok && d.hid(rest)
	case "acpi":
		for id := range strings.SplitSeq(strings.ToUpper(rest), ":") {
			if id != "" {
				d.Hardware = append(d.Hardware, `ACPI\`+id)
			}
		}
		d.Class = Board
		// The first id is the device's own, the others are what it is compatible with.
		if len(d.Hardware) > 1 {
			d.Hardware, d.Compatible = d.Hardware[:1], d.Hardware[1:]
		}
		ok = ok && len(d.Hardware) > 0
	case "virtio":
		d.Class = virtioClass(rest)
	default:
		ok = false
	}
	if !ok || rest == "" {
		return d, fmt.Errorf("%w: %q", ErrDevice, modalias)
	}
	return d, nil
}

// Parser reads devices and keeps what it has read: many workstations have the same
// ones. The zero value is ready.
type Parser struct{ known map[string]Device }

// Parse is ParseModalias and SetRevision.
func (p *Parser) Parse(modalias string, rev uint8) (Device, error) {
	key := fmt.Sprintf("%02x%s", rev, modalias)
	if d, known := p.known[key]; known {
		return d, nil
	}
	d, err := ParseModalias(modalias)
	if err != nil {
		return d, err
	}
	d.SetRevision(rev)
	if p.known == nil {
		p.known = map[string]Device{}
	}
	p.known[key] = d
	return d, nil
}

// fields splits a modalias into keys of small letters and values of hexadecimal
// digits in capitals.
func fields(s string, keys ...string) (values []string, ok bool) {
	for i, key := range keys {
		if !strings.HasPrefix(s, key) {
			return nil, false
		}
		s = s[len(key):]
		end := len(s)
		if i+1 < len(keys) {
			if end = strings.Index(s, keys[i+1]); end < 0 {
				return nil, false
			}
		}
		value := s[:end]
		if strings.Trim(value, "0123456789ABCDEFabcdef") != "" || value == "" {
			return nil, false
		}
		values = append(values, strings.ToUpper(value))
		s = s[end:]
	}
	return values, true
}

// short drops leading zeros beyond four digits, as the kernel writes eight.
func short(s string, digits int) string {
	for len(s) > digits && s[0] == '0' {
		s = s[1:]
	}
	return s
}

func (d *Device) pci(s string) bool {
	f, ok := fields(s, "v", "d", "sv", "sd", "bc", "sc", "i")
	if !ok {
		return false
	}
	vendor, device, sub := short(f[0], 4), short(f[1], 4), short(f[3], 4)+short(f[2], 4)
	base := `PCI\VEN_` + vendor + "&DEV_" + device
	class := f[4] + f[5]
	d.Hardware = []string{base + "&SUBSYS_" + sub, base + "&CC_" + class + f[6], base + "&CC_" + class}
	d.Compatible = []string{base, `PCI\VEN_` + vendor + "&CC_" + class + f[6], `PCI\VEN_` + vendor + "&CC_" + class, `PCI\VEN_` + vendor, `PCI\CC_` + class + f[6], `PCI\CC_` + class}
	if d.Class = pciClass(f[4], f[5]); vendor == virtioVendor {
		d.Class = Board // it carries a device of the bus virtio, which is what matters
	}
	return true
}

// virtioVendor is the vendor of the virtio specification, 4.1.2.
const virtioVendor = "1AF4"

// pciClass is the base class and subclass of the PCI code and ID assignment
// specification.
func pciClass(base, sub string) Class {
	switch base {
	case "01":
		return Storage
	case "02", "0D":
		return Network
	case "03":
		return Display
	case "04":
		return Sound
	case "09":
		return Input
	case "0C":
		if sub == "03" {
			return USB
		}
	case "05", "06", "08", "11":
		return Board
	}
	return Other
}

// SetRevision adds the revision of a PCI device, which Linux tells apart from its
// modalias.
func (d *Device) SetRevision(rev uint8) {
	if len(d.Hardware) != 3 || !strings.HasPrefix(d.Hardware[0], `PCI\`) {
		return
	}
	r := fmt.Sprintf("&REV_%02X", rev)
	d.Hardware = append([]string{d.Hardware[0] + r}, d.Hardware...)
	d.Compatible = append([]string{d.Compatible[0] + r}, d.Compatible...)
}

func (d *Device) usb(s string) bool {
	f, ok := fields(s, "v", "p", "d", "dc", "dsc", "dp", "ic", "isc", "ip", "in")
	if !ok {
		return false
	}
	base := `USB\VID_` + short(f[0], 4) + "&PID_" + short(f[1], 4)
	rev := base + "&REV_" + short(f[2], 4)
	d.Hardware = []string{rev + "&MI_" + f[9], base + "&MI_" + f[9], rev, base}
	class := `USB\CLASS_` + f[6]
	d.Compatible = []string{class + "&SUBCLASS_" + f[7] + "&PROT_" + f[8], class + "&SUBCLASS_" + f[7], class}
	switch f[6] { // USB defined class codes
	case "01":
		d.Class = Sound
	case "02", "0A", "E0":
		d.Class = Network
	case "03":
		d.Class = Input
	case "08":
		d.Class = Storage
	case "09":
		d.Class = USB
	case "0E":
		d.Class = Display
	case "FF":
		if f[3] == "FF" && f[7] == "FF" {
			d.Class = Network // most cards on USB are of no class but their own
		}
	}
	return true
}

func (d *Device) hid(s string) bool {
	f, ok := fields(s, "b", "g", "v", "p")
	if !ok {
		return false
	}
	d.Hardware = []string{`HID\VID_` + short(f[2], 4) + "&PID_" + short(f[3], 4)}
	d.Class = Input
	return true
}

// virtioClass is by the device ids of the virtio specification, 5.
func virtioClass(s string) Class {
	switch {
	case strings.HasPrefix(s, "d00000001"):
		return Network
	case strings.HasPrefix(s, "d00000002"), strings.HasPrefix(s, "d00000008"):
		return Storage
	case strings.HasPrefix(s, "d00000010"):
		return Display
	}
	return Other
}
