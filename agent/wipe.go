package agent

import (
	"context"
	"errors"
	"fmt"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/wipe"
)

// wipe makes what is on a disk unreadable.
func (a *Agent) wipe(ctx context.Context, e *api.ToErrand) error {
	to := e.Wipe
	if to == nil {
		return a.decline(ctx, e)
	}
	within, standing := a.stands(ctx, e.ID)
	defer standing.news.end()
	report, err := a.wipeDisk(within, to, standing)
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.Is(context.Cause(within), errWithdrawn):
		a.show("the wipe was stopped; the disk says so")
		return nil
	}
	a.tellDisks(ctx)
	done := api.Wiped{Report: report}
	if err != nil {
		done.Error = err.Error()
		a.show("the disk is not wiped: %v", err)
	} else {
		a.show("the disk is wiped, and was read back")
	}
	_, tellErr := authorized(ctx, a, func(c *apiclient.Client) (struct{}, error) { return struct{}{}, c.Wiped(ctx, e.ID, done) })
	if err != nil {
		return forgiven(tellErr)
	}
	return a.leaveAfter(to.WhenDone, tellErr)
}

func (a *Agent) wipeDisk(ctx context.Context, to *api.ToWipe, s *longErrand) (wipe.Report, error) {
	none := wipe.Report{Method: to.Method, Verify: "nothing", Remarks: []string{}}
	d, at, err := a.diskMeant(to.Disk)
	if err != nil {
		return none, err
	}
	none.Model, none.Serial, none.Size = d.Model, d.Serial, d.Size
	if to.Serial != "" && d.Serial != to.Serial {
		return none, fmt.Errorf("the disk has the serial number %s, and %s was to be wiped: somebody has exchanged it", orNone(d.Serial), to.Serial)
	}
	disk, err := a.machine.OpenDisk(at)
	if err != nil {
		return none, err
	}
	defer disk.Close()
	target, can := disk.(wipe.Target)
	if !can {
		return none, errors.New("this disk cannot be wiped from here")
	}
	report, err := wipe.Wipe(ctx, target, wipe.Plan{Method: to.Method, Fast: to.Fast, Verify: to.Verify, Tell: func(text string, done, total int64) { s.tell(text, done, total) }})
	report.Model, report.Serial = d.Model, d.Serial
	return report, err
}

func orNone(text string) string {
	if text == "" {
		return "that it does not tell"
	}
	return text
}
