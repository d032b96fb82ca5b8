package setup

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"jugate/core/netboot"
)

// Port is the port that a service is reached by.
const Port = 7460

// DataFolder is where packages have the service keep what it has.
const DataFolder = "/var/lib/jugate"

// Answers are what is asked of somebody who sets a service up.
type Answers struct {
	// Interface is the one that workstations are reached by.
	Interface string `yaml:"interface"`
	// Mode is how it answers network boot: beside another server, whole, or off.
	Mode netboot.Mode `yaml:"mode"`
	// Pool are the addresses that mode whole gives; see netboot.ParsePool.
	Pool string `yaml:"pool"`
	// Data is where images and records lie.
	Data string `yaml:"data"`
	// Names are DNS names of the service.
	Names []string `yaml:"names"`
	// Person is the first administrator, who signs in with the password in PasswordFile, or with one that was asked for.
	Person       string `yaml:"person"`
	FullName     string `yaml:"full_name"`
	PasswordFile string `yaml:"password_file"`
	Password     string `yaml:"-"`
}

// Read reads answers from a file, and the password from the file that it names. A key that is unknown is an error.
func Read(path string) (*Answers, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	a := &Answers{}
	d := yaml.NewDecoder(bytes.NewReader(text))
	d.KnownFields(true)
	if err := d.Decode(a); err != nil {
		return nil, fmt.Errorf("read the answers in %s: %w", path, err)
	}
	if a.PasswordFile != "" {
		secret, err := os.ReadFile(a.PasswordFile)
		if err != nil {
			return nil, fmt.Errorf("the password of %s: %w", a.Person, err)
		}
		a.Password = strings.TrimSpace(string(secret))
	}
	return a, nil
}

// Fill answers by itself what has not been answered, as far as there is just one answer that makes sense.
func (a *Answers) Fill(interfaces []Interface) {
	if a.Data == "" {
		a.Data = DataFolder
	}
	if a.Mode == "" {
		a.Mode = netboot.Beside
	}
	if a.Interface == "" {
		if usable := usable(interfaces); len(usable) == 1 {
			a.Interface = usable[0].Name
		}
	}
	if a.Mode == netboot.Whole && a.Pool == "" {
		if own, ok := a.own(interfaces); ok {
			a.Pool = suggestPool(own)
		}
	}
}

// usable are the interfaces that have an address by which workstations could reach the service.
func usable(interfaces []Interface) (all []Interface) {
	for _, i := range interfaces {
		if i.Up && slices.ContainsFunc(i.Addresses, func(p netip.Prefix) bool { return !p.Addr().IsLinkLocalUnicast() }) {
			all = append(all, i)
		}
	}
	return all
}

// own is the address of the interface that was chosen, with its subnet.
func (a *Answers) own(interfaces []Interface) (netip.Prefix, bool) {
	for _, i := range interfaces {
		if i.Name == a.Interface && len(i.Addresses) > 0 {
			return i.Addresses[0], true
		}
	}
	return netip.Prefix{}, false
}

// suggestPool is the upper half of a subnet, up to 100 addresses; empty if it is too small for that.
func suggestPool(own netip.Prefix) string {
	bits := own.Bits()
	if !own.Addr().Is4() || bits > 28 || bits < 8 {
		return ""
	}
	base := own.Masked().Addr().As4()
	n := binary.BigEndian.Uint32(base[:])
	size := uint32(1) << (32 - bits)
	first, last := n+size/2, n+size/2+min(size/2-2, 99)
	at := func(n uint32) netip.Addr {
		return netip.AddrFrom4([4]byte(binary.BigEndian.AppendUint32(nil, n)))
	}
	return fmt.Sprintf("%s-%s/%d", at(first), at(last), bits)
}
