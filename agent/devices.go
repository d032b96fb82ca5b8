package agent

import (
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"jugate/api"
	"jugate/core/driver"
)

// buses have devices that want drivers. USB has its interfaces there.
var buses = []string{"pci", "virtio", "usb", "hid", "acpi"}

// maxDevices bounds an inventory.
const maxDevices = 1024

// Devices lists what wants a driver, below /sys, with the module that has taken each.
func Devices(sys string) (all []api.Device) {
	var disks []string // their places among the devices
	names, _ := fixedDisks(sys)
	for _, name := range names {
		if place, err := filepath.EvalSymlinks(filepath.Join(sys, "block", name)); err == nil {
			disks = append(disks, place)
		}
	}
	for _, bus := range buses {
		found, _ := filepath.Glob(filepath.Join(sys, "bus", bus, "devices", "*"))
		for _, dir := range found {
			text, err := os.ReadFile(filepath.Join(dir, "modalias"))
			if err != nil || len(all) >= maxDevices {
				continue
			}
			d, err := driver.ParseModalias(strings.TrimSpace(string(text)))
			if err != nil || slices.ContainsFunc(all, func(o api.Device) bool { return o.ID == d.Modalias }) {
				continue
			}
			one := api.Device{ID: d.Modalias, Class: string(d.Class)}
			if rev, err := os.ReadFile(filepath.Join(dir, "revision")); err == nil {
				if n, err := strconv.ParseUint(strings.TrimPrefix(strings.TrimSpace(string(rev)), "0x"), 16, 8); err == nil {
					one.Rev = int(n)
				}
			}
			for _, link := range []string{"driver/module", "driver"} {
				if to, err := os.Readlink(filepath.Join(dir, link)); err == nil {
					one.Driver = filepath.Base(to)
					break
				}
			}
			if place, err := filepath.EvalSymlinks(dir); err == nil && one.Driver != "" && d.Class == driver.Storage {
				one.Empty = !slices.ContainsFunc(disks, func(disk string) bool { return strings.HasPrefix(disk, place+"/") })
			}
			all = append(all, one)
		}
	}
	return all
}
