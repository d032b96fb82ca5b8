package api

import "time"

// Payload is a file or package that goes onto delivered systems.
type Payload struct {
	Name   string    `json:"payload" example:"scanner-tools_2.1_amd64.deb"`
	Digest string    `json:"digest" doc:"BLAKE3-256 of the content"`
	Size   int64     `json:"size_bytes"`
	Note   string    `json:"note"`
	Added  time.Time `json:"added"`
}

// ToPayload is a payload that an agent brings onto a system.
type ToPayload struct {
	Name   string `json:"name"`
	Digest string `json:"digest" doc:"BLAKE3-256; its content is at GET /payloads/DIGEST"`
	Size   int64  `json:"size"`
}

// InstallPayloads asks for payloads to be brought onto what is on workstations' disks.
type InstallPayloads struct {
	To       []string `json:"to,omitempty" doc:"Groups and workstations" maxItems:"10000" nullable:"false" example:"[\"herb-03\"]"`
	Where    string   `json:"where,omitempty" doc:"A condition over the roster (docs/roster.md). It narrows the targets; without any, it is for the whole roster" maxLength:"1000" example:"image != \"garden-desk\" and memory >= 8GiB"`
	Payloads []string `json:"payloads" doc:"Which" minItems:"1" maxItems:"50" nullable:"false" example:"[\"scanner-tools_2.1_amd64.deb\"]"`
	Install  bool     `json:"install,omitempty" doc:"Have packages installed when the system starts next"`
	Disk     string   `json:"disk,omitempty" doc:"Which disk: only, serial:NUMBER or size:200GB-600GB" default:"only" maxLength:"300" example:"only"`
}

// ToBring is what an agent brings onto the system on its disk.
type ToBring struct {
	Payloads []ToPayload `json:"payloads" nullable:"false"`
	Install  bool        `json:"install,omitempty" doc:"Have packages installed when the system starts next"`
	Disk     string      `json:"disk,omitempty"`
	Problem  string      `json:"problem,omitempty" doc:"Why nothing can be brought"`
}
