package api

import "time"

// NetbootStatus is how network boot stands.
type NetbootStatus struct {
	Links    []NetbootLink `json:"interfaces" nullable:"false"`
	Unknown  string        `json:"unknown" enum:"ignore,hold,welcome" doc:"What becomes of machines that nobody has admitted"`
	Offered  int           `json:"offered" doc:"The build that is offered; 0 if none is"`
	Machines []BootTrail   `json:"machines" nullable:"false" doc:"The last steps of every machine, the latest machine first"`
}

// NetbootLink is an interface that is served.
type NetbootLink struct {
	Interface string        `json:"interface"`
	Mode      string        `json:"mode" enum:"beside,whole,off"`
	Address   string        `json:"address" doc:"The service's address there"`
	State     string        `json:"state" doc:"serving, or why not"`
	Pools     []NetbootPool `json:"pools,omitempty"`
}

// NetbootPool is a range of addresses of mode whole.
type NetbootPool struct {
	Range string `json:"range"`
	Left  int    `json:"left" doc:"Addresses that nobody has now"`
	Of    int    `json:"of"`
}

// BootTrail are the last steps of one machine.
type BootTrail struct {
	Address     string     `json:"hardware_address"`
	Workstation string     `json:"workstation" doc:"Its name; empty if nobody has admitted it"`
	Steps       []BootStep `json:"steps" nullable:"false"`
	Stuck       string     `json:"stuck" doc:"What probably keeps it from getting on; empty if nothing does"`
	Model       string     `json:"model,omitempty" doc:"What its firmware or its last inventory says"`
	// Cover is set if more drivers would help: what to order of a build.
	Cover string `json:"cover,omitempty" doc:"For a build's cover, to have its devices driven"`
}

// BootStep is a station on the way from the power button to the agent.
type BootStep struct {
	At     time.Time `json:"at"`
	Step   string    `json:"step" enum:"address,loader,script,kernel,initrd,agent,refused,failed"`
	Detail string    `json:"detail"`
}

// BootAdvice is what to enter into another DHCP server, for one architecture.
type BootAdvice struct {
	Interface    string       `json:"interface"`
	Architecture string       `json:"architecture"`
	When         string       `json:"when" doc:"How that server recognises such machines"`
	Options      []BootOption `json:"options" nullable:"false"`
}

// BootOption is one option and its value.
type BootOption struct {
	Code  int    `json:"code" doc:"0 for a field of the header"`
	Name  string `json:"name"`
	Value string `json:"value"`
}

// NewBuild asks for a build of the boot environment. Paths are of the machine that
// the service runs on.
type NewBuild struct {
	From     []string `json:"from,omitempty" doc:"Folders that hold a system; the machine's own root if neither these nor packages are given"`
	Packages []string `json:"packages,omitempty" doc:"Debian packages"`
	Kernel   string   `json:"kernel,omitempty" doc:"Release; the newest by default" maxLength:"100"`
	Words    string   `json:"words,omitempty" doc:"For the kernel's command line, instead of the usual ones" maxLength:"500"`
	Shell    bool     `json:"shell,omitempty" doc:"Let people have a shell at the workstation"`
	Note     string   `json:"note,omitempty" maxLength:"1000"`
	Offer    bool     `json:"offer,omitempty" doc:"Offer it at once"`
	LeaveOut []string `json:"leave_out,omitempty" doc:"Modules that the base layer is not to have" maxItems:"1000"`
	// With drivers and no source, the build extends another one and has all its layers.
	Base    int      `json:"base,omitempty" doc:"Build to extend; the one that is offered by default" minimum:"0"`
	Drivers []string `json:"drivers,omitempty" doc:"Driver sets, each of which becomes a layer" maxItems:"50"`
	Cover   []string `json:"cover,omitempty" doc:"Workstations or models whose disk controllers and network cards are to be driven, from the whole library" maxItems:"100"`
}

// Build is a build of the boot environment.
type Build struct {
	Number   int          `json:"number"`
	Created  time.Time    `json:"created"`
	Note     string       `json:"note"`
	Kernel   string       `json:"kernel" doc:"Release"`
	Words    string       `json:"words" doc:"The kernel's command line, before what each workstation adds"`
	Shell    bool         `json:"shell"`
	Modules  int          `json:"modules" doc:"Kernel modules that it has"`
	Bytes    int64        `json:"bytes" doc:"What a workstation loads: the kernel and all layers"`
	Offered  bool         `json:"offered" doc:"Workstations boot it"`
	Problems []string     `json:"problems" nullable:"false" doc:"What it lacks, and what follows"`
	Layers   []BuildLayer `json:"layers" nullable:"false"`
	Parts    []BuildFile  `json:"parts,omitempty" doc:"Kernel and loaders; told for a single build"`
}

// BuildLayer is one layer of a build.
type BuildLayer struct {
	Name   string      `json:"name"`
	Digest string      `json:"digest" doc:"BLAKE3-256 of the stored layer"`
	Bytes  int64       `json:"bytes"`
	Count  int         `json:"count" doc:"Files in it"`
	Files  []BuildFile `json:"files,omitempty" doc:"Told for a single build"`
	// Packages are the driver packages of a layer of drivers.
	Packages []string `json:"packages,omitempty"`
}

// BuildFile is a file of a build.
type BuildFile struct {
	Path   string `json:"path"`
	Bytes  int64  `json:"bytes"`
	Digest string `json:"digest" doc:"BLAKE3-256"`
	Origin string `json:"origin"`
}

// BuildChange is one difference between two builds.
type BuildChange struct {
	What string `json:"what" enum:"added,removed,changed"`
	Path string `json:"path"`
	From string `json:"from" doc:"Origin in the first build"`
	To   string `json:"to" doc:"Origin in the second"`
}

// NewMedia asks for an image for a stick, of a build.
type NewMedia struct {
	Service string `json:"service" doc:"URL of the service, as workstations reach it" format:"uri"`
	Address string `json:"address,omitempty" doc:"Fixed IP address with the prefix's length, for networks that give none"`
	Gateway string `json:"gateway,omitempty" format:"ipv4"`
	Note    string `json:"note,omitempty" maxLength:"200"`
	Group   string `json:"group,omitempty" doc:"Good for workstations of this group alone" maxLength:"63"`
	Hours   int    `json:"hours,omitempty" doc:"How long its key is good; without end by default" minimum:"0" maximum:"87600"`
}

// MediaKey is what media check in with. The key itself is on the media alone.
type MediaKey struct {
	ID    string     `json:"id"`
	Made  time.Time  `json:"made"`
	Note  string     `json:"note"`
	Group string     `json:"group" doc:"Good for workstations of this group alone; empty for any"`
	Until *time.Time `json:"until,omitempty"`
	Used  *time.Time `json:"used,omitempty" doc:"Last time that something checked in with it"`
}

// KeyLimits say for whom a key is good, and until when.
type KeyLimits struct {
	Group string     `json:"group,omitempty" doc:"Workstations of this group alone; empty for any" maxLength:"63"`
	Until *time.Time `json:"until,omitempty" doc:"Without, it has no end"`
}

// Pin has a workstation or group boot one build; 0 ends that.
type Pin struct {
	Build int `json:"build" minimum:"0"`
}

// Access says who may receive an image. All lists empty: everybody.
type Access struct {
	Groups    []string `json:"groups" nullable:"false"`
	Addresses []string `json:"hardware_addresses" nullable:"false"`
	Models    []string `json:"models" nullable:"false"`
}

// NewCode asks for a code to sign in with at workstations.
type NewCode struct {
	Hours int `json:"hours" minimum:"1" maximum:"72" default:"8"`
}

// Code is what people type at a workstation.
type Code struct {
	Code  string    `json:"code"`
	Until time.Time `json:"until"`
}

// TypedCode is a code that was typed at a workstation.
type TypedCode struct {
	Code string `json:"code" minLength:"1" maxLength:"100"`
}

// SignedIn is what a person may choose then.
type SignedIn struct {
	Images []string `json:"images" nullable:"false" doc:"That this workstation may receive"`
}

// Wish is what a person at a workstation has chosen.
type Wish struct {
	Kind  string `json:"kind" enum:"receive,capture,admit"`
	Image string `json:"image,omitempty" maxLength:"63"`
	Name  string `json:"name,omitempty" maxLength:"63" doc:"With admit: of the workstation"`
}

// WakeUp asks for workstations to be switched on over the network.
type WakeUp struct {
	To []string `json:"to" minItems:"1" maxItems:"1000" doc:"Names of workstations and groups"`
}

// Woken is what was sent.
type Woken struct {
	Workstations []string `json:"workstations" nullable:"false"`
}
