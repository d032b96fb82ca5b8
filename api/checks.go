package api

import (
	"time"

	"jugate/core/check"
	"jugate/core/disk"
	"jugate/core/wipe"
)

// CheckOptions say what of a machine is checked.
type CheckOptions struct {
	Memory   string `json:"memory_walk,omitempty" enum:"none,quick,full" default:"none" doc:"Walk patterns over all free memory: two of them, or six"`
	Surface  string `json:"surface,omitempty" enum:"none,sample,whole" default:"none" doc:"Read the disk: some of each stretch, or all of it"`
	Health   bool   `json:"health_too,omitempty" doc:"Ask the disk how it is"`
	Network  bool   `json:"network,omitempty" doc:"Fetch from the service as fast as it goes, and listen whether multicast is heard"`
	Disk     string `json:"disk,omitempty" doc:"Which disk: only, serial:NUMBER or size:200GB-600GB" default:"only" maxLength:"300" example:"only"`
	WhenDone string `json:"when_done,omitempty" enum:"stay,restart,power-off" doc:"What the workstation does afterwards" default:"stay"`
}

// NewCheck asks for workstations to be checked.
type NewCheck struct {
	To    []string `json:"to,omitempty" doc:"Groups and workstations" maxItems:"10000" nullable:"false" example:"[\"herbarium\",\"seed-04\"]"`
	Where string   `json:"where,omitempty" doc:"A condition over the roster (docs/roster.md). It narrows the targets; without any, it is for the whole roster" maxLength:"1000" example:"image != \"garden-desk\" and memory >= 8GiB"`
	CheckOptions
}

// Check is what checks of a machine have found out.
type Check struct {
	ID          int64             `json:"id"`
	Errand      int64             `json:"errand"`
	Workstation string            `json:"workstation" doc:"Its name at the time"`
	Address     string            `json:"hardware_address"`
	Maker       string            `json:"maker"`
	Model       string            `json:"model"`
	Serial      string            `json:"serial"`
	Ended       time.Time         `json:"ended"`
	Verdict     check.Verdict     `json:"verdict" enum:"good,doubtful,bad" doc:"The worst of its findings"`
	Findings    []check.Judgement `json:"noticed" nullable:"false"`
	OrderedBy   string            `json:"ordered_by"`
	Vitals      *disk.Vitals      `json:"disk_vitals,omitempty" doc:"What the disk said of itself, if it was asked"`
	Result      *check.Result     `json:"figures,omitempty" doc:"Told for a single check"`
}

// ToCheck is what an agent checks.
type ToCheck struct {
	CheckOptions
	Channel string `json:"channel" doc:"Multicast address and port at which it listens"`
	Source  string `json:"source,omitempty" doc:"IP address that those packets come from"`
	Token   string `json:"token" doc:"With which they begin"`
}

// Judged is what the service makes of a check, for whoever stands in front of the machine.
type Judged struct {
	Verdict  check.Verdict     `json:"verdict" enum:"good,doubtful,bad"`
	Findings []check.Judgement `json:"noticed" nullable:"false"`
}

// Trial is what the service has sent for a check of the network.
type Trial struct {
	Packets int `json:"packets"`
}

// WipeOptions say how a disk is wiped.
type WipeOptions struct {
	Method   wipe.Method `json:"wipe_method,omitempty" enum:"clear,purge" default:"clear" doc:"By NIST SP 800-88: overwrite all that can be addressed, or have the disk do what it offers"`
	Fast     bool        `json:"fast,omitempty" doc:"Have the kernel make sectors read as zeros, by whatever is fast there, in place of writing each"`
	Verify   string      `json:"read_back,omitempty" enum:"sample,whole" default:"sample" doc:"How much is read back: the representative sample of section 4.7.3, or all"`
	Disk     string      `json:"disk,omitempty" doc:"Which disk: only, serial:NUMBER or size:200GB-600GB" default:"only" maxLength:"300" example:"only"`
	WhenDone string      `json:"when_done,omitempty" enum:"stay,restart,power-off" doc:"What the workstation does afterwards" default:"stay"`
}

// NewWipe asks for disks to be wiped. Whoever asks says each name again.
type NewWipe struct {
	Workstations []string `json:"workstations" maxItems:"1000" nullable:"false" doc:"By name or hardware address; no groups, so that nobody is wiped by the way" example:"[\"kiosk-03\"]"`
	Retire       bool     `json:"retire,omitempty" doc:"Put them out of service once they are wiped"`
	WipeOptions
}

// ToWipe is how an agent wipes a disk.
type ToWipe struct {
	WipeOptions
	Serial string `json:"disk_serial,omitempty" doc:"Of the disk that was seen when it was ordered; another one is not wiped"`
}

// Wiped is what an agent has done to a disk.
type Wiped struct {
	Report wipe.Report `json:"report"`
	Error  string      `json:"error,omitempty" maxLength:"4000" doc:"Why it is not wiped"`
}
