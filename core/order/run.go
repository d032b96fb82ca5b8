package order

import "strings"

// Work is what an order has done: one of the kinds below, or a step of the engineer's own (CommandNamed, EntryNamed).
type Work string

// What an order can have done, in the order in which it is done.
const (
	Capture  Work = "capture"  // make a workstation's disk a version
	Check    Work = "check"    // check workstations themselves; those that fail take no part in what comes
	Save     Work = "save"     // capture disks before they are erased
	Wipe     Work = "wipe"     // make what is on their disks unreadable
	Deliver  Work = "deliver"  // bring a version to workstations
	Folders  Work = "folders"  // bring folders back that were saved
	Drivers  Work = "drivers"  // install drivers into systems
	Payloads Work = "payloads" // bring payloads onto systems
	Arrive   Work = "arrive"   // wait until what was delivered has started under its own name
)

// command is what the work begins with that runs a command.
const command = "command "

// CommandNamed is the work that runs a command of a name.
func CommandNamed(name string) Work { return Work(command + name) }

// Command is the name of the command that the work runs; false if it is another.
func (w Work) Command() (name string, is bool) { return strings.CutPrefix(string(w), command) }

// entry is what the work begins with that starts a boot entry.
const entry = "entry "

// EntryNamed is the work that starts a boot entry of a name.
func EntryNamed(name string) Work { return Work(entry + name) }

// Entry is the name of the boot entry that the work starts; false if it is another.
func (w Work) Entry() (name string, is bool) { return strings.CutPrefix(string(w), entry) }

// Step tells whether it is a step of the engineer's own, which stands before or after a part.
func (w Work) Step() bool {
	return strings.HasPrefix(string(w), command) || strings.HasPrefix(string(w), entry)
}

// Name is what conditions call it.
func (w Work) Name() string {
	if _, name, is := strings.Cut(string(w), " "); is && w.Step() {
		return name
	}
	return string(w)
}

// State is how far a run or a part of it is.
type State string

// The states of runs and their parts. A run is never waiting, and a part never missed.
const (
	Waiting State = "waiting"
	Running State = "running"
	Done    State = "done"
	Failed  State = "failed"
	Stopped State = "stopped"
	Missed  State = "missed" // its time was over when the service could have begun it
)

// States are all states.
var States = []State{Waiting, Running, Done, Failed, Stopped, Missed}

// Over tells whether nothing more comes.
func (s State) Over() bool { return s != Waiting && s != Running }

// Next says what is to be done with a run whose parts are in these states: begin is the part that begins now, or negative, and
// now is the state of the run. Parts are done one after the other, and the first that is not done ends the run.
func Next(parts []State) (begin int, now State) {
	for i, s := range parts {
		switch s {
		case Done:
		case Waiting:
			return i, Running
		default:
			return -1, s
		}
	}
	return -1, Done
}

// What becomes of a run whose time came while the service was down.
const (
	RunMissed  = "run"  // begin it as soon as that can be
	SkipMissed = "skip" // leave it out, which the history says
)

// Everybody stands among the roles that an order is released for: anybody may run it at a workstation, without signing in.
const Everybody = "everybody"
