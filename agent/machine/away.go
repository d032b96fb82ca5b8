package machine

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/dustin/go-humanize"

	"jugate/agent"
	"jugate/api"
)

// Where no network is, a disk is captured onto a second one, as a packed image that is handed in later.

// connected notes that there is a network, and an agent that works for the service.
func (p *person) connected(a *agent.Agent, inventory api.Inventory, network []string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.agent, p.inventory, p.network = a, inventory, network
	if p.typing == nil {
		p.screen.change(func(v *view) { v.keys = p.keys() })
	}
}

// explained keeps what there is to say of the network, for its page.
func (p *person) explained(lines []string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.network = lines
}

// undisturbed waits until no disk is being captured onto another.
func (p *person) undisturbed() {
	p.away.Lock()
	defer p.away.Unlock()
}

// captureAway asks which disk is captured onto which other one, and under what name.
func (p *person) captureAway(ctx context.Context) {
	machine := agent.Hardware{}
	inventory, err := machine.Inventory() // a disk may have come since
	if err != nil || len(inventory.Disks) == 0 {
		p.say("This machine has no disk that could be captured.")
		return
	}
	var names []string
	for _, d := range inventory.Disks {
		names = append(names, strings.TrimSpace(fmt.Sprintf("%s %s", humanize.Bytes(uint64(d.Size)), d.Model))+", serial number "+d.Serial)
	}
	p.pick("Capture which disk?", "disk", nil, names, func(ctx context.Context, i int) {
		shelves, err := machine.Shelves(i)
		if err != nil || len(shelves) == 0 {
			p.say("No other disk here has a file system that could take it: plug one in, with ext4, XFS, exFAT or NTFS on it.")
			return
		}
		names = nil
		for _, s := range shelves {
			names = append(names, s.Words)
		}
		p.pick("Onto which volume?", "volume", []string{"It gets one file more; nothing else on it is touched.", ""}, names, func(_ context.Context, n int) {
			p.ask("As a version of which image?", []string{"That is the name under which it is handed in: jugate image import FILE --as NAME"}, "image:", func(ctx context.Context, name string) {
				p.putAway(ctx, machine, i, shelves[n], name, "")
			})
		})
	})
}

// putAway captures a disk beside the keys, and says what came of it.
func (p *person) putAway(ctx context.Context, machine agent.Hardware, i int, to agent.Shelf, name, despite string) {
	if name == "" {
		p.say("Nothing is captured without a name.")
		return
	}
	if !p.away.TryLock() {
		p.say("A disk is being captured onto another; wait until that is done.")
		return
	}
	p.show(page{})
	p.screen.log("capturing " + name + " onto " + to.Words)
	go func() {
		file, err := agent.New(nil, machine, agent.Options{Show: p.screen.show}).CaptureOnto(ctx, i, to, name, despite)
		p.away.Unlock()
		p.mu.Lock()
		defer p.mu.Unlock()
		var blocked *agent.BlockedError
		switch {
		case errors.As(err, &blocked):
			p.ask("Capture it all the same?", []string{blocked.Error(), "", "Type the reason, which the version keeps; Esc leaves it."}, "reason:", func(ctx context.Context, reason string) {
				if reason == "" {
					p.say("Nothing is captured without a reason.")
					return
				}
				p.putAway(ctx, machine, i, to, name, reason)
			})
		case err != nil:
			p.say("The disk could not be captured: %v", err)
		default:
			p.show(page{title: "Captured into " + file, lines: []string{"It is on " + to.Words + ".", "", "Hand it in where the service is:", "jugate image import " + file + " --as " + name, "", "Esc: back"}})
		}
	}()
}
