package api

import (
	"jugate/core/answers"
	"jugate/core/delivery"
	"jugate/core/errand"
	"jugate/core/parcel"
	"jugate/core/roster"
)

// CheckIn is the first thing an agent says.
type CheckIn struct {
	AgentVersion string    `json:"agent_version" maxLength:"50"`
	Addresses    []string  `json:"hardware_addresses" minItems:"1" maxItems:"64"`
	Inventory    Inventory `json:"inventory"`
	// Ticket came with the boot script and lets this workstation check in, for one
	// boot. Boot is the kernel's random number for that boot, or the agent's own.
	Ticket string `json:"ticket,omitempty" maxLength:"200"`
	Boot   string `json:"boot" minLength:"1" maxLength:"100"`
	// Errand is the one that the agent is at, and goes on with.
	Errand int64 `json:"errand,omitempty"`
}

// CheckedIn is the reply. Pass goes into the Authorization header of every
// further request, as a bearer token; it is good until the service restarts or
// the same workstation checks in again.
type CheckedIn struct {
	Pass  string       `json:"pass"`
	Name  string       `json:"name"`
	State roster.State `json:"state" enum:"newcomer,expected,admitted,retired,visiting"`
	// OnDisk says what is on its disk, by its receipts.
	OnDisk string `json:"on_disk,omitempty"`
	// At is where else the service may answer.
	At []string `json:"at,omitempty"`
	// Keyboard is the layout in which people type there, as in the answer keyboard.
	Keyboard string `json:"keyboard,omitempty"`
}

// Standing answers the question what to do. Without an errand: wait, and ask again.
type Standing struct {
	Name   string       `json:"name"`
	State  roster.State `json:"state" enum:"newcomer,expected,admitted,retired,visiting"`
	OnDisk string       `json:"on_disk,omitempty"`
	// Signed is the errand, signed as SignedErrand. Errand is what a client finds in there.
	Signed string    `json:"signed,omitempty"`
	Errand *ToErrand `json:"-"`
}

// Signed is something that the service has signed, as a JSON Web Signature (trust.Signer).
type Signed struct {
	Signed string `json:"signed"`
}

// What is signed.
const (
	SignedErrand  = "jugate-errand"
	SignedModules = "jugate-modules" // a ToInstall for the boot environment
)

// ToErrand is an errand as the agent gets it.
type ToErrand struct {
	ID      int64       `json:"id"`
	Kind    errand.Kind `json:"kind" enum:"capture,receive,drivers,payloads,check,wipe,command,folders,entry"`
	Image   string      `json:"image"`
	Capture *ToCapture  `json:"capture,omitempty"`
	Receive *ToReceive  `json:"receive,omitempty"`
	Install *ToInstall  `json:"put,omitempty"`
	Bring   *ToBring    `json:"bring,omitempty"`
	Check   *ToCheck    `json:"check,omitempty"`
	Wipe    *ToWipe     `json:"wipe,omitempty"`
	Command *Command    `json:"command_to_run,omitempty"`
	Entry   string      `json:"boot_entry,omitempty" doc:"That is to be started; the agent restarts from the network for it" example:"debian-installer"`
	Folders *ToFolders  `json:"folders_back,omitempty"`
}

// ToCapture is how an agent captures.
type ToCapture struct {
	CaptureOptions
	Folders       []string `json:"folders_to_save,omitempty" doc:"Folders that are handed in, too, packed by tar and zstd, before the manifest"`
	Follows       string   `json:"follows,omitempty" doc:"The newest version of the image"`
	Answered      bool     `json:"answered,omitempty" doc:"Copies are answered, so that what answers cure does not forbid the capture"`
	Layout        string   `json:"layout,omitempty" doc:"How the disk of that is laid out, in words; another one is a blocking finding"`
	IdentityFiles []string `json:"identity_files,omitempty" doc:"Patterns of files that tell one machine from another; without any, the agent uses its own list"`
}

// ToReceive is what an agent needs to take part in a delivery.
type ToReceive struct {
	Delivery int64  `json:"delivery"`
	Version  int    `json:"version"`
	Digest   string `json:"digest" doc:"BLAKE3-256 of the manifest"`
	Channel  string `json:"channel" doc:"Multicast address and port"`
	Session  uint32 `json:"session"`
	Label    string `json:"label" doc:"Names the image to whoever looks at an unfinished disk"`
	Node     uint32 `json:"node" doc:"This workstation's node id in the stream (RFC 5740)"`
	SealKey  []byte `json:"seal_key,omitempty" doc:"Opens the parcels of a sealed delivery"`
	Nonce    []byte `json:"nonce" doc:"Goes into the proof that the whole disk was read back"`
	Source   string `json:"source,omitempty" doc:"IP address that the stream comes from; packets of others are not for this workstation"`
	Reuse    bool   `json:"reuse" doc:"Check the disk first and keep what is right"`
	Bases    bool   `json:"bases,omitempty" doc:"Some slabs can come as what differs from those of the version before (GET /deliveries/{id}/bases)"`
	MapComes bool   `json:"map_comes,omitempty" doc:"The slab map comes by multicast, before the image"`

	Payloads []parcel.Payload `json:"payloads,omitempty" doc:"What comes after the image, in pieces that are numbered on after its slabs"`

	WhenDone string     `json:"when_done" enum:"stay,restart,power-off"`
	Install  *ToInstall `json:"put,omitempty" doc:"Drivers for the system, once the copy is right"`
	Answer   *ToAnswer  `json:"answer,omitempty" doc:"What the system is to become, once the copy is right"`
	RestoreOptions
}

// ToAnswer is what the system on a disk is to become. An agent that has carried it out says
// so with Progress.Answered.
type ToAnswer struct {
	Partition int               `json:"partition,omitempty" doc:"Number of the partition that the system is on; 0 if the agent is to look"`
	Values    map[string]string `json:"values" nullable:"false" doc:"Answers by key, each as JSON (docs/answers.md)"`
	Arch      string            `json:"architecture,omitempty" doc:"Of a Windows: amd64, 386 or arm64"`
	Joined    *answers.Joined   `json:"joined,omitempty" doc:"What the system belongs to its domain by"`
	Payloads  []ToPayload       `json:"payloads,omitempty" doc:"What the answer payloads names"`
	Token     string            `json:"token,omitempty" doc:"With which the system reports its first start (POST /arrival)"`
	Problem   string            `json:"problem,omitempty" doc:"Why nothing can be answered, although something should be"`
}

// ArrivalReport is what a delivered system tells when it has started for the first time.
type ArrivalReport struct {
	ComputerName string   `json:"computer_name" maxLength:"253"`
	Addresses    []string `json:"hardware_addresses" maxItems:"64" nullable:"false"`
	IPs          []string `json:"ip_addresses" maxItems:"64" nullable:"false"`
	MachineID    string   `json:"machine_id" doc:"machine-id(5)" maxLength:"64"`
	System       string   `json:"operating_system" doc:"Name and build" maxLength:"200"`
	Kernel       string   `json:"kernel" maxLength:"100"`
	Uptime       float64  `json:"uptime_seconds" doc:"Since the system has started" minimum:"0"`
	Helper       bool     `json:"stays_as_helper,omitempty" doc:"What reports it stays as a helper; its key by TLS is the helper's"`
}

// Activity tells what the agent is doing, in words, and how far it is.
type Activity struct {
	Text     string `json:"text" maxLength:"500"`
	Done     int64  `json:"done"`
	Total    int64  `json:"total"`
	NewSlabs int    `json:"new_slabs"`
}

// Digests are names of slabs.
type Digests struct {
	Digests []string `json:"digests" nullable:"false" maxItems:"4096" example:"[\"af1349b9f5f9a1a6a0404dea36dcc9499bcb25c9adc112b7cc9a93cae41f3262\"]"`
}

// Committed is the version that a capture became.
type Committed struct {
	Image   string `json:"image"`
	Version int    `json:"version"`
	Digest  string `json:"digest"`
}

// Failure ends an errand that could not be done.
type Failure struct {
	Error string `json:"error" maxLength:"4000"`
}

// Progress is what a workstation of a delivery reports, at least every few
// seconds. Counts are bytes.
type Progress struct {
	delivery.Report
	Proof    []byte   `json:"proof,omitempty" maxLength:"100" doc:"With verified: what only reading the whole disk back tells (docs/agent-protocol.md)"`
	Drivers  []string `json:"drivers,omitempty" maxItems:"1000" doc:"With ended: driver packages that were put in"`
	Answered bool     `json:"answered,omitempty" doc:"With ended: the system has become what the answers say"`
	LeftOut  []int    `json:"left_out,omitempty" maxItems:"1024" doc:"With verified: partitions of the image that did not come onto the disk, as that keeps its own"`
	Remark   string   `json:"remark,omitempty" maxLength:"4000" doc:"With ended: what else was done, in words"`
}

// OnDisks is what is on a machine's disks, once that was changed: its partitions alone are
// noted.
type OnDisks struct {
	Disks []Disk `json:"disks" nullable:"false" maxItems:"256"`
}

// Directions is the reply to a Progress: how far the delivery as a whole is. When it
// is over for this workstation, the agent leaves it.
type Directions = delivery.Directions

// Lacking says which slabs a workstation lacks after a round of the stream; after
// round 0, what it needs at all.
type Lacking struct {
	Round int      `json:"round" minimum:"0"`
	Slabs [][2]int `json:"slabs" nullable:"false" maxItems:"100000" doc:"Ranges of numbers of slabs and pieces of payloads, both ends included"`
	Based [][2]int `json:"based,omitempty" nullable:"false" maxItems:"100000" doc:"Those of them whose base (GET /deliveries/{id}/bases) is on the disk"`
}
