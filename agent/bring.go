package agent

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/answers"
	"jugate/core/slabstore"
	"jugate/core/volume"
)

// bringErrand does an errand that brings payloads onto the system on the disk.
func (a *Agent) bringErrand(ctx context.Context, e *api.ToErrand) error {
	did, err := a.bringOnto(ctx, e.Bring)
	return a.endInstall(ctx, e.ID, "the payloads", err, func(c *apiclient.Client) error {
		return c.Brought(ctx, e.ID, api.Installed{Packages: []string{}, Did: did})
	})
}

func (a *Agent) bringOnto(ctx context.Context, to *api.ToBring) ([]string, error) {
	switch {
	case to == nil:
		return nil, errors.New("the service did not say which")
	case to.Problem != "":
		return nil, errors.New(to.Problem)
	}
	disk, err := a.openDisk(to.Disk)
	if err != nil {
		return nil, err
	}
	defer disk.Close()
	var payloads []answers.Payload
	for _, p := range to.Payloads {
		payloads = append(payloads, answers.Payload{Name: p.Name, Install: to.Install})
	}
	return onSystem(ctx, disk, anywhere, errors.New("this disk has no system to bring payloads onto"), answers.ErrNoSystem, func(system SystemVolume, kind volume.Kind) ([]string, error) {
		plan, err := answers.Bring(system, payloads)
		if err != nil {
			return nil, err
		}
		did, err := a.bring(ctx, system, plan.Payloads, to.Payloads, nil) // before what installs them
		if err != nil {
			return nil, err
		}
		return append(did, plan.Remarks...), carryOut(ctx, system, kind, plan)
	})
}

// bring brings payloads onto a system: those that came with the stream, and the others checked
// while they come. did names each with its digest.
func (a *Agent) bring(ctx context.Context, system SystemVolume, payloads []answers.Brought, told []api.ToPayload, carried carried) (did []string, err error) {
	for _, p := range payloads {
		i := slices.IndexFunc(told, func(t api.ToPayload) bool { return strings.EqualFold(t.Name, p.Name) })
		if i < 0 {
			return nil, fmt.Errorf("the service has no payload %s", p.Name)
		}
		a.show("bringing the payload %s", p.Name)
		write := func(content io.Reader) error { return system.WriteFile(p.Path, content) }
		if err := a.payload(ctx, told[i], carried, write); err != nil {
			return nil, fmt.Errorf("bring the payload %s to /%s: %w", p.Name, p.Path, err)
		}
		did = append(did, fmt.Sprintf("brought %s (%s)", p.Name, told[i].Digest[:min(12, len(told[i].Digest))]))
	}
	return did, nil
}

// payload hands the content of a payload to use, and compares its digest.
func (a *Agent) payload(ctx context.Context, p api.ToPayload, carried carried, use func(io.Reader) error) error {
	want, err := slabstore.ParseDigest(p.Digest)
	if err != nil {
		return err
	}
	if carried != nil {
		if content := carried(ctx, p.Digest); content != nil {
			return checked(p.Name, want, content, use)
		}
	}
	return a.fetched(ctx, p.Name, p.Digest, func(c *apiclient.Client) (io.ReadCloser, error) { return c.PayloadContent(ctx, p.Digest) }, use)
}
