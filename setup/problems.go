package setup

import (
	"context"
	"fmt"
	"net/netip"
	"path/filepath"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"

	"jugate/api"
	"jugate/core/netboot"
	"jugate/core/roster"
)

// Problem is what speaks against an answer.
type Problem struct {
	Answer string // which: interface, mode, pool, data, person
	What   string
	Cure   string
	Mild   bool // it works all the same
}

func (p Problem) String() string {
	text := p.Answer + ": " + p.What
	if p.Cure != "" {
		text += "; " + p.Cure
	}
	return text
}

// questions are tried in this order: what a later one needs was tried before.
var questions = []struct {
	answer string
	try    func(a *Answers, ctx context.Context, m Machine, interfaces []Interface) []Problem
}{
	{"interface", (*Answers).tryInterface}, {"mode", (*Answers).tryMode}, {"pool", (*Answers).tryPool}, {"data", (*Answers).tryData}, {"person", (*Answers).tryPerson},
}

// Try tries one answer on the machine.
func (a *Answers) Try(ctx context.Context, m Machine, answer string) ([]Problem, error) {
	interfaces, err := m.Interfaces()
	if err != nil {
		return nil, err
	}
	for _, q := range questions {
		if q.answer == answer {
			return q.try(a, ctx, m, interfaces), nil
		}
	}
	return nil, fmt.Errorf("nothing is asked about %q", answer)
}

// Problems tries all answers.
func (a *Answers) Problems(ctx context.Context, m Machine) (all []Problem, err error) {
	for _, q := range questions {
		problems, err := a.Try(ctx, m, q.answer)
		if err != nil {
			return nil, err
		}
		all = append(all, problems...)
	}
	return all, nil
}

func (a *Answers) tryInterface(_ context.Context, m Machine, interfaces []Interface) []Problem {
	const answer = "interface"
	names := make([]string, 0, len(interfaces))
	for _, i := range interfaces {
		names = append(names, i.Name)
	}
	at := slices.Index(names, a.Interface)
	if at < 0 {
		return []Problem{{Answer: answer, What: fmt.Sprintf("%q is not an interface of this machine", a.Interface), Cure: "there are " + strings.Join(names, ", ")}}
	}
	i := interfaces[at]
	switch own, has := a.own(interfaces); {
	case !has:
		return []Problem{{Answer: answer, What: i.Name + " has no IPv4 address, so workstations cannot reach the service by it", Cure: "give it one, and then run this again"}}
	case own.Addr().IsLinkLocalUnicast():
		return []Problem{{Answer: answer, What: fmt.Sprintf("%s has the address %s, which machines give themselves when no server gives them one", i.Name, own.Addr()), Cure: "look at its cable and at the DHCP server there, or give it an address of your own"}}
	case !i.Up:
		return []Problem{{Answer: answer, What: i.Name + " is down, or its cable is not plugged in", Cure: "ip link set " + i.Name + " up"}}
	default:
		if err := m.Listens(netip.AddrPortFrom(own.Addr(), Port)); err != nil {
			return []Problem{{Answer: answer, What: err.Error(), Cure: "another program has that port; end it, or choose another port with listen in the configuration file"}}
		}
	}
	return nil
}

func (a *Answers) tryMode(ctx context.Context, m Machine, interfaces []Interface) []Problem {
	const answer = "mode"
	if !slices.Contains([]netboot.Mode{netboot.Beside, netboot.Whole, netboot.Off}, a.Mode) {
		return []Problem{{Answer: answer, What: fmt.Sprintf("%q is not one of beside, whole, off", a.Mode)}}
	}
	if _, has := a.own(interfaces); !has || a.Mode == netboot.Off {
		return nil
	}
	others, err := m.OtherServers(ctx, a.Interface)
	switch {
	case err != nil:
		return []Problem{{Answer: answer, What: fmt.Sprintf("whether another server gives addresses on %s cannot be told: %v", a.Interface, err), Mild: true}}
	case a.Mode == netboot.Whole && len(others) > 0:
		return []Problem{{Answer: answer, What: fmt.Sprintf("%s gives addresses on %s already, and two servers would give the same ones twice", others[0], a.Interface), Cure: "choose beside, or switch that server off first"}}
	case a.Mode == netboot.Beside && len(others) == 0:
		return []Problem{{Answer: answer, What: fmt.Sprintf("nobody gives addresses on %s, and beside another server this one gives none", a.Interface), Cure: "choose whole, unless the other server is just off at the moment", Mild: true}}
	}
	return nil
}

func (a *Answers) tryPool(_ context.Context, _ Machine, interfaces []Interface) []Problem {
	const answer = "pool"
	if a.Mode != netboot.Whole {
		if a.Pool != "" {
			return []Problem{{Answer: answer, What: "only mode whole gives addresses", Cure: "leave it out, or choose whole"}}
		}
		return nil
	}
	p, err := netboot.ParsePool(a.Pool)
	if err != nil {
		return []Problem{{Answer: answer, What: err.Error(), Cure: `write it as "192.0.2.100-192.0.2.199/24 router 192.0.2.1 dns 192.0.2.53"`}}
	}
	if _, err := netboot.NewPool(p, nil, nil); err != nil {
		return []Problem{{Answer: answer, What: err.Error()}}
	}
	if own, has := a.own(interfaces); has && !p.Prefix.Contains(own.Addr()) {
		return []Problem{{Answer: answer, What: fmt.Sprintf("%s has the address %s, which is not in that subnet", a.Interface, own.Addr()), Cure: "mode whole needs a pool of " + own.Masked().String()}}
	}
	if !p.Router.IsValid() {
		return []Problem{{Answer: answer, What: "machines are told no router, so they reach nothing outside their own network", Cure: "add router ADDRESS if they should", Mild: true}}
	}
	return nil
}

// enough is how many bytes a service can begin with, and little is where it is worth a word: a golden disk takes some 10 to 40 GB.
const (
	enough = 4 << 30
	little = 100 << 30
)

func (a *Answers) tryData(_ context.Context, m Machine, _ []Interface) []Problem {
	const answer = "data"
	if !filepath.IsAbs(a.Data) {
		return []Problem{{Answer: answer, What: fmt.Sprintf("%q does not begin with /", a.Data)}}
	}
	free, kept, problem := m.Free(a.Data)
	switch {
	case problem != "":
		return []Problem{{Answer: answer, What: problem}}
	case !kept:
		return []Problem{{Answer: answer, What: a.Data + " lies in memory: all of it is gone when the machine is off", Cure: "choose a folder on a disk"}}
	case free < enough:
		return []Problem{{Answer: answer, What: fmt.Sprintf("%s are free there, which is not enough for one golden disk", humanize.IBytes(uint64(free))), Cure: "choose a folder on a larger disk"}}
	case free < little:
		return []Problem{{Answer: answer, What: fmt.Sprintf("%s are free there; a golden disk takes some 10 to 40 GiB, and its next versions much less", humanize.IBytes(uint64(free))), Mild: true}}
	}
	return nil
}

func (a *Answers) tryPerson(context.Context, Machine, []Interface) []Problem {
	const answer = "person"
	if a.Person != "" {
		if err := roster.CheckName("a person", a.Person); err != nil {
			return []Problem{{Answer: answer, What: err.Error()}}
		}
	}
	switch {
	case a.Person == "" && a.Password == "":
		return []Problem{{Answer: answer, What: "nobody becomes the first administrator now", Cure: "jugate person add NAME --grant administrator does that later", Mild: true}}
	case a.Person == "":
		return []Problem{{Answer: answer, What: "there is a password, and nobody who has it"}}
	case a.Password == "":
		return []Problem{{Answer: answer, What: a.Person + " has no password yet", Cure: "a link is shown with which one is set", Mild: true}}
	case len([]rune(a.Password)) < api.ShortestPassword:
		return []Problem{{Answer: answer, What: fmt.Sprintf("the password is shorter than %d characters", api.ShortestPassword), Cure: "a sentence is easy to keep in mind"}}
	}
	return nil
}
