package agent

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
)

// The devices of a made-up /sys, as the kernel lays it out.
func TestDevices(t *testing.T) {
	sys := t.TempDir()
	device := func(path string, files map[string]string, module string) {
		dir := filepath.Join(sys, "bus", path)
		require.NoError(t, os.MkdirAll(dir, 0o755))
		for name, content := range files {
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(content+"\n"), 0o644))
		}
		if module != "" {
			driver := filepath.Join(sys, "drivers", module)
			require.NoError(t, os.MkdirAll(driver, 0o755))
			require.NoError(t, os.MkdirAll(filepath.Join(sys, "module", module), 0o755))
			os.Symlink(filepath.Join(sys, "module", module), filepath.Join(driver, "module"))
			require.NoError(t, os.Symlink(driver, filepath.Join(dir, "driver")))
		}
	}
	const card, disk = "pci:v0000FE01d00001000sv0000FE01sd00000001bc02sc00i00", "pci:v0000FE03d00003000sv0000FE01sd00000520bc01sc04i00"
	device("pci/devices/0000:00:03.0", map[string]string{"modalias": card, "revision": "0x31"}, "aldernet")
	device("pci/devices/0000:00:04.0", map[string]string{"modalias": disk, "revision": "nonsense"}, "")
	device("pci/devices/0000:00:05.0", map[string]string{"modalias": disk}, "") // the same twice is one
	device("usb/devices/1-1:1.0", map[string]string{"modalias": "usb:v0BDAp8153d3100dc00dsc00dp00icFFiscFFip00in00"}, "")
	device("acpi/devices/PNP0A08:00", map[string]string{"modalias": "acpi:PNP0A08:PNP0A03:"}, "")
	device("hid/devices/0003:046D:C52B.0001", map[string]string{"modalias": "hid:b0003g0001v0000046Dp0000C52B"}, "hid_generic")
	device("pci/devices/0000:00:06.0", map[string]string{"modalias": "what?"}, "")
	device("pci/devices/0000:00:07.0", nil, "")

	// Controllers that work: a disk hangs on one of them.
	const used, empty = "pci:v0000FE01d00002000sv0000FE01sd00000001bc01sc06i01", "pci:v0000FE01d00002001sv0000FE01sd00000001bc01sc06i01"
	device("pci/devices/0000:00:08.0", map[string]string{"modalias": used}, "alderdisk")
	device("pci/devices/0000:00:09.0", map[string]string{"modalias": empty}, "alderdisk2")
	block := filepath.Join(sys, "bus/pci/devices/0000:00:08.0/ata1/block/sda")
	require.NoError(t, os.MkdirAll(filepath.Join(block, "device"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(block, "size"), []byte("4096\n"), 0o644))
	require.NoError(t, os.MkdirAll(filepath.Join(sys, "block"), 0o755))
	require.NoError(t, os.Symlink(block, filepath.Join(sys, "block/sda")))
	assert.Equal(t, []api.Device{
		{ID: card, Class: "network", Rev: 0x31, Driver: "aldernet"}, {ID: disk, Class: "storage"},
		{ID: used, Class: "storage", Driver: "alderdisk"}, {ID: empty, Class: "storage", Driver: "alderdisk2", Empty: true},
		{ID: "usb:v0BDAp8153d3100dc00dsc00dp00icFFiscFFip00in00", Class: "other"},
		{ID: "hid:b0003g0001v0000046Dp0000C52B", Class: "input", Driver: "hid_generic"}, {ID: "acpi:PNP0A08:PNP0A03:", Class: "board"},
	}, Devices(sys))
	assert.Empty(t, Devices(t.TempDir()))
}
