package agent

import (
	"encoding/binary"
	"os"
	"path/filepath"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
)

// sysfs makes a folder with these files; a name that ends in "->" is a link.
func sysfs(t *testing.T, files map[string]string) string {
	root := t.TempDir()
	for name, content := range files {
		path := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(content), 0o644))
	}
	return root
}

func TestDisksAreTheMachinesOwn(t *testing.T) {
	root := sysfs(t, map[string]string{
		"devices/pci0/virtio1/block/vda/size": "4096\n", "devices/pci0/virtio1/block/vda/serial": "VD-1\n", "devices/pci0/virtio1/vendor": "",
		"devices/pci0/nvme/nvme0/serial": "NV-1  \n", "devices/pci0/nvme/nvme0/model": "Brindle Stone\n",
		"devices/pci0/nvme/nvme0/nvme0n1/size": "8192\n", "devices/pci0/nvme/nvme0/nvme0n1/queue/logical_block_size": "4096\n",
		"devices/pci0/ata1/sda/size": "2048\n", "devices/pci0/ata1/vpd_pg80": "\x00\x80\x00\x08  SATA-1", "devices/pci0/ata1/model": "Alder Plate\n",
		"devices/pci0/usb1/sdb/size": "2048\n", "devices/pci0/usb1/model": "stick\n",
		"devices/pci0/ata2/sdc/size": "2048\n", "devices/pci0/ata2/sdc/removable": "1\n", "devices/pci0/ata2/model": "",
		"devices/virtual/loop0/size": "2048\n",
	})
	require.NoError(t, os.Mkdir(filepath.Join(root, "block"), 0o755))
	for name, at := range map[string][2]string{
		"vda": {"devices/pci0/virtio1/block/vda", "devices/pci0/virtio1"}, "nvme0n1": {"devices/pci0/nvme/nvme0/nvme0n1", "devices/pci0/nvme/nvme0"},
		"sda": {"devices/pci0/ata1/sda", "devices/pci0/ata1"}, "sdb": {"devices/pci0/usb1/sdb", "devices/pci0/usb1"}, "sdc": {"devices/pci0/ata2/sdc", "devices/pci0/ata2"},
		"loop0": {"devices/virtual/loop0", ""},
	} {
		require.NoError(t, os.Symlink(filepath.Join(root, at[0]), filepath.Join(root, "block", name)))
		if at[1] != "" {
			require.NoError(t, os.Symlink(filepath.Join(root, at[1]), filepath.Join(root, at[0], "device")))
		}
	}
	names, err := fixedDisks(root)
	require.NoError(t, err)
	assert.Equal(t, []string{"nvme0n1", "sda", "vda"}, names, "no stick, nothing removable, nothing virtual")
	assert.Equal(t, api.Disk{Serial: "VD-1", Size: 4096 * 512, SectorSize: 512}, describeDisk(root, "vda"))
	assert.Equal(t, api.Disk{Model: "Brindle Stone", Serial: "NV-1", Size: 8192 * 512, SectorSize: 4096}, describeDisk(root, "nvme0n1"))
	assert.Equal(t, api.Disk{Model: "Alder Plate", Serial: "SATA-1", Size: 2048 * 512, SectorSize: 512}, describeDisk(root, "sda"))
}

// option is a load option as firmware stores it.
func option(active bool, name string, path ...[]byte) []byte {
	b := []byte{0, 0, 0, 0}
	if active {
		b[0] = 1
	}
	var list []byte
	for _, p := range append(path, []byte{0x7f, 0xff}) {
		list = append(append(list, p[0], p[1]), byte(len(p)+2), 0)
		list = append(list, p[2:]...)
	}
	b = binary.LittleEndian.AppendUint16(b, uint16(len(list)))
	for _, u := range utf16.Encode([]rune(name + "\x00")) {
		b = binary.LittleEndian.AppendUint16(b, u)
	}
	return append(b, list...)
}

func TestWhichBootEntriesAreDisks(t *testing.T) {
	acpi, pci := []byte{2, 1, 0, 0}, []byte{1, 1, 0, 3}
	mac, usb, sata := append([]byte{3, 11}, make([]byte, 33)...), []byte{3, 5, 0, 0}, []byte{3, 18, 0, 0, 0, 0}
	partition, firmwareFile := append([]byte{4, 1}, make([]byte, 38)...), append([]byte{4, 6}, make([]byte, 16)...)
	for name, c := range map[string]struct {
		b    []byte
		want bool
	}{
		"a partition":    {option(true, "garden desk", partition), true},
		"a SATA disk":    {option(true, "UEFI disk", acpi, pci, sata), true},
		"a virtual disk": {option(true, "UEFI Misc Device", acpi, pci), true},
		"a network card": {option(true, "UEFI PXEv4", acpi, pci, mac), false},
		"a stick":        {option(true, "UEFI stick", acpi, pci, usb), false},
		"the setup":      {option(true, "UiApp", firmwareFile), false},
		"not active":     {option(false, "garden desk", partition), false},
		"nothing":        {nil, false},
	} {
		assert.Equal(t, c.want, startsDisk(c.b), name)
		for i := range c.b {
			startsDisk(c.b[:i]) // cut off anywhere, it does not fall
		}
	}
}
