package api

import (
	"strings"
	"time"
)

// BootParameter is a value that is said when a boot entry is started.
type BootParameter struct {
	Name    string   `json:"parameter" minLength:"1" maxLength:"40" pattern:"^[a-z][a-z0-9_]*$" doc:"How templates name it: .parameter.NAME" example:"mirror"`
	Ask     string   `json:"ask" minLength:"1" maxLength:"200" doc:"The question at the workstation's screen" example:"Host that has Debian's packages"`
	Default string   `json:"default,omitempty" maxLength:"200" doc:"What counts if nothing is said" example:"deb.debian.org"`
	Choices []string `json:"choices,omitempty" maxItems:"20" nullable:"false" doc:"What can be said; anything if there are none" example:"[\"bookworm\",\"trixie\"]"`
}

// BootEntrySettings are what an engineer says of a boot entry.
type BootEntrySettings struct {
	Title      string          `json:"title,omitempty" maxLength:"60" doc:"What menus call it; its name by default" example:"Install Debian 12"`
	Note       string          `json:"note,omitempty" maxLength:"1000" example:"for the golden machine"`
	Hidden     bool            `json:"hidden,omitempty" doc:"It is in no menu; whoever names it can have it all the same"`
	Position   int             `json:"position,omitempty" minimum:"-1000" maximum:"1000" doc:"Its place in menus; then names count" example:"10"`
	To         []string        `json:"to,omitempty" maxItems:"200" nullable:"false" doc:"Groups, names and addresses of the workstations that it is for; all of them if where says nothing either" example:"[\"herbarium\"]"`
	Where      string          `json:"where,omitempty" maxLength:"1000" doc:"A condition (docs/roster.md) of the workstations that it is for" example:"model == \"A310\""`
	Released   []string        `json:"released,omitempty" maxItems:"50" nullable:"false" doc:"Roles whose people may start it at a workstation, whatever else they may do; everybody has it in boot menus without signing in. Who may deliver to a workstation may start it there in any case" example:"[\"helper\"]"`
	Pinned     int             `json:"pinned_version,omitempty" minimum:"0" maximum:"1000000" doc:"The version that is shown; the newest if this is 0" example:"2"`
	Words      string          `json:"words,omitempty" maxLength:"4000" doc:"Template of the kernel's command line; one that fits what was recognised by default" example:"auto=true url={{.answer_file}}"`
	Reads      string          `json:"reads,omitempty" enum:"none,preseed,kickstart,text" doc:"The form of the answer file that its installer reads; as recognised by default" example:"preseed"`
	AnswerFile string          `json:"answer_template,omitempty" maxLength:"65536" doc:"Template of the answer file; the ready-made one of its form by default" example:"d-i netcfg/get_hostname string {{.computer_name}}"`
	Parameters []BootParameter `json:"parameters,omitempty" maxItems:"20" nullable:"false" doc:"What is said when it is started; those of the ready-made answer file by default"`
	Erases     bool            `json:"erases,omitempty" doc:"It destroys what is on the disk without asking, as installers with an answer file do; those with a ready-made one always count as such"`
}

// BootEntry is something other than a build that a workstation can boot.
type BootEntry struct {
	Name string `json:"boot_entry" example:"debian-installer"`
	BootEntrySettings
	Shown    int                `json:"shown_version" doc:"The version that workstations get" example:"2"`
	Destroys bool               `json:"destroys" doc:"Whether it destroys what is on the disk without asking"`
	Versions []BootEntryVersion `json:"entry_versions" nullable:"false" doc:"The newest first"`
	Saved    time.Time          `json:"saved"`
	SavedBy  string             `json:"saved_by" example:"holm"`
}

// BootEntryVersion is what was given at a time.
type BootEntryVersion struct {
	Version int              `json:"version" example:"2"`
	What    string           `json:"what" doc:"What was recognised" example:"installer of Debian: 12 (bookworm)"`
	Reads   string           `json:"reads,omitempty" example:"preseed"`
	Starts  []BootEntryStart `json:"starts" nullable:"false" doc:"The ways to start it"`
	Bytes   int64            `json:"bytes" example:"49032932"`
	Remarks []string         `json:"remarks" nullable:"false" doc:"What it lacks, and which machines cannot start it"`
	Origin  string           `json:"origin" doc:"The file that it came from" example:"debian-installer-12-netboot-amd64.deb"`
	Added   time.Time        `json:"added"`
	AddedBy string           `json:"added_by" example:"holm"`
}

// BootEntryStart is one way to start a boot entry.
type BootEntryStart struct {
	Way    string     `json:"way" enum:"kernel,UEFI program,BIOS program,disc" example:"kernel"`
	Arch   string     `json:"architecture" example:"x64"`
	Signer string     `json:"signer,omitempty" doc:"As the program's certificate says; without one Secure Boot refuses it" example:"Debian Secure Boot Signer 2022 - linux"`
	Memory int64      `json:"memory" doc:"Bytes that it takes at least" example:"253560548"`
	Files  []BootFile `json:"files" nullable:"false"`
}

// BootFile is a file of a boot entry.
type BootFile struct {
	Path   string `json:"path" example:"amd64/linux"`
	Bytes  int64  `json:"bytes" example:"8222656"`
	Digest string `json:"digest" doc:"BLAKE3-256"`
}

// BootChoice has workstations boot a boot entry in place of their disk.
type BootChoice struct {
	To         []string          `json:"to,omitempty" maxItems:"200" nullable:"false" doc:"Workstations and groups, by name or address" example:"[\"herb-01\"]"`
	Where      string            `json:"where,omitempty" maxLength:"1000" doc:"A condition (docs/roster.md)" example:"model == \"A310\""`
	When       string            `json:"when_started" enum:"once,always,never" doc:"Once at the next start; at every start, which of a group is the default of all that are in it; or not any more" example:"once"`
	Entry      string            `json:"boot_entry,omitempty" maxLength:"63" doc:"Not with never" example:"debian-installer"`
	Parameters map[string]string `json:"values,omitempty" doc:"What its parameters are" example:"{\"mirror\":\"mirror.fennholt.example\"}"`
}

// BootChoiceMade is what became of a choice.
type BootChoiceMade struct {
	Workstations []string  `json:"workstations" nullable:"false" doc:"For whom it counts" example:"[\"herb-01\"]"`
	Groups       []string  `json:"groups" nullable:"false" doc:"Groups that have it as their default" example:"[\"herbarium\"]"`
	LeftOut      []LeftOut `json:"taken_out" nullable:"false" doc:"Who cannot start it, and why"`
}

// BootPreview is what one workstation would be given with a boot entry.
type BootPreview struct {
	Workstation string   `json:"workstation" example:"herb-01"`
	Entry       string   `json:"boot_entry" example:"debian-installer"`
	Version     int      `json:"version" example:"2"`
	Way         string   `json:"way" example:"kernel"`
	Words       string   `json:"words,omitempty" doc:"The kernel's command line; a ticket stands as TICKET" example:"auto=true hostname=herb-01"`
	FileName    string   `json:"file_name,omitempty" example:"preseed.cfg"`
	AnswerFile  string   `json:"answer_text,omitempty" doc:"The answer file; secrets stand as (set)" example:"d-i netcfg/get_hostname string herb-01"`
	Remarks     []string `json:"remarks" nullable:"false" doc:"Answers that it has no place for" example:"[\"it has no place for the answer helper\"]"`
}

// BootStart is a start of a boot entry at a workstation.
type BootStart struct {
	ID          int64             `json:"boot_start" example:"12"`
	Workstation string            `json:"workstation" example:"herb-01"`
	Entry       string            `json:"boot_entry" example:"debian-installer"`
	Version     int               `json:"version" example:"2"`
	Way         string            `json:"way" example:"kernel"`
	Parameters  map[string]string `json:"values,omitempty" example:"{\"mirror\":\"mirror.fennholt.example\"}"`
	Made        time.Time         `json:"made" doc:"When its script was made"`
	Loaded      *time.Time        `json:"loaded,omitempty" doc:"When its kernel or program had left the service"`
	Fetched     *time.Time        `json:"answers_fetched,omitempty" doc:"When its answer file was first fetched"`
	FetchedBy   string            `json:"fetched_by,omitempty" doc:"The address that fetched it; no other gets it" example:"192.0.2.101"`
	Ended       *time.Time        `json:"ended,omitempty"`
	How         string            `json:"how_ended,omitempty" enum:"told,restarted" doc:"It has said that it is done, or the workstation has started anew" example:"told"`
}

// BootEntryAt is a boot entry that may be started at a workstation.
type BootEntryAt struct {
	Name       string          `json:"boot_entry" example:"debian-installer"`
	Title      string          `json:"title" example:"Install Debian 12"`
	Parameters []BootParameter `json:"parameters" nullable:"false" doc:"What is asked first"`
}

// EntryErrand has a workstation start a boot entry, and is over when that is.
type EntryErrand struct {
	Entry      string            `json:"boot_entry" minLength:"1" maxLength:"63" example:"debian-installer"`
	Parameters map[string]string `json:"values,omitempty" doc:"What its parameters are" example:"{\"mirror\":\"mirror.fennholt.example\"}"`
}

// PreparedEntry is a boot entry that an order starts at workstations, and whose end it waits for: that it says so, if its answer file
// or kernel is told how (.ended), or that the workstation starts anew.
type PreparedEntry struct {
	EntryErrand
	Before string   `json:"before,omitempty" enum:"capture,check,wipe,deliver,drivers,payloads" doc:"The part of the order before which it is started. Without it, it is started after all parts but the wait for arrivals"`
	To     []string `json:"to,omitempty" doc:"Groups and workstations; without any, and without a condition, those of the part that it stands before, or after" maxItems:"10000" nullable:"false" example:"[\"desk-gold\"]"`
	Where  string   `json:"where,omitempty" doc:"A condition over the roster (docs/roster.md). It narrows the targets; without any, it is for the whole roster" maxLength:"1000" example:"model == \"A310\""`
	Wait   int      `json:"wait_minutes,omitempty" minimum:"0" maximum:"43200" doc:"How long it waits for workstations that do not come; an hour by default" example:"30"`
	Limit  int      `json:"time_limit_minutes,omitempty" minimum:"0" maximum:"10080" doc:"How long it may take; four hours by default" example:"90"`
}

// BootPreviewOf says for which workstation, and with which values.
type BootPreviewOf struct {
	Workstation string            `json:"workstation" minLength:"1" maxLength:"63" example:"herb-01"`
	Parameters  map[string]string `json:"values,omitempty" doc:"What the parameters are" example:"{\"mirror\":\"mirror.fennholt.example\"}"`
}

// Question is what a person is asked for a parameter.
func (p BootParameter) Question() string {
	if len(p.Choices) == 0 {
		return p.Ask
	}
	return p.Ask + " (" + strings.Join(p.Choices, ", ") + ")"
}
