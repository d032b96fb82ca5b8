package doctor

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"jugate/api"
	"jugate/core/check"
	"jugate/core/netboot"
	"jugate/core/roster"
)

// workstationFacts are what is known of one workstation.
type workstationFacts struct {
	ref     string
	is      *api.Workstation // nil if the roster does not know it
	refused bool
	status  api.NetbootStatus
	trail   *api.BootTrail // nil if nothing was heard of it since the service was started
	errands []api.Errand   // that wait or run, the newest first
	check   *api.Check     // the last
	bootKey string         // of its model
}

// judge follows a workstation from the power button on, and then looks at its disk.
func (f *workstationFacts) judge() (all []api.Diagnosis) {
	add := func(looked, state, what, cure string) {
		all = append(all, api.Diagnosis{Looked: looked, State: state, What: what, Cure: cure})
	}
	f.known(add)
	f.boot(add)
	if f.is == nil {
		return all
	}
	for _, e := range f.errands {
		if e.State == "waiting" && !f.is.Online {
			add("errand", api.Warning, fmt.Sprintf("%s %d waits for it", e.Kind, e.ID), "jugate workstation wake "+f.ref+", or switch it on: it boots the boot environment by itself then")
		}
	}
	if len(f.is.Proposed) > 0 {
		add("network card", api.Warning, fmt.Sprintf("it was seen with a card that nobody has accepted: %s", strings.Join(f.is.Proposed, ", ")), "jugate card accept "+f.ref+" "+f.is.Proposed[0])
	}
	f.disk(add)
	return all
}

// known judges what the roster says of it.
func (f *workstationFacts) known(add func(looked, state, what, cure string)) {
	const looked = "roster"
	switch {
	case f.refused:
		add(looked, api.Bad, "an engineer has turned it away, so it gets no answer", "jugate workstation welcome "+f.ref)
	case f.is == nil && f.status.Unknown == string(netboot.Ignore):
		add(looked, api.Bad, "nobody has admitted it, and machines that nobody has admitted get no answer", "jugate workstation admit "+f.ref+" NAME, or jugate config set unknown hold")
	case f.is == nil:
		add(looked, api.Warning, "nobody has admitted it; it waits on screen when it has booted", "jugate workstation admit "+f.ref+" NAME")
	case f.is.State == roster.Newcomer && f.status.Unknown == string(netboot.Ignore):
		add(looked, api.Bad, "it is a newcomer, and machines that nobody has admitted get no answer", "jugate workstation admit "+f.ref+" NAME, or jugate config set unknown hold")
	case f.is.State == roster.Newcomer:
		add(looked, api.Warning, "it is a newcomer, and waits to be admitted", "jugate workstation admit "+f.ref+" NAME")
	case f.is.State == roster.Retired:
		add(looked, api.Warning, "it is retired: it starts its own disk and gets nothing else", "jugate workstation admit "+f.ref)
	default:
		add(looked, api.Good, "it is "+string(f.is.State), "")
	}
}

// boot judges how far it came.
func (f *workstationFacts) boot(add func(looked, state, what, cure string)) {
	const looked = "network boot"
	serving := false
	for _, l := range f.status.Links {
		serving = serving || l.State == "serving"
	}
	away := f.is != nil && f.is.Site != ""
	switch {
	case f.is != nil && f.is.Online:
		add(looked, api.Good, "its agent is on: "+cmp.Or(f.is.Activity, "waiting"), "")
	case f.refused:
	case f.trail != nil && f.trail.Stuck != "":
		cure := "jugate netboot status " + f.trail.Address + " tells each step"
		if f.trail.Cover != "" {
			cure = "jugate environment build --cover " + f.trail.Cover + " --offer, and start it again"
		}
		add(looked, api.Bad, f.trail.Stuck, cure)
	case f.trail != nil && len(f.trail.Steps) > 0:
		last := f.trail.Steps[len(f.trail.Steps)-1]
		add(looked, api.Good, fmt.Sprintf("it came as far as %q at %s%s", last.Step, last.At.Format(time.TimeOnly), detail(last.Detail)), "")
	case away:
		add(looked, api.Warning, fmt.Sprintf("it called by the outpost %s last, which knows more of it", f.is.Site), "jugate outpost show "+f.is.Site)
	case !serving:
		add(looked, api.Bad, "network boot is served on no interface", "jugate config set netboot eth1=beside")
	case f.status.Offered == 0:
		add(looked, api.Bad, "no build of the boot environment is offered", "jugate environment build --offer")
	default:
		add(looked, api.Bad, "nothing was heard of it since the service was started: it is off, starts its own disk first, has no cable, or its requests do not reach the service",
			f.howToBoot()+"; if its screen says that it waits for DHCP, the service is not in its network: a router between them needs a relay agent (docs/network-boot.md)")
	}
}

// howToBoot says how to have it boot over the network.
func (f *workstationFacts) howToBoot() string {
	if f.bootKey != "" {
		return fmt.Sprintf("switch it on and press %s for the boot menu, and choose the network card", f.bootKey)
	}
	return "switch it on, and choose the network card in its boot menu or setup (jugate model set keeps the key for that)"
}

// disk judges what is on its disk.
func (f *workstationFacts) disk(add func(looked, state, what, cure string)) {
	switch {
	case f.is.Unfinished:
		add("disk", api.Bad, fmt.Sprintf("a copy of %s was begun and is not whole: the disk does not start", f.is.Image), "jugate deliver "+f.is.Image+" --to "+f.ref)
	case f.is.Image != "":
		add("disk", api.Good, "it has "+f.is.Image, "")
	}
	if f.check == nil {
		return
	}
	switch f.check.Verdict {
	case check.Bad:
		what := "its last check found it unfit"
		for _, one := range f.check.Findings {
			if one.Verdict == check.Bad {
				what += ": " + one.Text
				break
			}
		}
		add("check", api.Bad, what, fmt.Sprintf("jugate check show %d; replace what has failed before it gets another image", f.check.ID))
	default:
		add("check", api.Good, fmt.Sprintf("its last check, of %s, found it %s", f.check.Ended.Format(time.DateOnly), f.check.Verdict), "")
	}
}

func detail(text string) string {
	if text == "" {
		return ""
	}
	return " (" + text + ")"
}
