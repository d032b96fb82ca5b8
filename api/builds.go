package api

import "time"

// NewBuild asks for a build of the boot environment. Paths are of the machine that
// the service runs on.
type NewBuild struct {
	Folders  []string `json:"folders,omitempty" doc:"Folders that hold a system; the machine's own root if neither these nor packages are given" maxItems:"50" nullable:"false" example:"[\"/srv/small-debian\"]"`
	Packages []string `json:"packages,omitempty" doc:"Debian packages" maxItems:"1000" nullable:"false" example:"[\"linux-image-amd64\"]"`
	Kernel   string   `json:"kernel,omitempty" doc:"Release; the newest by default" maxLength:"100" example:"6.12.48-amd64"`
	Words    string   `json:"words,omitempty" doc:"For the kernel's command line, instead of the usual ones" maxLength:"500" example:"quiet"`
	Shell    bool     `json:"shell,omitempty" doc:"Let people have a shell at the workstation"`
	Note     string   `json:"note,omitempty" maxLength:"1000" example:"with the new dock's driver"`
	Offer    bool     `json:"offer,omitempty" doc:"Offer it at once"`
	LeaveOut []string `json:"leave_out,omitempty" doc:"Modules that the base layer is not to have" maxItems:"1000" nullable:"false" example:"[\"nouveau\"]"`
	// With drivers and no source, the build extends another one and has all its layers.
	Base      int      `json:"base,omitempty" doc:"Build to extend; the one that is offered by default" minimum:"0" example:"4"`
	Drivers   []string `json:"drivers,omitempty" doc:"Driver sets, each of which becomes a layer" maxItems:"50" nullable:"false" example:"[\"a310\"]"`
	Programs  []string `json:"programs,omitempty" doc:"Debian packages whose programs commands can run in the boot environment; they are a layer of their own, in place of the one before" maxItems:"1000" nullable:"false" example:"[\"/srv/packages/usbutils.deb\"]"`
	DoWithout []string `json:"do_without,omitempty" doc:"Names of Debian packages that those need and that are left out all the same" maxItems:"1000" nullable:"false" example:"[\"debconf\"]"`
	Cover     []string `json:"cover,omitempty" doc:"Workstations or models whose disk controllers and network cards are to be driven, from the whole library" maxItems:"100" nullable:"false" example:"[\"Alder Works A5*\"]"`
}

// Build is a build of the boot environment.
type Build struct {
	Number   int          `json:"number"`
	Created  time.Time    `json:"created"`
	Note     string       `json:"note"`
	Kernel   string       `json:"kernel" doc:"Release"`
	Words    string       `json:"words" doc:"The kernel's command line, before what each workstation adds"`
	Shell    bool         `json:"shell"`
	Modules  int          `json:"module_count" doc:"Kernel modules that it has"`
	Bytes    int64        `json:"bytes" doc:"What a workstation loads: the kernel and all layers"`
	Offered  bool         `json:"offered" doc:"Workstations boot it"`
	Problems []string     `json:"problems" nullable:"false" doc:"What it lacks, and what follows"`
	Layers   []BuildLayer `json:"layers" nullable:"false"`
	Packages []string     `json:"from_packages" nullable:"false" doc:"Debian packages, with their versions, that kernel, modules, firmware and loaders are from, as far as that is known"`
	Program  string       `json:"program,omitempty" doc:"Version of the service that made it, and whose agent it has"`
	Parts    []BuildFile  `json:"parts,omitempty" doc:"Kernel and loaders; told for a single build"`
}

// BuildLayer is one layer of a build.
type BuildLayer struct {
	Name   string      `json:"name"`
	Digest string      `json:"digest" doc:"BLAKE3-256 of the stored layer"`
	Bytes  int64       `json:"bytes"`
	Count  int         `json:"count" doc:"Files in it"`
	Files  []BuildFile `json:"files,omitempty" doc:"Told for a single build"`
	// Packages are those of a layer of drivers, or of programs.
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
	What    string `json:"what" enum:"added,removed,changed"`
	Path    string `json:"path"`
	OriginA string `json:"origin_a" doc:"Origin in the first build"`
	OriginB string `json:"origin_b" doc:"Origin in the second"`
}

// NewMedia asks for an image for a stick, of a build.
type NewMedia struct {
	Service string `json:"service" doc:"URL of the service, as workstations reach it" format:"uri" example:"https://192.0.2.1:7460"`
	Address string `json:"address,omitempty" doc:"Fixed IP address with the prefix's length, for networks that give none, or a range of which each machine takes one that nobody has" maxLength:"50" example:"198.51.100.20-198.51.100.39/24"`
	Gateway string `json:"gateway,omitempty" format:"ipv4" example:"198.51.100.1"`
	Note    string `json:"note,omitempty" maxLength:"200" example:"for the alpine house"`
	Group   string `json:"group,omitempty" doc:"Good for workstations of this group alone" maxLength:"63" example:"alpine"`
	Hours   int    `json:"hours,omitempty" doc:"How long its key is good; without end by default" minimum:"0" maximum:"87600" example:"48"`
	// Entries are boot entries.
	Entries []string `json:"with_entries,omitempty" doc:"Boot entries that the media carry, too; what they are told of each machine is left out" maxItems:"20" nullable:"false" example:"[\"memory-test\"]"`
	// Outpost and what follows make the machine an outpost that is started from the media.
	Outpost string       `json:"outpost,omitempty" doc:"The machine that is started from the media is an outpost of this name, which is entered with that. With netboot or deliver, by default the next that is free: media-1" pattern:"^[a-z0-9][a-z0-9-]*$" maxLength:"63" example:"stick-1"`
	Netboot string       `json:"netboot,omitempty" doc:"How it answers network boot: beside another server of addresses, or giving them itself (whole). Without, it serves its own machine alone, and needs no network" enum:"beside,whole" example:"beside"`
	Pools   []string     `json:"address_pools,omitempty" doc:"Addresses that mode whole gives" maxItems:"8" nullable:"false" example:"[\"198.51.100.100-198.51.100.199/24 router 198.51.100.1\"]"`
	Room    int64        `json:"room,omitempty" doc:"Bytes on the media for slabs that come over the line; without, they are kept in memory" minimum:"0" maximum:"4000000000000" example:"8000000000"`
	Deliver *NewDelivery `json:"deliver,omitempty" doc:"What the media carry to workstations, whether there is a line or not"`
}

// MediaMade is what media are beside a build: the outpost that is on them, and the delivery that they carry.
type MediaMade struct {
	Outpost  string
	Delivery int64
}

// Headers of the answer with media.
const (
	MediaOutpostHeader  = "Jugate-Outpost"
	MediaDeliveryHeader = "Jugate-Delivery"
)

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
	Group string     `json:"group,omitempty" doc:"Workstations of this group alone; empty for any" maxLength:"63" example:"alpine"`
	Until *time.Time `json:"until,omitempty" doc:"Without, it has no end" example:"2030-09-01T06:30:00Z"`
}
