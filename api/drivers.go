package api

import (
	"time"

	"jugate/core/driver"
	"jugate/core/windows"
)

// Device is a device of a workstation that wants a driver.
type Device struct {
	ID     string `json:"id" doc:"What Linux calls it (modalias)" maxLength:"1024"`
	Class  string `json:"class,omitempty" doc:"network, storage, display, sound, input, usb, board or other" maxLength:"20"`
	Name   string `json:"name,omitempty" maxLength:"200"`
	Rev    int    `json:"revision,omitempty" minimum:"0" maximum:"255"`
	Driver string `json:"driver,omitempty" doc:"The module that has taken it" maxLength:"200"`
	Empty  bool   `json:"empty,omitempty" doc:"A disk controller that works, and has no disk of this machine on it"`
}

// DriverPackage is a driver package of the library.
type DriverPackage struct {
	ID        string        `json:"id"`
	Kind      string        `json:"kind" enum:"inf,modules"`
	Name      string        `json:"name"`
	Label     string        `json:"label" doc:"Name and version"`
	Class     string        `json:"class"`
	Provider  string        `json:"provider"`
	Version   string        `json:"driver_version"`
	Date      string        `json:"date,omitempty"`
	Arch      []string      `json:"architectures" nullable:"false"`
	Kernel    string        `json:"kernel,omitempty" doc:"Release that modules are for"`
	InTree    bool          `json:"in_tree,omitempty" doc:"The modules of a whole kernel"`
	Signer    string        `json:"signer,omitempty" doc:"Who signed the catalogue; empty if nobody did"`
	Origin    string        `json:"origin"`
	Added     time.Time     `json:"added"`
	Bytes     int64         `json:"bytes"`
	Drives    int           `json:"drives" doc:"How many models or modules it names"`
	Remarks   []string      `json:"remarks" nullable:"false"`
	Serves    []string      `json:"serves" nullable:"false" doc:"Workstations that have a device which it drives best"`
	Models    []DriverModel `json:"contents,omitempty" doc:"What it drives, or the modules it has; told for a single package"`
	Files     []DriverFile  `json:"files,omitempty" doc:"Told for a single package"`
	Catalogue string        `json:"catalogue,omitempty"`
}

// DriverModel is what a package names: a device, or a kernel module.
type DriverModel struct {
	Name  string   `json:"name"`
	Maker string   `json:"maker,omitempty"`
	For   string   `json:"for,omitempty" doc:"Architecture and version"`
	IDs   []string `json:"ids" nullable:"false" doc:"Identifiers or patterns, the exact one first"`
	Needs []string `json:"needs,omitempty" doc:"Modules"`
	Lacks []string `json:"lacks,omitempty" doc:"Firmware that it may ask for and that is not in the package"`
}

// DriverFile is a file of a package.
type DriverFile struct {
	Path   string `json:"path"`
	Bytes  int64  `json:"bytes"`
	Digest string `json:"digest" doc:"BLAKE3-256"`
	To     string `json:"to,omitempty" doc:"Where it goes on the volume of the system"`
}

// DriversAdded says what became of a folder or archive.
type DriversAdded struct {
	Packages []DriverPackage `json:"taken" nullable:"false" doc:"Are new in the library"`
	There    []DriverPackage `json:"there" nullable:"false" doc:"Were in the library already"`
	Skipped  []DriverSkip    `json:"skipped" nullable:"false"`
}

// DriverSkip is something that was left out, and why.
type DriverSkip struct {
	Path   string `json:"path"`
	Reason string `json:"reason"`
}

// DriverSet is a named choice of packages by rule.
type DriverSet struct {
	Name     string       `json:"name" minLength:"1" maxLength:"63" example:"a310"`
	System   string       `json:"system" enum:"windows,linux"`
	Arch     string       `json:"arch,omitempty" enum:"amd64,386,arm64" doc:"amd64 by default"`
	Fallback bool         `json:"fallback,omitempty" doc:"For devices that no other set serves"`
	OnDemand bool         `json:"on_demand,omitempty" doc:"Add to the boot environment of each workstation what its model needs, when it boots"`
	Rules    []DriverRule `json:"rules" nullable:"false" minItems:"1" maxItems:"200"`
}

// DriverRule takes the packages that fit all that it says. Texts may have wildcards.
type DriverRule struct {
	Class    string `json:"class,omitempty" maxLength:"20" example:"network"`
	Provider string `json:"provider,omitempty" maxLength:"200" example:"Sundial*"`
	Package  string `json:"package,omitempty" doc:"Name or id" maxLength:"200" example:"sundialnet"`
	Model    string `json:"model,omitempty" doc:"Of workstations: just what drives one of its devices" maxLength:"200" example:"Alder Works A310"`
}

// DriverChoice is a package that would be used, and for what.
type DriverChoice struct {
	Package string   `json:"package" doc:"Id"`
	Label   string   `json:"label"`
	Modules []string `json:"modules,omitempty"`
	Device  string   `json:"device_id,omitempty" doc:"What Linux calls the device that it is for (modalias)"`
	Why     string   `json:"why,omitempty"`
}

// DriverCandidate is a package that says that it drives a device.
type DriverCandidate struct {
	Package string `json:"package" doc:"Id"`
	Label   string `json:"label"`
	Kind    string `json:"kind" enum:"inf,modules"`
	Name    string `json:"name" doc:"What it calls the device, or the module"`
	ID      string `json:"id" doc:"Identifier or pattern that fits"`
	Rank    int    `json:"rank"`
	Date    string `json:"date,omitempty"`
	Version string `json:"driver_version"`
	Signer  string `json:"signer,omitempty"`
	Why     string `json:"why"`
	Wins    bool   `json:"wins"`
}

// DriverExplained is a device with its candidates, best first, for each system.
type DriverExplained struct {
	Device     Device            `json:"device"`
	Label      string            `json:"label"`
	Hardware   []string          `json:"hardware_ids" nullable:"false"`
	Compatible []string          `json:"compatible_ids" nullable:"false"`
	Candidates []DriverCandidate `json:"candidates" nullable:"false"`
	Verdicts   DeviceCover       `json:"verdicts"`
}

// Cover says whether a device works in a system.
type Cover struct {
	State   driver.State `json:"state" enum:"covered,will be installed,uncovered,too late,unknown,no driver"`
	By      string       `json:"by,omitempty"`
	Why     string       `json:"why,omitempty"`
	Package string       `json:"package,omitempty" doc:"Id of the package that drives it, or would"`
	Label   string       `json:"label,omitempty"`
}

// DeviceCover is a device in the boot environment and in the delivered system.
type DeviceCover struct {
	Label       string `json:"label"`
	ID          string `json:"id"`
	Name        string `json:"name,omitempty"`
	Class       string `json:"class"`
	Environment Cover  `json:"in_environment"`
	Delivered   Cover  `json:"in_system"`
}

// ModelCover is what becomes of the devices of one model.
type ModelCover struct {
	Model        string        `json:"model"`
	Workstations []string      `json:"workstations" nullable:"false"`
	Devices      []DeviceCover `json:"devices" nullable:"false"`
	// Lacking say in words what keeps the model from working.
	LackingEnvironment []string `json:"lacking_environment" nullable:"false"`
	LackingDelivered   []string `json:"lacking_delivered" nullable:"false"`
}

// Coverage is what a boot build and an image version would do on workstations.
type Coverage struct {
	Build   int          `json:"build" doc:"0 if none is offered"`
	Image   string       `json:"image" doc:"NAME@VERSION, or empty"`
	System  string       `json:"system" doc:"What the image has on it, in words"`
	Models  []ModelCover `json:"by_model" nullable:"false"`
	Unknown []string     `json:"unknown_workstations" nullable:"false" doc:"Those whose devices nobody has seen yet"`
}

// DriverOrder says which drivers go into a delivered system.
type DriverOrder struct {
	Drivers        []string `json:"drivers,omitempty" maxItems:"50" doc:"Driver sets to choose from; nothing takes what the system lacks from the whole library; none puts none in" nullable:"false" example:"[\"a310\"]"`
	DriversWhole   bool     `json:"drivers_whole,omitempty" doc:"Everything that the sets have, matched or not"`
	DespiteDrivers bool     `json:"despite_drivers,omitempty" doc:"Deliver although a disk controller or network card would have no driver"`
}

// InstallDrivers asks for drivers to be added to what is on a workstation's disk.
type InstallDrivers struct {
	To      []string `json:"to,omitempty" doc:"Groups and workstations" maxItems:"10000" nullable:"false" example:"[\"herb-03\"]"`
	Where   string   `json:"where,omitempty" doc:"A condition over the roster (docs/roster.md). It narrows the targets; without any, it is for the whole roster" maxLength:"1000" example:"image != \"garden-desk\" and memory >= 8GiB"`
	Drivers []string `json:"drivers,omitempty" maxItems:"50" doc:"Driver sets to choose from; nothing takes what the system lacks from the whole library" nullable:"false" example:"[\"a310\"]"`
	Whole   bool     `json:"drivers_whole,omitempty"`
	Disk    string   `json:"disk,omitempty" doc:"Which disk: only, serial:NUMBER or size:200GB-600GB" default:"only" maxLength:"300" example:"only"`
}

// ToInstall is what an agent puts into the system on its disk.
type ToInstall struct {
	System   string          `json:"system" enum:"windows,linux"`
	Kernel   string          `json:"kernel,omitempty"`
	Packages []DriverPackage `json:"packages" nullable:"false"`
	First    []FirstDriver   `json:"first,omitempty" doc:"Of them, what a Windows has to start with, as its disk hangs on it"`
	Wake     []string        `json:"wake,omitempty" doc:"Services that a Windows has, and has to start with"`
	Disk     string          `json:"disk,omitempty"`
	Problem  string          `json:"problem,omitempty" doc:"Why nothing can be put in, although something should be"`
}

// FirstDriver is a driver that a Windows starts with.
type FirstDriver struct {
	Of   string `json:"of" doc:"The id of its package"`
	File string `json:"file" doc:"Its file in there"`
	windows.First
}

// Installed is what came of it.
type Installed struct {
	Packages []string `json:"packages" nullable:"false" doc:"Labels"`
	Did      []string `json:"did" nullable:"false" doc:"In words"`
}

// Lacks asks for modules that the boot environment of a workstation lacks.
type Lacks struct {
	Kernel  string   `json:"kernel" maxLength:"100"`
	Modules []string `json:"modules" nullable:"false" maxItems:"5000" doc:"That it has"`
	Devices []Device `json:"devices" nullable:"false" maxItems:"1024"`
}
