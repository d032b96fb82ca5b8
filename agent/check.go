package agent

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"time"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/check"
	"jugate/core/disk"
	"jugate/wire"
)

// errWithdrawn says that the service does not want an errand any more.
var errWithdrawn = errors.New("the errand was stopped")

// longErrand is one that the service is told of beside the work, and may withdraw. Without the service it goes on.
type longErrand struct {
	agent *Agent
	news  *news
}

// stands gives a context that ends when the service does not want the errand any more.
func (a *Agent) stands(ctx context.Context, id int64) (context.Context, *longErrand) {
	within, cancel := context.WithCancelCause(ctx)
	tell := func(ctx context.Context, activity api.Activity) error {
		_, err := authorized(ctx, a, func(c *apiclient.Client) (struct{}, error) { return struct{}{}, c.UnderErrand(ctx, id, activity) })
		if isTold(err) {
			cancel(errWithdrawn)
		}
		return err
	}
	return within, &longErrand{a, newNews(ctx, tell)}
}

// tell shows how far the errand is, and has the service told now and then.
func (l *longErrand) tell(text string, done, total int64) {
	l.agent.options.Show(Status{Name: l.agent.called(), Text: text, Done: done, Total: total})
	l.news.set(api.Activity{Text: text, Done: done, Total: total})
}

// check checks the machine itself.
func (a *Agent) check(ctx context.Context, e *api.ToErrand) error {
	to := e.Check
	if to == nil {
		return a.decline(ctx, e)
	}
	within, standing := a.stands(ctx, e.ID)
	defer standing.news.end()
	result := check.Result{Problems: []string{}}
	for _, one := range []struct {
		what string
		is   bool
		do   func() error
	}{
		{"the network", to.Network, func() (err error) { result.Network, err = a.checkNetwork(within, e.ID, to, standing); return }},
		{"the disk's health", to.Health, func() (err error) { result.Health, err = a.checkHealth(to.Disk); return }},
		{"the disk's surface", to.Surface != "" && to.Surface != "none", func() (err error) { result.Surface, err = a.checkSurface(within, to, standing); return }},
		{"the memory", to.Memory != "" && to.Memory != "none", func() (err error) { result.Memory, err = a.checkMemory(within, to, standing); return }},
	} {
		if !one.is {
			continue
		}
		err := one.do()
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case errors.Is(context.Cause(within), errWithdrawn):
			a.show("the check was stopped")
			return nil
		case err != nil: // the rest is checked all the same
			result.Problems = append(result.Problems, fmt.Sprintf("%s could not be checked: %v", one.what, err))
		}
	}
	judged, err := authorized(ctx, a, func(c *apiclient.Client) (api.Judged, error) { return c.Checked(ctx, e.ID, result) })
	if err == nil {
		a.found(judged)
	}
	return a.leaveAfter(to.WhenDone, err)
}

// found keeps what a check has found for the screen, until there is something else to do.
func (a *Agent) found(judged api.Judged) {
	text := "checked: " + string(judged.Verdict)
	for _, f := range judged.Findings {
		if f.Verdict != check.Good {
			text += fmt.Sprintf("; %s: %s", f.About, f.Text)
		}
	}
	a.mu.Lock()
	a.checked = text
	a.mu.Unlock()
	a.show("%s", text)
}

// leaveAfter leaves the machine as an errand says, if it was taken as done.
func (a *Agent) leaveAfter(whenDone string, err error) error {
	if err != nil {
		return forgiven(err)
	}
	if whenDone != "" && whenDone != "stay" {
		return a.leave(whenDone)
	}
	return nil
}

func (a *Agent) checkMemory(ctx context.Context, to *api.ToCheck, s *longErrand) (*check.MemoryReport, error) {
	memory, err := a.machine.FreeMemory()
	if err != nil {
		return nil, err
	}
	s.tell("taking all free memory", 0, 0)
	return check.WalkMemory(ctx, memory, to.Memory == "quick", time.Now, func(done, total int64) { s.tell("walking patterns over the memory", done, total) })
}

func (a *Agent) checkSurface(ctx context.Context, to *api.ToCheck, s *longErrand) (*check.SurfaceReport, error) {
	d, at, err := a.diskMeant(to.Disk)
	if err != nil {
		return nil, err
	}
	disk, err := a.machine.OpenDisk(at)
	if err != nil {
		return nil, err
	}
	defer disk.Close()
	report, err := check.Surface(ctx, disk, disk.Size(), disk.SectorSize(), check.SurfaceOptions{Sample: to.Surface == "sample",
		Tell: func(done, total int64) { s.tell("reading the disk", done, total) }})
	if err == nil {
		report.Serial = d.Serial
	}
	return report, err
}

func (a *Agent) checkHealth(rule string) (*disk.Vitals, error) {
	d, at, err := a.diskMeant(rule)
	if err != nil {
		return nil, err
	}
	v, err := a.machine.Vitals(at)
	if errors.Is(err, disk.ErrNoHealth) {
		v, err = &disk.Vitals{Silent: true, Wrong: []string{}, Odd: []string{}}, nil
	}
	if err == nil {
		v.Serial = d.Serial
	}
	return v, err
}

const trialBytes = 32 << 20

func (a *Agent) checkNetwork(ctx context.Context, id int64, to *api.ToCheck, s *longErrand) (*check.NetworkReport, error) {
	report := &check.NetworkReport{Link: a.machine.LinkRate()}
	s.tell("fetching from the service as fast as it goes", 0, 0)
	began := time.Now()
	content, err := authorized(ctx, a, func(c *apiclient.Client) (io.ReadCloser, error) { return c.TrialBytes(ctx, id, trialBytes) })
	if err != nil {
		return nil, err
	}
	report.Bytes, err = io.Copy(io.Discard, content)
	if err := errors.Join(err, content.Close()); err != nil {
		return nil, err
	}
	report.Seconds = time.Since(began).Seconds()

	group, err := netip.ParseAddrPort(to.Channel)
	if err != nil {
		return nil, err
	}
	socket, err := a.machine.Listen(group)
	if err != nil {
		return nil, err
	}
	s.tell("listening whether multicast is heard", 0, 0)
	heard := make(chan int, 1)
	go func() { heard <- wire.CountTrial(socket, to.Token) }()
	trial, err := authorized(ctx, a, func(c *apiclient.Client) (api.Trial, error) { return c.Trial(ctx, id) })
	if err == nil {
		select {
		case <-time.After(wire.TrialLate):
		case <-ctx.Done():
		}
	}
	err = errors.Join(err, socket.Close()) // which ends the counting
	report.Sent, report.Heard = trial.Packets, <-heard
	return report, err
}

// diskMeant is the disk that a rule means, and its place in the inventory.
func (a *Agent) diskMeant(rule string) (api.Disk, int, error) {
	r, err := disk.ParseRule(rule)
	if err != nil {
		return api.Disk{}, 0, err
	}
	inventory, err := a.machine.Inventory()
	if err != nil {
		return api.Disk{}, 0, err
	}
	var candidates []disk.Candidate
	for _, d := range inventory.Disks {
		candidates = append(candidates, disk.Candidate{Serial: d.Serial, Size: d.Size})
	}
	i, err := r.Choose(candidates)
	if err != nil {
		return api.Disk{}, 0, err
	}
	return inventory.Disks[i], i, nil
}
