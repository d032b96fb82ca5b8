package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/jedib0t/go-pretty/v6/progress"

	"jugate/api"
	"jugate/apiclient"
)

// errSeen ends an event stream that has shown what it was opened for.
var errSeen = errors.New("seen")

// watch follows one thing through the events until show says that it is over.
// fetch asks for its present state; pick finds it in an event. delivery, if it is not 0, is
// the one whose workstations are wanted, too.
func watch[T any](ctx context.Context, c *apiclient.Client, delivery int64, stderr io.Writer, fetch func() (T, error), pick func(kind string, data []byte) (T, bool), show func(T) (over bool)) (T, error) {
	var latest T
	for {
		err := c.Events(ctx, delivery, func(kind string, data []byte) error {
			now, ours := pick(kind, data)
			if kind == "hello" || kind == "resync" {
				var err error
				if now, err = fetch(); err != nil {
					return err
				}
				ours = true
			}
			if !ours {
				return nil
			}
			if latest = now; show(now) {
				return errSeen
			}
			return nil
		})
		switch {
		case errors.Is(err, errSeen):
			return latest, nil
		case err != nil && !errors.Is(err, apiclient.ErrAway):
			return latest, err
		}
		fmt.Fprintf(stderr, "the service at %s does not answer; trying again\n", c.Server())
		select {
		case <-time.After(2 * time.Second):
		case <-ctx.Done():
			return latest, ctx.Err()
		}
	}
}

// watchDelivery shows a delivery on stderr until it is over.
func (a *app) watchDelivery(ctx context.Context, c *apiclient.Client, id int64, stderr io.Writer) (api.Delivery, error) {
	var screen interface{ show(api.Delivery) }
	if isTerminal(stderr) {
		screen = &deliveryScreen{w: stderr}
	} else {
		screen = &deliveryLines{w: stderr, said: map[string]string{}, changes: -1}
	}
	var d api.Delivery
	fetch := func() (_ api.Delivery, err error) {
		d, err = c.Delivery(ctx, id)
		return d, err
	}
	return watch(ctx, c, id, stderr, fetch,
		func(kind string, data []byte) (api.Delivery, bool) {
			ours := merge(&d, kind, data, fetch)
			return d, ours
		},
		func(d api.Delivery) bool {
			screen.show(d)
			return d.Ended != nil
		})
}

// merge puts what an event says of a delivery into what is known of it, and tells whether
// it was about that one. One that has ended is fetched as a whole: receipts say what
// became of its workstations.
func merge(d *api.Delivery, kind string, data []byte, fetch func() (api.Delivery, error)) bool {
	switch kind {
	case "delivery":
		var now api.Delivery
		if json.Unmarshal(data, &now) != nil || now.ID != d.ID {
			return false
		}
		if now.Ended != nil {
			_, err := fetch()
			return err == nil
		}
		now.Members, now.Changes = d.Members, d.Changes
		*d = now
	case "progress":
		var moved api.DeliveryMoved
		if json.Unmarshal(data, &moved) != nil || moved.Delivery != d.ID {
			return false
		}
		for _, m := range moved.Members {
			if i := slices.IndexFunc(d.Members, func(o api.Member) bool { return o.Workstation == m.Workstation }); i >= 0 {
				m.Address = d.Members[i].Address
				d.Members[i] = m
			}
		}
		d.Changes = append(d.Changes, moved.Changes...)
	default:
		return false
	}
	return true
}

// watchErrand shows a capture on stderr until it has ended.
func (a *app) watchErrand(ctx context.Context, c *apiclient.Client, id int64, stderr io.Writer) (api.Errand, error) {
	var bars *bars
	if isTerminal(stderr) {
		bars = newBars(stderr)
		defer bars.end()
	}
	said := ""
	tick := func(e api.Errand) bool {
		text := fmt.Sprintf("%s: %s", e.Workstation, e.State)
		switch {
		case bars != nil:
			bars.set("", text, e.Done, e.Total, e.Ended != nil, e.State == "failed")
		case text != said:
			fmt.Fprintln(stderr, text)
		}
		said = text
		return e.Ended != nil
	}
	return watch(ctx, c, 0, stderr,
		func() (api.Errand, error) { return c.Errand(ctx, id) },
		func(kind string, data []byte) (e api.Errand, ours bool) {
			if kind == "workstation" { // its activity carries the numbers
				e, err := c.Errand(ctx, id)
				return e, err == nil
			}
			return e, kind == "errand" && json.Unmarshal(data, &e) == nil && e.ID == id
		}, tick)
}

// bars are progress bars on a terminal, one for each thing with a key.
type bars struct {
	writer   progress.Writer
	trackers map[string]*progress.Tracker
	drawn    chan struct{}
}

func newBars(w io.Writer) *bars {
	b := &bars{writer: progress.NewWriter(), trackers: map[string]*progress.Tracker{}, drawn: make(chan struct{})}
	b.writer.SetOutputWriter(w)
	b.writer.SetAutoStop(false)
	b.writer.SetUpdateFrequency(200 * time.Millisecond)
	b.writer.SetTrackerLength(30)
	b.writer.SetTrackerPosition(progress.PositionRight)
	b.writer.SetMessageLength(34)
	b.writer.SetStyle(progress.StyleBlocks)
	style := b.writer.Style()
	style.Options.PercentFormat = "%3.0f %%"
	style.Options.Separator = " "
	style.Options.DoneString = "done"
	style.Options.ErrorString = "not done"
	style.Options.TimeInProgressPrecision = time.Second
	style.Options.TimeDonePrecision = 100 * time.Millisecond
	style.Options.SpeedPrecision = time.Second
	style.Visibility.ETA = true
	style.Visibility.Speed = true
	go func() {
		b.writer.Render()
		close(b.drawn)
	}()
	return b
}

// set moves the bar of a thing, in bytes; total 0 means that nothing can be counted
// yet.
func (b *bars) set(key, text string, done, total int64, over, bad bool) {
	t := b.trackers[key]
	if t == nil {
		t = &progress.Tracker{Units: progress.Units{Formatter: size}}
		b.trackers[key] = t
		b.writer.AppendTracker(t)
	}
	if t.IsDone() {
		return
	}
	t.UpdateMessage(text)
	t.UpdateTotal(total)
	t.SetValue(min(done, max(total-1, 0))) // a full bar would end itself
	switch {
	case bad:
		t.MarkAsErrored()
	case over:
		t.MarkAsDone()
	}
}

// end draws the bars a last time. Stopping is said again until it was heard: a
// writer that has not begun to draw yet does not remember it.
func (b *bars) end() {
	again := time.NewTicker(10 * time.Millisecond)
	defer again.Stop()
	for {
		b.writer.Stop()
		select {
		case <-b.drawn:
			return
		case <-again.C:
		}
	}
}

// deliveryLines prints a line for each change, where no bars can be drawn.
type deliveryLines struct {
	w       io.Writer
	said    map[string]string
	changes int // that were printed; -1 at first
}

func (l *deliveryLines) show(d api.Delivery) {
	l.say("", fmt.Sprintf("delivery %d of %s@%d: %s", d.ID, d.Image, d.Version, d.State))
	if d.Warning != "" {
		l.say("warning", "  "+d.Warning)
	}
	if l.changes < 0 {
		l.changes = len(d.Changes)
	}
	for _, c := range d.Changes[min(l.changes, len(d.Changes)):] {
		fmt.Fprintf(l.w, "  %s: %s\n", c.By, c.What)
		l.changes++
	}
	for _, m := range d.Members {
		text := string(m.Phase)
		if m.Outcome != "" {
			text = string(m.Outcome)
		}
		if reason := reasonText(m); reason != "" {
			text += ": " + reason
		}
		l.say(m.Workstation, fmt.Sprintf("  %s: %s", m.Workstation, text))
	}
}

func (l *deliveryLines) say(key, text string) {
	if l.said[key] != text {
		l.said[key] = text
		fmt.Fprintln(l.w, text)
	}
}
