package api

import (
	"time"

	"jugate/core/roster"
)

// Workstation is a machine of the roster or a newcomer.
type Workstation struct {
	ID           int64             `json:"id"`
	Name         string            `json:"name" doc:"Empty for a newcomer"`
	State        roster.State      `json:"state" enum:"newcomer,expected,admitted,retired,visiting"`
	Addresses    []string          `json:"hardware_addresses" nullable:"false"`
	Maker        string            `json:"maker"`
	Model        string            `json:"model"`
	Serial       string            `json:"serial"`
	UUID         string            `json:"uuid" doc:"Of its firmware; empty if that has none"`
	Proposed     []string          `json:"proposed_addresses" nullable:"false" doc:"Hardware addresses seen in it that nobody has accepted yet"`
	Groups       []string          `json:"groups" nullable:"false"`
	Memory       int64             `json:"memory" doc:"Bytes"`
	Disks        []int64           `json:"disk_sizes" nullable:"false" doc:"Their sizes in bytes"`
	Inventory    *Inventory        `json:"inventory,omitempty" doc:"What it is made of; told for a single workstation"`
	AgentVersion string            `json:"agent_version"`
	Site         string            `json:"site" doc:"The outpost that it called by last; empty where that was the service itself"`
	FirstSeen    *time.Time        `json:"first_seen,omitempty" doc:"When its agent checked in first; absent if it never did"`
	LastSeen     *time.Time        `json:"last_seen,omitempty" doc:"When its agent was heard last; absent if it never was"`
	Online       bool              `json:"online" doc:"Its agent has called in the last minute"`
	Activity     string            `json:"activity" doc:"What its agent says it is doing"`
	Image        string            `json:"image" doc:"What is on its disk by its receipts, as NAME@VERSION; empty if it never got an image"`
	ImagedAt     *time.Time        `json:"imaged,omitempty" doc:"When that was brought"`
	Job          string            `json:"job,omitempty" doc:"Of a visiting machine: what was typed of it at the repair bench"`
	Note         string            `json:"note"`
	Fields       map[string]string `json:"fields" nullable:"false" doc:"Fields of your own, such as room or asset_tag"`
	Unfinished   bool              `json:"unfinished" doc:"A copy of that image was begun and is not whole: the disk does not start"`
	Wanted       []string          `json:"wanted" nullable:"false" doc:"What its groups say it should have, as NAME@VERSION; more than one if they do not agree"`
	Behind       bool              `json:"behind" doc:"It does not have that"`
	Changed      []InventoryChange `json:"inventory_changes,omitempty" nullable:"false" doc:"What it had otherwise than before when it checked in, the newest first; told for a single workstation"`
	Helper       *Helper           `json:"helper,omitempty" doc:"What stays on its system, by the answer helper; absent if nothing does"`
}

// InventoryChange is something that a workstation had otherwise than before when it checked in.
type InventoryChange struct {
	At   time.Time `json:"at"`
	What string    `json:"what" doc:"In words, such as which disk is new"`
}

// Inventory is what an agent finds in its machine.
type Inventory struct {
	Maker  string `json:"maker" maxLength:"200"`
	Model  string `json:"model" maxLength:"200"`
	Serial string `json:"serial" maxLength:"200"`
	UUID   string `json:"uuid,omitempty" doc:"System UUID of the firmware (SMBIOS, type 1)" maxLength:"50"`
	Memory int64  `json:"memory" doc:"Bytes"`
	// Firmware and SecureBoot are of how it was started.
	Firmware   string `json:"firmware,omitempty" enum:"UEFI,BIOS"`
	SecureBoot bool   `json:"secure_boot,omitempty"`
	// FirmwareVersion and Settings are what the firmware says of itself.
	FirmwareVersion string            `json:"firmware_version,omitempty" maxLength:"200"`
	Settings        map[string]string `json:"firmware_settings,omitempty" doc:"By their names, as far as the kernel of the boot environment has a driver for this firmware"`
	// Mains and Battery are absent where there is nothing of the kind.
	Mains   *bool  `json:"on_mains,omitempty" doc:"It is fed from the mains"`
	Battery *int   `json:"battery_percent,omitempty" minimum:"0" maximum:"100"`
	Disks   []Disk `json:"disks" nullable:"false" maxItems:"256"`
	Cards   []Card `json:"network_cards" nullable:"false" maxItems:"64"`
	// Devices are all that want a driver.
	Devices []Device `json:"devices,omitempty" maxItems:"1024"`
}

// Disk is a disk of a workstation.
type Disk struct {
	Model      string `json:"model" maxLength:"200"`
	Serial     string `json:"serial" maxLength:"200"`
	Size       int64  `json:"size" doc:"Bytes" minimum:"0"`
	SectorSize int    `json:"sector_size" doc:"Bytes" minimum:"0"`
	Health     string `json:"health,omitempty" doc:"What the disk says of itself (SMART): good, or what is wrong" maxLength:"500"`
	// Table and Partitions are what was on it when the agent checked in.
	Table      string          `json:"partition_table,omitempty" enum:"gpt,mbr,none" doc:"Absent if nobody has looked"`
	Partitions []DiskPartition `json:"partitions,omitempty" maxItems:"256"`
}

// DiskPartition is a partition that is on a workstation's disk.
type DiskPartition struct {
	Number    int    `json:"number" minimum:"1"`
	First     int64  `json:"first_sector" minimum:"0"`
	Last      int64  `json:"last_sector" minimum:"0" doc:"Inclusive"`
	Type      string `json:"partition_type" maxLength:"36" doc:"GUID; of an MBR two hexadecimal digits"`
	Name      string `json:"name,omitempty" maxLength:"150" doc:"In a GPT"`
	Label     string `json:"label,omitempty" maxLength:"300" doc:"Of its file system"`
	Kind      string `json:"kind,omitempty" maxLength:"30" doc:"Of its file system"`
	Identity  string `json:"identity,omitempty" maxLength:"36" doc:"GUID; of an MBR the disk's signature"`
	Contained bool   `json:"contained,omitempty" doc:"It lies in an extended partition"`
}

// Card is a network card of a workstation.
type Card struct {
	Address string `json:"hardware_address" maxLength:"50"`
	Model   string `json:"model" maxLength:"200"`
	Adapter bool   `json:"adapter,omitempty" doc:"Plugged in (USB or a dock), so that other machines may show it, too"`
}

// HardwareAddress is a hardware address with its workstation.
type HardwareAddress struct {
	Address     string           `json:"hardware_address"`
	Workstation string           `json:"workstation" doc:"Its name; empty for a newcomer"`
	State       roster.CardState `json:"state" enum:"accepted,proposed,shared" doc:"Its own; seen in it and accepted by nobody yet; or of an adapter that others use, too"`
}

// CardRef names the workstation that a hardware address goes to.
type CardRef struct {
	Workstation string `json:"workstation" doc:"Name or hardware address" minLength:"1" maxLength:"100" example:"herb-03"`
}

// NewRefusal turns a machine away for good.
type NewRefusal struct {
	Machine string `json:"machine" doc:"A newcomer's hardware address, or any hardware address or system UUID" minLength:"1" maxLength:"100" example:"00:00:5e:00:53:66"`
	Note    string `json:"note,omitempty" maxLength:"1000" example:"a visitor's own machine"`
}

// Refusal is a machine that is turned away.
type Refusal struct {
	Value string    `json:"value" doc:"Hardware address or system UUID"`
	At    time.Time `json:"at"`
	By    string    `json:"by"`
	Note  string    `json:"note"`
}

// Admission takes a newcomer into the roster.
type Admission struct {
	Name   string   `json:"name" doc:"Letters, digits, '-', '_' and '.'" minLength:"1" maxLength:"63" example:"herb-01"`
	Groups []string `json:"groups,omitempty" doc:"Groups to put it into" maxItems:"1000" nullable:"false" example:"[\"herbarium\"]"`
}

// NewName is another name for something.
type NewName struct {
	Name string `json:"name" minLength:"1" maxLength:"100" example:"herb-13"`
}

// Group is a named set of workstations.
type Group struct {
	Name         string `json:"name"`
	Where        string `json:"where" doc:"Condition by which it fills itself; empty if people fill it"`
	Workstations int    `json:"workstation_count"`
	Build        int    `json:"build" doc:"That it boots whatever is offered; 0 if none"`
	Menu         int    `json:"menu_seconds" doc:"How long its workstations show a menu before they start from their disk; 0 for no menu"`
	Image        string `json:"image" doc:"What its workstations should have: NAME for the newest version, or NAME@VERSION; empty if nothing is said"`
	Behind       int    `json:"behind_count" doc:"How many of them do not have that"`
}

// GroupImage says what the workstations of a group should have.
type GroupImage struct {
	Image string `json:"image" doc:"NAME for the newest version that is not retired, or NAME@VERSION; empty says nothing any more" maxLength:"80" example:"garden-desk"`
}

// GroupMembers are workstations that come into a group, or leave it.
type GroupMembers struct {
	Workstations []string `json:"workstations,omitempty" maxItems:"10000" doc:"By name or hardware address" nullable:"false" example:"[\"herb-01\",\"herb-02\"]"`
	Where        string   `json:"where,omitempty" doc:"A condition over the roster (docs/roster.md). It narrows the targets; without any, it is for the whole roster" maxLength:"1000" example:"image != \"garden-desk\" and memory >= 8GiB"`
}

// NewGroup asks for a group.
type NewGroup struct {
	Name  string `json:"name" minLength:"1" maxLength:"63" example:"herbarium"`
	Where string `json:"where,omitempty" doc:"A condition over the roster (docs/roster.md): the group has whoever fits it" maxLength:"1000" example:"model startsWith \"A310\""`
}

// WakeUp asks for workstations to be switched on over the network.
type WakeUp struct {
	To    []string `json:"to,omitempty" maxItems:"10000" doc:"Names of workstations and groups" nullable:"false" example:"[\"herbarium\"]"`
	Where string   `json:"where,omitempty" doc:"A condition over the roster (docs/roster.md). It narrows the targets; without any, it is for the whole roster" maxLength:"1000" example:"image != \"garden-desk\" and memory >= 8GiB"`
}

// Woken is to whom wake-ups were sent, and through what. Whether they start shows when they
// ask for an address.
type Woken struct {
	Workstations []string `json:"workstations" nullable:"false"`
	Interfaces   []string `json:"interfaces" nullable:"false" doc:"Of the service's machine"`
}

// NewFields sets fields of a workstation; those that are not named stay.
type NewFields struct {
	Fields map[string]string `json:"fields" doc:"By name; an empty value removes a field" example:"{\"room\":\"2.14\"}"`
}

// Imported is what came of a table of workstations, or would.
type Imported struct {
	Entered bool          `json:"entered" doc:"Whether anything was entered: not in a dry run, nor if all rows were to go in and one is in doubt"`
	Rows    []ImportedRow `json:"rows" nullable:"false" doc:"Those that change something or are in doubt"`
	// These count all rows.
	NewRows       int `json:"new_rows" doc:"Rows whose workstation was entered, and is expected"`
	ChangedRows   int `json:"changed_rows"`
	UnchangedRows int `json:"unchanged_rows"`
	RowsInDoubt   int `json:"rows_in_doubt" doc:"Rows that were left out"`
}

// ImportedRow is what came of a row.
type ImportedRow struct {
	Line        int      `json:"line" doc:"In the file, from 1"`
	Workstation string   `json:"workstation" doc:"Its name, or what else the row says of it"`
	What        string   `json:"what" enum:"new,changed,in doubt"`
	Did         []string `json:"did" nullable:"false" doc:"In words"`
	Problem     string   `json:"problem" doc:"Why the row is in doubt"`
}

// NewNames names many workstations by a pattern.
type NewNames struct {
	Pattern string   `json:"pattern" doc:"Such as herb-{number:02} or {group}-{serial:last4}; the values are number, group, serial, model, maker, address and uuid" minLength:"1" maxLength:"200" example:"herb-{number:02}"`
	To      []string `json:"to,omitempty" doc:"Newcomers by hardware address, workstations and groups" maxItems:"10000" nullable:"false" example:"[\"herbarium\"]"`
	Where   string   `json:"where,omitempty" doc:"A condition over the roster (docs/roster.md). It narrows the targets; without any, it is for the whole roster" maxLength:"1000" example:"image != \"garden-desk\" and memory >= 8GiB"`
	Order   string   `json:"order,omitempty" doc:"Who gets the first number: by hardware address, or who appeared first" enum:"address,appearance" default:"address"`
	Groups  []string `json:"groups,omitempty" doc:"Groups to put them into" maxItems:"1000" nullable:"false" example:"[\"herbarium\"]"`
	DryRun  bool     `json:"dry_run,omitempty" doc:"Only tell the names"`
}

// Named is a workstation with the name that it gets.
type Named struct {
	Address string       `json:"hardware_address"`
	Was     string       `json:"was" doc:"Its name until then; empty for a newcomer"`
	Name    string       `json:"name"`
	State   roster.State `json:"state" enum:"newcomer,expected,admitted,retired,visiting" doc:"Until then"`
	Model   string       `json:"model"`
	Serial  string       `json:"serial"`
}

// NewSite says at which outpost a workstation is.
type NewSite struct {
	Site string `json:"site" doc:"The outpost; empty for none" maxLength:"63" example:"alpine"`
}
