package partition_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"jugate/core/partition"
)

func TestWhichFirmwareStartsADisk(t *testing.T) {
	gpt := func(parts ...partition.Partition) *partition.Table {
		return &partition.Table{Scheme: partition.GPT, Partitions: parts}
	}
	mbr := func(code []byte, parts ...partition.Partition) *partition.Table {
		return &partition.Table{Scheme: partition.MBR, BootCode: code, Partitions: parts}
	}
	esp, bios := partition.Partition{Type: partition.EFISystem}, partition.Partition{Type: partition.BIOSBoot}
	for name, c := range map[string]struct {
		table *partition.Table
		want  []partition.Firmware
	}{
		"EFI system partition":              {gpt(esp), []partition.Firmware{partition.UEFI}},
		"partition for a BIOS boot loader":  {gpt(bios), []partition.Firmware{partition.BIOS}},
		"both":                              {gpt(bios, esp), []partition.Firmware{partition.UEFI, partition.BIOS}},
		"a partition that BIOS code starts": {gpt(partition.Partition{Attributes: 4}), []partition.Firmware{partition.BIOS}},
		"GPT with data alone":               {gpt(partition.Partition{}), nil},
		"MBR with an active partition":      {mbr(nil, partition.Partition{Code: 7, Active: true}), []partition.Firmware{partition.BIOS}},
		"MBR with boot code":                {mbr([]byte{0xfa}, partition.Partition{Code: 0x83}), []partition.Firmware{partition.BIOS}},
		"MBR with an EFI system partition":  {mbr(nil, partition.Partition{Code: 0xef}), []partition.Firmware{partition.UEFI}},
		"MBR with data alone":               {mbr(nil, partition.Partition{Code: 7}), nil},
		"a disk without a table":            {&partition.Table{Scheme: partition.None}, nil},
	} {
		assert.Equal(t, c.want, c.table.StartsBy(), name)
	}
}
