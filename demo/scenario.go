package demo

import (
	"fmt"

	"jugate/core/hwaddr"
	"jugate/demo/golddisk"
	"jugate/demo/madeup"
)

// The made-up place: Fennholt Botanic Garden. Addresses are those that RFC 9542
// keeps for documentation.
const (
	imageName = "garden-desk"
	goldName  = "desk-gold"
	scanning  = "herbarium-scanning"
	seedBank  = "seed-bank-lab"
)

var groups = []string{scanning, seedBank, "visitor-kiosks"}

// machine is a workstation of the scenario.
type machine struct {
	name    string // that it is admitted under; empty for one that stays a newcomer
	address hwaddr.Address
	maker   string
	model   string
	memory  int64
	disk    int64   // bytes
	loss    float64 // share of packets
	group   string  // that it is admitted into
	devices []string
}

const goldSize = 192 * golddisk.MiB

// a310 are the devices of the model that the golden disk was made on.
var a310 = []string{madeup.AlderNetwork, madeup.AlderDisk}

func address(n int) hwaddr.Address { return hwaddr.Address{0x00, 0x00, 0x5e, 0x00, 0x53, byte(n)} }

// cast are the blank workstations: the herbarium scanning room, whose fifth has
// a bad cable and whose last two have larger disks, two of the seed bank lab, which are
// of a model that no driver is there for and have room for people's files, and three visitor kiosks that nobody has
// admitted yet.
func cast(loss float64) []machine {
	var all []machine
	for n := 1; n <= 8; n++ {
		m := machine{name: fmt.Sprintf("herb-%02d", n), address: address(0x10 + n), maker: "Alder Works", model: "A310", memory: 8 << 30, disk: goldSize, loss: loss,
			group: scanning, devices: a310}
		if n == 5 {
			m.loss = max(loss, 0.03)
		}
		if n > 6 {
			m.disk = 256 * golddisk.MiB
		}
		all = append(all, m)
	}
	for n := 1; n <= 2; n++ {
		all = append(all, machine{name: fmt.Sprintf("seed-%02d", n), address: address(0x20 + n), maker: "Alder Works", model: "A520", memory: 16 << 30, disk: 256 * golddisk.MiB, loss: loss,
			group: seedBank, devices: []string{madeup.AlderNetwork, madeup.CorvidDisk, madeup.WrenSound}})
	}
	for n := 1; n <= 3; n++ {
		all = append(all, machine{address: address(0x30 + n), maker: "Brindle", model: "Mini 2", memory: 4 << 30, disk: 48 * golddisk.MiB, devices: []string{madeup.BrindleNetwork, madeup.AlderDisk}})
	}
	return all
}
