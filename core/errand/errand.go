// Package errand has what one workstation may be asked to do, and how far that can be.
package errand

import "slices"

// Kind is what a workstation is asked to do.
type Kind string

// The kinds of errands.
const (
	Capture Kind = "capture" // make its disk a version
	Receive Kind = "receive" // take part in a delivery
	Drivers Kind = "drivers" // install drivers into the system on its disk
	// Payloads brings payloads onto the system on its disk.
	Payloads Kind = "payloads"
	Check    Kind = "check"   // check the machine itself
	Wipe     Kind = "wipe"    // make what is on a disk unreadable
	Command  Kind = "command" // run a command of the engineer's own
	Folders  Kind = "folders" // bring folders back that were saved before the disk was erased
	Entry    Kind = "entry"   // start a boot entry; it is over when that is
)

// Kinds are all kinds.
var Kinds = []Kind{Capture, Receive, Drivers, Payloads, Check, Wipe, Command, Folders, Entry}

// State is how far an errand is.
type State string

// The states of errands. One that waits or runs is open; no errand leaves the others.
const (
	Waiting State = "waiting" // for the workstation to ask for it
	Running State = "running"
	Done    State = "done"
	Failed  State = "failed"
	Stopped State = "stopped"
)

// States are all states, in their order.
var States = []State{Waiting, Running, Done, Failed, Stopped}

// Open tells whether there is still something to do.
func (s State) Open() bool { return slices.Contains(States[:2], s) }
