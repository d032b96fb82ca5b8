package records

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"jugate/api"
)

func TestWhatAMachineHasOtherwiseIsToldInWords(t *testing.T) {
	before := api.Inventory{Maker: "Alder Works", Model: "A310", Memory: 8 << 30, Firmware: "UEFI", FirmwareVersion: "1.09.0", Settings: map[string]string{"Secure Boot": "Disabled", "Wake on LAN": "Enabled"},
		Disks: []api.Disk{{Model: "Fern 240", Serial: "F-1", Size: 240e9, Health: "good"}, {Model: "Moss 1T", Serial: "M-1", Size: 1e12, Health: "good"}},
		Cards: []api.Card{{Address: "00:00:5e:00:53:11", Model: "on board"}}}
	assert.Empty(t, differences(before, before))
	after := before
	after.Memory, after.FirmwareVersion = 16<<30, "1.14.2"
	after.Settings = map[string]string{"Secure Boot": "Enabled"}
	after.Disks = []api.Disk{{Model: "Fern 240", Serial: "F-1", Size: 240e9, Health: "12 sectors wait to be replaced"}, {Model: "Moss 1T", Serial: "M-2", Size: 1e12, Health: "good"}}
	after.Cards = append(after.Cards, api.Card{Address: "00:00:5e:00:53:aa", Model: "USB adapter", Adapter: true})
	battery, mains := 40, true
	after.Battery, after.Mains = &battery, &mains
	assert.Equal(t, []string{
		"memory: 16 GiB, and 8.0 GiB before",
		"version of the firmware: 1.14.2, and 1.09.0 before",
		"setting Secure Boot: Enabled, and Disabled before",
		"disk gone: Moss 1T, 931 GiB, serial number M-1",
		"disk new: Moss 1T, 931 GiB, serial number M-2",
		"network card new: 00:00:5e:00:53:aa USB adapter",
		"health of the disk F-1: 12 sectors wait to be replaced, and good before",
	}, differences(before, after))
	assert.Empty(t, differences(api.Inventory{}, api.Inventory{Maker: "Alder Works", Firmware: "UEFI", Memory: 1}), "what was not told before is not other now")
	assert.NotEmpty(t, differences(api.Inventory{Memory: -1}, after), "nor does nonsense matter")
}
