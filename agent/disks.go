package agent

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"jugate/api"
	"jugate/core/disk"
)

// kernelSector is the unit of the kernel's sizes, whatever the disk's sectors are.
const kernelSector = 512

// fixedDisks are the names of the disks that belong to the machine, in order: with a
// device behind them, and neither removable nor on USB. The stick that a machine was
// started from is not one of them.
func fixedDisks(sys string) (names []string, err error) {
	entries, err := os.ReadDir(filepath.Join(sys, "block"))
	if err != nil {
		return nil, fmt.Errorf("list the disks: %w", err)
	}
	for _, e := range entries {
		dir := filepath.Join(sys, "block", e.Name())
		device, err := filepath.EvalSymlinks(filepath.Join(dir, "device"))
		if err != nil || strings.Contains(device, "/usb") || readSys(dir, "removable") == "1" || readSys(dir, "size") == "0" || strings.HasPrefix(e.Name(), "sr") {
			continue
		}
		names = append(names, e.Name())
	}
	slices.Sort(names)
	return names, nil
}

// describeDisk reads what the kernel knows of a disk. Its serial number is where its
// kind of disk has it: beside the size, with the device, or in the page 80h of vital
// product data (SCSI primary commands).
func describeDisk(sys, name string) api.Disk {
	dir := filepath.Join(sys, "block", name)
	d := api.Disk{Model: known(readSys(dir, "device/model")), Serial: readSys(dir, "serial"), SectorSize: 512}
	if d.Serial == "" {
		d.Serial = readSys(dir, "device/serial")
	}
	if page, err := os.ReadFile(filepath.Join(dir, "device/vpd_pg80")); d.Serial == "" && err == nil && len(page) > 4 {
		d.Serial = strings.TrimSpace(strings.Trim(string(page[4:]), "\x00"))
	}
	d.Serial = known(d.Serial)
	if n, err := strconv.ParseInt(readSys(dir, "size"), 10, 64); err == nil {
		d.Size = n * kernelSector
	}
	if n, err := strconv.Atoi(readSys(dir, "queue/logical_block_size")); err == nil {
		d.SectorSize = n
	}
	d.Health, _ = disk.Health(filepath.Join("/dev", name)) // virtual disks and others do not tell
	return d
}

func readSys(dir, name string) string {
	text, _ := os.ReadFile(filepath.Join(dir, name))
	return strings.TrimSpace(string(text))
}
