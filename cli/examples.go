package cli

import (
	"strings"

	"github.com/spf13/cobra"
)

// examples are how commands are called, a line each; those of some commands stand with them.
// The test of the help reads every one as the command does.
var examples = map[string]string{
	"capture":             "capture desk-gold --as garden-desk --note \"spring drivers\"",
	"delivery extend":     "delivery extend 7 --to seed-bank-lab",
	"delivery pause":      "delivery pause 7",
	"delivery rate":       "delivery rate 7 200Mbit",
	"delivery resume":     "delivery resume 7",
	"delivery show":       "delivery show 7",
	"delivery stop":       "delivery stop 7",
	"delivery watch":      "delivery watch 7",
	"demo":                "demo\ndemo --once",
	"disk compare":        "disk compare before.img after.img --exit-code",
	"disk survey":         "disk survey /dev/sdb\ndisk survey desk.qcow2 --exit-code",
	"disk unpack":         "disk unpack garden-desk.jugate --onto /dev/sdb --grow last",
	"driver add":          "driver add ./drivers network-drivers.zip",
	"driver coverage":     "driver coverage --group herbarium --image garden-desk --exit-code",
	"driver explain":      "driver explain seed-01 --device 8086:15b8",
	"driver install":      "driver install --to seed-bank-lab",
	"driver remove":       "driver remove a82e85ad3343",
	"driver set list":     "driver set list",
	"driver set remove":   "driver set remove alder",
	"driver set save":     "driver set save alder --for windows --rule 'provider=Alder*,class=network'",
	"driver set try":      "driver set try alder --model 'Alder Works A520'",
	"driver show":         "driver show aldernet",
	"environment build":   "environment build --offer --note \"new kernel\"\nenvironment build --cover 'Alder Works A520' --offer",
	"environment diff":    "environment diff 3\nenvironment diff 2 3",
	"environment offer":   "environment offer 3",
	"environment pin":     "environment pin herb-03 2\nenvironment pin herbarium 0 --group",
	"environment show":    "environment show\nenvironment show 3 --files",
	"group add":           "group add herbarium",
	"group exclude":       "group exclude herbarium herb-03",
	"group include":       "group include herbarium herb-01 herb-02",
	"group menu":          "group menu herbarium 5\ngroup menu herbarium 0",
	"group remove":        "group remove herbarium",
	"image import":        "image import desk.qcow2 --as garden-desk\nimage import garden-desk.jugate --as garden-desk",
	"image list":          "image list\nimage list garden-desk",
	"image note":          "image note garden-desk@3 \"with the new labels\"",
	"image prune":         "image prune --dry-run\nimage prune",
	"image readmit":       "image readmit garden-desk@2",
	"image recipients":    "image recipients garden-desk\nimage recipients garden-desk --group herbarium --model 'Alder Works A310'",
	"image settle":        "image settle garden-desk@3",
	"image rename":        "image rename garden-desk herbarium-desk",
	"image rescan":        "image rescan",
	"image retire":        "image retire garden-desk@2",
	"image show":          "image show garden-desk@3",
	"image verify":        "image verify garden-desk@3",
	"netboot advice":      "netboot advice",
	"netboot code":        "netboot code --hours 4",
	"netboot status":      "netboot status\nnetboot status herb-03",
	"receipt check":       "receipt check",
	"serve":               "serve --data /var/lib/jugate\nserve --data /var/lib/jugate --listen 192.0.2.1:7460 --netboot eth1=beside",
	"simulate":            "simulate --address 00:00:5e:00:53:01 --disk gold.img",
	"wire receive":        "wire receive --from 233.252.0.1:6003 --interface eth1 --into ./received",
	"wire send":           "wire send file.iso --to 233.252.0.1:6003 --interface eth1",
	"workstation address": "workstation address herb-03 192.0.2.33\nworkstation address herb-03",
	"workstation admit":   "workstation admit 00:00:5e:00:53:11 herb-01 --group herbarium",
	"workstation retire":  "workstation retire herb-03",
	"workstation show":    "workstation show herb-03\nworkstation show 00-00-5E-00-53-13",
	"workstation wake":    "workstation wake herbarium herb-09",

	"workstation power-off": "workstation power-off herbarium --warn 15m --why 'The garden closes.'",
	"workstation restart":   "workstation restart herbarium --warn 10m --why 'The room gets its new image.'\nworkstation restart herbarium --withdraw",
}

// addExamples gives commands their examples.
func addExamples(root *cobra.Command) {
	for path, lines := range examples {
		cmd, _, err := root.Find(strings.Fields(path))
		if err != nil || cmd.Example != "" {
			continue
		}
		var all []string
		for line := range strings.Lines(lines) {
			all = append(all, "  jugate "+strings.TrimSpace(line))
		}
		cmd.Example = strings.Join(all, "\n")
	}
}
