package answers

import (
	"bytes"
	"encoding/json"
	"fmt"
	"path"
)

// Names of what a first start runs, and of what it leaves behind: nothing but the log.
const (
	firstStartUnit   = "etc/systemd/system/jugate-first-start.service"
	firstStartScript = "var/lib/jugate/first-start"
)

// firstStart has commands run once, at the first start.
func (f *files) firstStart(commands []string) {
	const why = "commands"
	if !f.has("etc/systemd/system") {
		f.remark("the system is not started by systemd, so its first commands cannot be run")
		return
	}
	var script bytes.Buffer
	script.WriteString("#!/bin/sh\n# Runs once, at the first start; written when the image was delivered.\n")
	for i, c := range commands {
		fmt.Fprintf(&script, "%s\n[ $? = 0 ] || echo 'command %d of the answers has failed' >&2\n", c, i+1)
	}
	fmt.Fprintf(&script, "rm -f /%s /%s /%s/%s\n", firstStartScript, firstStartUnit, wants, path.Base(firstStartUnit))
	f.folder(path.Dir(firstStartScript), why, 0o755, 0, 0)
	f.write(firstStartScript, why, 0o700, script.Bytes()).Secret = true // commands may have what others need not read
	f.write(firstStartUnit, why, 0o644, []byte("[Unit]\nDescription=First start of this workstation\nWants=network-online.target\nAfter=network-online.target\nConditionPathExists=/"+firstStartScript+
		"\n\n[Service]\nType=oneshot\nExecStart=/"+firstStartScript+"\nStandardOutput=journal+console\n\n[Install]\nWantedBy=multi-user.target\n"))
	f.folder(wants, why, 0o755, 0, 0)
	f.link(wants+"/"+path.Base(firstStartUnit), "/"+firstStartUnit, why)
}

// Names of what reports the first start. The program removes all of them.
const (
	arrivalUnit    = "etc/systemd/system/jugate-arrival.service"
	arrivalProgram = "var/lib/jugate/arrive"
	ArrivalConfig  = "var/lib/jugate/arrival.json"
	// HelperKey is the key of what stays as a helper; the system makes it.
	HelperKey = "var/lib/jugate/helper.key"
)

// ArrivalFiles report a first start; the report removes them.
var ArrivalFiles = []string{wants + "/" + path.Base(arrivalUnit), arrivalUnit, ArrivalConfig, arrivalProgram}

// Arrival says where a copy reports its first start, and with what. Its JSON is what Program reads.
type Arrival struct {
	Program     []byte `json:"-"` // of Linux: "PROGRAM arrive CONFIG" reports, and removes what is written here
	Service     string `json:"service"`
	Certificate string `json:"certificate,omitempty"` // PEM: whose service is trusted, and no other
	Token       string `json:"token,omitempty"`       // until it has arrived
	// Helper says that Program stays and takes two commands; otherwise it removes itself.
	Helper bool `json:"helper,omitempty"`
}

// arrival has the system report its first start.
func (f *files) arrival(a *Arrival) {
	const why = "its arrival"
	if !f.has("etc/systemd/system") {
		f.remark("the system is not started by systemd, so it cannot tell when it arrives")
		return
	}
	f.folder(path.Dir(arrivalProgram), why, 0o755, 0, 0)
	f.write(arrivalProgram, why, 0o700, a.Program).Secret = true // is no text
	config, _ := json.Marshal(a)                                 // texts alone
	f.write(ArrivalConfig, why, 0o600, config).Secret = true
	description, restart := "Tell that this workstation has arrived", ""
	if a.Helper {
		description, restart = "Tell that this workstation has arrived, and help its service", "Restart=on-failure\nRestartSec=60\n"
	}
	f.write(arrivalUnit, why, 0o644, []byte("[Unit]\nDescription="+description+"\nWants=network-online.target\nAfter=network-online.target "+path.Base(firstStartUnit)+
		"\nConditionPathExists=/"+ArrivalConfig+"\n\n[Service]\nType=exec\nExecStart=/"+arrivalProgram+" arrive /"+ArrivalConfig+"\n"+restart+"\n[Install]\nWantedBy=multi-user.target\n"))
	f.folder(wants, why, 0o755, 0, 0)
	f.link(ArrivalFiles[0], "/"+arrivalUnit, why)
}
