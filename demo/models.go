package demo

import "jugate/api"

// models are what the desk knows of its machines.
var models = []api.NewModel{
	{Model: "Alder Works A310", BootKey: "F12", SetupKey: "F2", Firmware: "1.14.2", Settings: map[string]string{"Secure Boot": "Enabled"}, Note: "Press the key as soon as the leaf is seen; it takes it for about a second."},
	{Model: "Alder Works A520", BootKey: "F12", SetupKey: "F2", Firmware: "2.03.0"},
	{Model: "Brindle Mini 2", BootKey: "Esc, then 4", SetupKey: "Del", Adapter: "USB-C adapter, in the port nearer to the power"},
}

// firmware is what the firmware of a machine tells of itself: that of one in the scanning room is behind.
func (m machine) firmware(inv *api.Inventory) {
	switch m.model {
	case "A310":
		inv.FirmwareVersion, inv.Settings = "1.14.2", map[string]string{"Secure Boot": "Enabled"}
		if m.name == "herb-07" {
			inv.FirmwareVersion, inv.Settings = "1.09.0", map[string]string{"Secure Boot": "Disabled"}
		}
	case "A520":
		inv.FirmwareVersion = "2.03.0"
	}
}
