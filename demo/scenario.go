package demo

import (
	"fmt"

	"jugate/core/hwaddr"
	"jugate/demo/golddisk"
)

// The made-up place: Fennholt Botanic Garden. Addresses are those that RFC 9542
// keeps for documentation.
const (
	imageName = "garden-desk"
	goldName  = "desk-gold"
	scanning  = "herbarium-scanning"
)

var groups = []string{scanning, "seed-bank-lab", "visitor-kiosks"}

// machine is a workstation of the scenario.
type machine struct {
	name    string // that it is admitted under; empty for one that stays a newcomer
	address hwaddr.Address
	maker   string
	model   string
	memory  int64
	disk    int64   // bytes
	loss    float64 // share of packets
}

const goldSize = 192 * golddisk.MiB

func address(n int) hwaddr.Address { return hwaddr.Address{0x00, 0x00, 0x5e, 0x00, 0x53, byte(n)} }

// cast are the blank workstations: the herbarium scanning room, whose fifth has
// a bad cable and whose last two have larger disks, and three visitor kiosks
// that nobody has admitted yet.
func cast(loss float64) []machine {
	var all []machine
	for n := 1; n <= 8; n++ {
		m := machine{name: fmt.Sprintf("herb-%02d", n), address: address(0x10 + n), maker: "Alder Works", model: "A310", memory: 8 << 30, disk: goldSize, loss: loss}
		if n == 5 {
			m.loss = max(loss, 0.03)
		}
		if n > 6 {
			m.disk = 256 * golddisk.MiB
		}
		all = append(all, m)
	}
	for n := 1; n <= 3; n++ {
		all = append(all, machine{address: address(0x30 + n), maker: "Brindle", model: "Mini 2", memory: 4 << 30, disk: 48 * golddisk.MiB})
	}
	return all
}
