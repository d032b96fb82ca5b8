package netboot

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"jugate/core/hwaddr"
)

// Step is a station on the way from the power button to the agent.
type Step string

// The steps, in order.
const (
	StepAddress Step = "address" // one was offered, here or elsewhere
	StepLoader  Step = "loader"  // fetched
	StepScript  Step = "script"  // made for it
	StepKernel  Step = "kernel"  // fetched
	StepInitrd  Step = "initrd"  // all of it was fetched
	StepAgent   Step = "agent"   // called
	StepEntry   Step = "entry"   // a file of a boot entry was fetched
	StepRefused Step = "refused" // not answered, and why
	StepFailed  Step = "failed"  // a file that could not be served, and why
)

// Steps are all of them.
var Steps = []Step{StepAddress, StepLoader, StepScript, StepKernel, StepInitrd, StepAgent, StepEntry, StepRefused, StepFailed}

// Mark is a step that a machine took.
type Mark struct {
	At     time.Time `json:"at"`
	Step   Step      `json:"step" enum:"address,loader,script,kernel,initrd,agent,entry,refused,failed"`
	Detail string    `json:"detail"`
}

const (
	// trailLength is how many steps of a machine are kept.
	trailLength = 24
	// trailMachines is how many machines are kept; the one that was longest silent
	// goes first.
	trailMachines = 4096
	// callWithin is how long the way from the kernel to the agent's call may take.
	callWithin = time.Minute
)

// Trail remembers the last steps of every machine. It is not safe for use by several
// goroutines.
type Trail struct {
	machines map[hwaddr.Address][]Mark
}

// Note adds a step. The same one again, with nothing new, only gets another time.
func (t *Trail) Note(now time.Time, a hwaddr.Address, s Step, detail string) {
	if t.machines == nil {
		t.machines = map[hwaddr.Address][]Mark{}
	}
	marks := t.machines[a]
	if n := len(marks); n > 0 && marks[n-1].Step == s && marks[n-1].Detail == detail {
		marks[n-1].At = now
		return
	}
	if len(marks) >= trailLength {
		marks = slices.Delete(marks, 0, len(marks)-trailLength+1)
	}
	if _, known := t.machines[a]; !known && len(t.machines) >= trailMachines {
		t.forgetOne()
	}
	t.machines[a] = append(marks, Mark{now, s, detail})
}

func (t *Trail) forgetOne() {
	var oldest hwaddr.Address
	var at time.Time
	for a, marks := range t.machines {
		if last := marks[len(marks)-1].At; at.IsZero() || last.Before(at) {
			oldest, at = a, last
		}
	}
	delete(t.machines, oldest)
}

// Steps are the last steps of a machine, oldest first.
func (t *Trail) Steps(a hwaddr.Address) []Mark { return slices.Clone(t.machines[a]) }

// Signed tells whether a machine should get the signed loader the next time: a loader
// after which the machine never asked for its script is followed by the other one.
func (t *Trail) Signed(a hwaddr.Address) bool {
	signed := false
	scripted := true
	for _, m := range t.machines[a] {
		switch m.Step {
		case StepLoader:
			signed, scripted = strings.HasPrefix(m.Detail, shimFile), false
		case StepScript:
			scripted = true
		}
	}
	return signed == scripted
}

// CameUp tells whether the boot environment that a machine got last called; true for one of which nobody knows that it got any.
func (t *Trail) CameUp(a hwaddr.Address) bool {
	up := true
	for _, m := range t.machines[a] {
		switch m.Step {
		case StepInitrd:
			up = false
		case StepAgent:
			up = true
		}
	}
	return up
}

// Machines are all that took a step, the latest first.
func (t *Trail) Machines() []hwaddr.Address {
	var all []hwaddr.Address
	for a := range t.machines {
		all = append(all, a)
	}
	slices.SortFunc(all, func(a, b hwaddr.Address) int {
		x, y := t.machines[a], t.machines[b]
		return cmp.Or(y[len(y)-1].At.Compare(x[len(x)-1].At), cmp.Compare(a.String(), b.String()))
	})
	return all
}

// Silent tells whether a machine has the boot environment and never called.
func (t *Trail) Silent(now time.Time, a hwaddr.Address) bool {
	marks := t.machines[a]
	if len(marks) == 0 {
		return false
	}
	last := marks[len(marks)-1]
	return now.Sub(last.At) >= callWithin && last.Step == StepInitrd
}

// Stuck tells, in words, what probably keeps a machine from getting on; empty when
// nothing does.
func (t *Trail) Stuck(now time.Time, a hwaddr.Address) string {
	marks := t.machines[a]
	if len(marks) == 0 {
		return ""
	}
	last := marks[len(marks)-1]
	if now.Sub(last.At) < callWithin {
		return ""
	}
	ago := fmt.Sprintf("%.0f minutes", now.Sub(last.At).Minutes())
	switch last.Step {
	case StepInitrd:
		return fmt.Sprintf("it received the boot environment %s ago, and its agent has not checked in. Most likely this build has no driver for its network card, or its network gives it no address. Its screen says which", ago)
	case StepKernel:
		return fmt.Sprintf("it began to load the kernel %s ago, and its agent has not checked in. The rest of the boot environment may not have arrived, or it does not fit into its memory", ago)
	case StepLoader:
		return fmt.Sprintf("it received the loader %s ago and has not asked for its script. Secure Boot may have refused the loader, or the loader does not know the network card", ago)
	case StepAddress:
		return fmt.Sprintf("it was answered %s ago and has not fetched the loader. A firewall may be on the way (UDP port %d), or its firmware has heard another server first", ago, TFTPPort)
	case StepFailed:
		return last.Detail
	default:
		return ""
	}
}
