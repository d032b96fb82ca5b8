package agent

import (
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"jugate/api"
	"jugate/core/check"
	"jugate/core/disk"
	"jugate/core/hwaddr"
	"jugate/wire"
)

// Hardware is the machine the process runs on, as Linux describes it.
type Hardware struct {
	// Interface is the network interface for multicast; empty leaves the choice
	// to the system's routes.
	Interface string
}

// Inventory reads the machine's identity, memory, disks and network cards.
// Parts that cannot be read stay empty, but for the network cards.
func (h Hardware) Inventory() (api.Inventory, error) {
	inv := api.Inventory{Disks: []api.Disk{}, Cards: []api.Card{}}
	const sys = "/sys"
	inv.Maker, inv.Model = product(sys, "sys_vendor"), product(sys, "product_name")
	inv.Serial, inv.UUID = product(sys, "product_serial"), product(sys, "product_uuid")
	inv.Memory = memory(sys)
	disks, err := fixedDisks("/sys")
	if err != nil {
		return inv, err
	}
	for _, name := range disks {
		inv.Disks = append(inv.Disks, describeDisk("/sys", name))
	}
	inv.Firmware, inv.SecureBoot = firmware()
	inv.FirmwareVersion, inv.Settings = product(sys, "bios_version"), firmwareSettings(sys)
	inv.Mains, inv.Battery = power(sys)
	inv.Devices = Devices("/sys")
	inv.Cards, err = cards()
	return inv, err
}

// OpenDisk opens a disk by its place in the inventory.
func (h Hardware) OpenDisk(i int) (Disk, error) {
	path, err := diskAt(i)
	if err != nil {
		return nil, err
	}
	d, err := disk.Open(path, disk.Options{Write: true})
	if err != nil {
		return nil, err
	}
	return hardwareDisk{d}, nil
}

// diskAt is the device of a disk, by its place in the inventory.
func diskAt(i int) (string, error) {
	disks, err := fixedDisks("/sys")
	if err != nil {
		return "", err
	}
	if i < 0 || i >= len(disks) {
		return "", fmt.Errorf("disk %d was removed since the inventory was taken", i+1)
	}
	return filepath.Join("/dev", disks[i]), nil
}

// Listen joins a group on the machine's interface.
func (h Hardware) Listen(group netip.AddrPort) (PacketReader, error) {
	return wire.Listen(wire.Config{Group: group, Interface: h.Interface})
}

// FreeMemory is all free memory.
func (Hardware) FreeMemory() (check.Memory, error) { return &freeMemory{}, nil }

// Vitals asks a disk, by its place in the inventory.
func (Hardware) Vitals(i int) (*disk.Vitals, error) {
	path, err := diskAt(i)
	if err != nil {
		return nil, err
	}
	return disk.ReadVitals(path)
}

// LinkRate is that of the fastest link that is up.
func (Hardware) LinkRate() (most int64) {
	interfaces, _ := net.Interfaces()
	for _, i := range interfaces {
		dir := filepath.Join("/sys/class/net", i.Name)
		if _, err := os.Stat(filepath.Join(dir, "device")); err != nil || readSys(dir, "operstate") != "up" {
			continue
		}
		if n, err := strconv.ParseInt(readSys(dir, "speed"), 10, 64); err == nil { // Mbit/s, or -1
			most = max(most, n*1e6)
		}
	}
	return most
}

// Program is this very program, which needs nothing of the system that it runs in.
func (Hardware) Program() ([]byte, error) { return os.ReadFile("/proc/self/exe") }

// Leave restarts the machine or switches it off.
func (h Hardware) Leave(how string) error {
	unix.Sync()
	if how == "network" {
		if err := nextBootFromNetwork(); err != nil {
			slog.Warn("the firmware was not told to start from the network next; it does so if that is its first way", "error", err)
		}
	} else if err := nextBootFromDisk(); err != nil {
		slog.Warn("the firmware was not told to start from the disk next", "error", err) // network boot sends it there
	}
	if how != "power-off" {
		return unix.Reboot(unix.LINUX_REBOOT_CMD_RESTART)
	}
	return unix.Reboot(unix.LINUX_REBOOT_CMD_POWER_OFF)
}

// cards are the interfaces with a device behind them and a hardware address.
func cards() ([]api.Card, error) {
	interfaces, err := net.Interfaces()
	if err != nil {
		return nil, fmt.Errorf("list the network cards: %w", err)
	}
	all := []api.Card{}
	for _, i := range interfaces {
		device := filepath.Join("/sys/class/net", i.Name, "device")
		if _, err := os.Stat(device); err != nil {
			continue // a bridge, a tunnel, the loopback
		}
		a, err := hwaddr.Parse(i.HardwareAddr.String())
		if err != nil {
			continue
		}
		driver, _ := filepath.EvalSymlinks(filepath.Join(device, "driver"))
		all = append(all, api.Card{Address: a.String(), Model: filepath.Base(driver), Adapter: pluggedIn(device)})
	}
	return all, nil
}

// pluggedIn tells whether a device is behind USB, or in a box behind Thunderbolt, where
// the kernel calls the ports on the way external: other machines may show it, too.
func pluggedIn(device string) bool {
	path, err := filepath.EvalSymlinks(device)
	if err != nil {
		return false
	}
	for dir := path; strings.Contains(dir, "/devices/"); dir = filepath.Dir(dir) {
		if strings.HasPrefix(filepath.Base(dir), "usb") {
			return true
		}
		if removable, err := os.ReadFile(filepath.Join(dir, "removable")); err == nil && strings.TrimSpace(string(removable)) == "removable" {
			return true
		}
	}
	return false
}

// known drops what firmware writes when it has nothing to say.
func known(s string) string {
	s = strings.TrimSpace(s)
	if strings.EqualFold(s, "unknown") || strings.EqualFold(s, "none") || strings.HasPrefix(s, "To be filled") {
		return ""
	}
	return s
}
