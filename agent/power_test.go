package agent

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// sysTree is a folder as the kernel shows devices.
func sysTree(t *testing.T, files map[string]string) string {
	t.Helper()
	root := t.TempDir()
	for name, text := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(text+"\n"), 0o644))
	}
	return root
}

func TestPowerIsReadAsTheKernelTellsIt(t *testing.T) {
	yes, no, n := true, false, func(i int) *int { return &i }
	for name, c := range map[string]struct {
		files   map[string]string
		mains   *bool
		battery *int
	}{
		"a desktop":           {nil, nil, nil},
		"a laptop, plugged":   {map[string]string{"AC/type": "Mains", "AC/online": "1", "BAT0/type": "Battery", "BAT0/capacity": "84"}, &yes, n(84)},
		"a laptop, unplugged": {map[string]string{"AC/type": "Mains", "AC/online": "0", "BAT0/type": "Battery", "BAT0/capacity": "12"}, &no, n(12)},
		"by one of two plugs": {map[string]string{"AC/type": "Mains", "AC/online": "0", "usb/type": "USB", "usb/online": "1"}, &yes, nil},
		"two batteries":       {map[string]string{"BAT0/type": "Battery", "BAT0/capacity": "100", "BAT1/type": "Battery", "BAT1/capacity": "50"}, nil, n(75)},
		"that of a mouse":     {map[string]string{"hid/type": "Battery", "hid/scope": "Device", "hid/capacity": "3"}, nil, nil},
		"nonsense":            {map[string]string{"BAT0/type": "Battery", "BAT0/capacity": "many", "BAT1/type": "Battery", "BAT1/capacity": "900"}, nil, nil},
	} {
		t.Run(name, func(t *testing.T) {
			files := map[string]string{}
			for path, text := range c.files {
				files["class/power_supply/"+path] = text
			}
			mains, battery := power(sysTree(t, files))
			assert.Equal(t, c.mains, mains)
			assert.Equal(t, c.battery, battery)
		})
	}
}

func TestFirmwareSettingsAreReadByName(t *testing.T) {
	const at = "class/firmware-attributes/alder/attributes/"
	assert.Equal(t, map[string]string{"SecureBoot": "Enabled", "Wake on LAN": "LAN only"}, firmwareSettings(sysTree(t, map[string]string{
		at + "SecureBoot/current_value": "Enabled", at + "SecureBoot/type": "enumeration", at + "Wake on LAN/current_value": "LAN only",
		at + "pending_reboot": "0", at + "Motto/current_value": strings.Repeat("x", 201), at + "Odd/current_value": "\xff",
	})))
	assert.Empty(t, firmwareSettings(t.TempDir()))
}
