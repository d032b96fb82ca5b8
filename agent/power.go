package agent

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"unicode/utf8"
)

// power tells whether the machine is fed from the mains, and how full its battery is in per
// cent (the kernel's class power_supply); nil for what it does not say.
func power(sys string) (mains *bool, battery *int) {
	supplies, _ := filepath.Glob(filepath.Join(sys, "class/power_supply/*"))
	full, now := 0, 0
	for _, dir := range supplies {
		read := func(name string) string {
			text, _ := os.ReadFile(filepath.Join(dir, name))
			return strings.TrimSpace(string(text))
		}
		if read("scope") == "Device" { // of a mouse, not of the machine
			continue
		}
		switch read("type") {
		case "Mains", "USB":
			on := read("online") != "" && read("online") != "0"
			if mains == nil || on {
				mains = &on
			}
		case "Battery":
			if n, err := strconv.Atoi(read("capacity")); err == nil && n >= 0 && n <= 100 {
				full, now = full+100, now+n
			}
		}
	}
	if full > 0 {
		percent := now * 100 / full
		battery = &percent
	}
	return mains, battery
}

// Bounds of what is told of a firmware's settings.
const (
	settingsAtMost = 500
	settingAtMost  = 200 // bytes, of a name and of a value
)

// firmwareSettings are the settings of the firmware by their names, as far as the kernel has
// a driver for it (its class firmware-attributes).
func firmwareSettings(sys string) map[string]string {
	attributes, _ := filepath.Glob(filepath.Join(sys, "class/firmware-attributes/*/attributes/*"))
	all := map[string]string{}
	for _, dir := range attributes {
		value, err := os.ReadFile(filepath.Join(dir, "current_value"))
		name, text := filepath.Base(dir), strings.TrimSpace(string(value))
		if err != nil || len(name) > settingAtMost || len(text) > settingAtMost || !utf8.ValidString(name+text) {
			continue
		}
		if all[name] = text; len(all) == settingsAtMost {
			break
		}
	}
	return all
}
