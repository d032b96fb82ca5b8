package agent

import (
	"context"
	"io/fs"
	"sync"
	"time"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/capture"
	"jugate/core/image"
	"jugate/core/partition"
	"jugate/core/readiness"
	"jugate/core/slabstore"
	"jugate/core/volume"
)

// capture reads the disk and sends its slabs. A failure that lies with the disk
// or the store is told to the service and ends the errand; only errors that end
// the agent's work are returned.
func (a *Agent) capture(ctx context.Context, e *api.ToErrand) error {
	committed, err := a.captureDisk(ctx, e)
	switch {
	case err == nil:
		a.show("captured as %s@%d", committed.Image, committed.Version)
		if c := e.Capture; c != nil && c.WhenDone != "" && c.WhenDone != "stay" {
			return a.leave(c.WhenDone)
		}
		return nil
	case ctx.Err() != nil:
		return ctx.Err()
	}
	a.show("the capture failed: %v", err)
	a.options.Log.Warn("capture failed", "image", e.Image, "error", err)
	why := err.Error()
	_, err = authorized(ctx, a, func(c *apiclient.Client) (struct{}, error) {
		return struct{}{}, c.FailErrand(ctx, e.ID, api.Failure{Error: why})
	})
	if isTold(err) {
		return nil // it was stopped meanwhile: nothing is left to fail
	}
	return err
}

func (a *Agent) captureDisk(ctx context.Context, e *api.ToErrand) (api.Committed, error) {
	var none api.Committed
	how := e.Capture
	if how == nil {
		how = &api.ToCapture{}
	}
	disk, err := a.openDisk(how.Disk)
	if err != nil {
		return none, err
	}
	defer disk.Close()
	if err := a.tell(ctx, api.Activity{Text: "looking at the disk"}); err != nil {
		return none, err
	}
	only, err := partition.ParseRefs(how.Only)
	if err != nil {
		return none, err
	}
	without, err := partition.ParseRefs(how.Without)
	if err != nil {
		return none, err
	}
	survey, err := capture.Look(disk, disk.Size(), disk.SectorSize(), capture.LookOptions{
		Rules:        readiness.Rules{IdentityFiles: how.IdentityFiles, AllowEncrypted: how.CopyEncrypted, Answered: how.Answered},
		KeepFleeting: how.KeepPageFiles, PastBadSectors: how.PastBadSectors,
		Files: a.filesOf(disk), Only: only, Without: without,
	})
	if err != nil {
		return none, err
	}
	survey.Follow(how.Follows, how.Layout)
	for _, f := range survey.Findings {
		a.show("%s: %s", f.Severity, f)
	}

	news := newNews(ctx, a.tell)
	man, slabs, err := capture.Run(ctx, disk, survey, &slabSink{a, e.ID}, capture.Options{
		PastBadSectors: how.PastBadSectors,
		Despite:        override(how.Despite),
		Progress: func(done, total int64, newSlabs int) {
			news.set(api.Activity{Text: "capturing " + e.Image, Done: done, Total: total, NewSlabs: newSlabs})
		},
	})
	news.end()
	if err != nil {
		return none, err
	}
	text, err := man.Encode()
	if err != nil {
		return none, err
	}
	if err := a.saveFolders(ctx, e.ID, disk, how.Folders); err != nil {
		return none, err
	}
	return authorized(ctx, a, func(c *apiclient.Client) (api.Committed, error) {
		if err := c.PutMap(ctx, e.ID, slabs.Bytes()); err != nil {
			return none, err
		}
		return c.Commit(ctx, e.ID, text)
	})
}

// override is nil without a reason.
func override(reason string) *image.Override {
	if reason == "" {
		return nil
	}
	return &image.Override{Reason: reason}
}

// FileViewer is a Disk that shows the files of a volume, by the kernel's own
// reading of it. Without one the agent's own readers do what they can.
type FileViewer interface {
	Files(start int64, v *volume.Volume) (fs.FS, error)
}

func (a *Agent) filesOf(d Disk) func(start int64, v *volume.Volume) (fs.FS, error) {
	if viewer, ok := d.(FileViewer); ok {
		return viewer.Files
	}
	return nil
}

// slabSink is image.Sink over HTTP.
type slabSink struct {
	agent  *Agent
	errand int64
}

func (s *slabSink) Missing(ctx context.Context, digests []slabstore.Digest) ([]slabstore.Digest, error) {
	return apiclient.AskMissing(digests, func(ask api.Digests) (api.Digests, error) {
		return authorized(ctx, s.agent, func(c *apiclient.Client) (api.Digests, error) { return c.MissingSlabs(ctx, s.errand, ask) })
	})
}

func (s *slabSink) Put(ctx context.Context, d slabstore.Digest, frame []byte) error {
	_, err := authorized(ctx, s.agent, func(c *apiclient.Client) (struct{}, error) {
		err := c.PutSlab(ctx, s.errand, d, frame)
		if apiclient.IsFull(err) {
			err = giveUp{err} // an engineer has to make room: the errand says so
		}
		return struct{}{}, err
	})
	return err
}

// tellEvery is how often a moving number is told.
const tellEvery = time.Second

// news tells the latest activity once a second, beside the work it is about.
type news struct {
	tell  func(context.Context, api.Activity) error
	stop  context.CancelFunc
	ended sync.WaitGroup

	mu     sync.Mutex
	latest *api.Activity // nil when told already
}

func newNews(ctx context.Context, tell func(context.Context, api.Activity) error) *news {
	ctx, stop := context.WithCancel(ctx)
	n := &news{tell: tell, stop: stop}
	n.ended.Go(func() {
		tick := time.NewTicker(tellEvery)
		defer tick.Stop()
		for {
			select {
			case <-tick.C:
			case <-ctx.Done():
				return
			}
			n.mu.Lock()
			latest := n.latest
			n.latest = nil
			n.mu.Unlock()
			if latest != nil {
				n.tell(ctx, *latest) // an error here comes up in the work itself
			}
		}
	})
	return n
}

func (n *news) set(a api.Activity) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.latest = &a
}

func (n *news) end() {
	n.stop()
	n.ended.Wait()
}
