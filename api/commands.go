package api

// Where commands run.
const (
	InSystem      = "system"
	InEnvironment = "boot-environment"
)

// Command is something of the engineer's own that a workstation runs.
type Command struct {
	Name     string `json:"command" doc:"Letters, digits, '-', '_' and '.'; conditions speak of it by this name" minLength:"1" maxLength:"63" example:"scanner"`
	Script   string `json:"script" doc:"Lines for /bin/sh. JUGATE_WORKSTATION is the workstation's name" minLength:"1" maxLength:"32768" example:"lsusb -d 04b8: | tail -1"`
	Place    string `json:"place,omitempty" enum:"system,boot-environment" default:"system" doc:"Where it runs: within the system on the disk, or in the boot environment, which has what a build with programs has"`
	Disk     string `json:"disk,omitempty" doc:"Which disk the system is on: only, serial:NUMBER or size:200GB-600GB" default:"only" maxLength:"300" example:"serial:AL-2601-D1"`
	Limit    int    `json:"time_limit_minutes,omitempty" minimum:"0" maximum:"1440" doc:"After which it is ended, with all that it has started; 10 by default" example:"5"`
	MayFail  bool   `json:"may_fail,omitempty" doc:"Its result is only noted. Otherwise a workstation at which it does not end with 0 is taken out"`
	WhenDone string `json:"when_done,omitempty" enum:"stay,restart,power-off" doc:"What the workstation does afterwards" default:"stay"`
}

// PreparedCommand is a command that is run again and again.
type PreparedCommand struct {
	Command
	Before string   `json:"before,omitempty" enum:"capture,check,wipe,deliver,drivers,payloads" doc:"The part of the order before which it is run. Without it, it is run after all parts but the wait for arrivals"`
	To     []string `json:"to,omitempty" doc:"Groups and workstations; without any, and without a condition, those of the part that it stands before, or after" maxItems:"10000" nullable:"false" example:"[\"herbarium\"]"`
	Where  string   `json:"where,omitempty" doc:"A condition over the roster (docs/roster.md). It narrows the targets; without any, it is for the whole roster" maxLength:"1000" example:"model == \"A310\""`
	Wait   int      `json:"wait_minutes,omitempty" minimum:"0" maximum:"43200" doc:"How long it waits for workstations that do not come; an hour by default" example:"30"`
}

// CommandEnded is how a command has ended.
type CommandEnded struct {
	Status  int     `json:"exit_status" minimum:"0" maximum:"255" doc:"0 if all is well; 128 and the number of the signal that has ended it, as shells have it"`
	Output  string  `json:"output" maxLength:"65536" doc:"The last 64 KiB of what it has said"`
	Dropped int64   `json:"output_dropped" minimum:"0" doc:"Bytes of output before those"`
	Seconds float64 `json:"seconds" minimum:"0"`
	Late    bool    `json:"was_late" doc:"It was ended, as its time was over"`
}

// ToFolders are folders that go back onto a new system.
type ToFolders struct {
	Digest string `json:"digest" doc:"BLAKE3-256 of the archive"`
	Bytes  int64  `json:"bytes"`
	Disk   string `json:"disk,omitempty" doc:"Which disk the system is on"`
}

// CommandRun is a command that a workstation was asked to run, and how that has ended, if it has.
type CommandRun struct {
	Name     string        `json:"command"`
	Place    string        `json:"place" enum:"system,boot-environment"`
	LastLine string        `json:"last_line" doc:"Of its output"`
	Ended    *CommandEnded `json:"command_ended,omitempty"`
}
