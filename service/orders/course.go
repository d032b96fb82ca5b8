package orders

import (
	"context"
	"slices"
	"sync"
	"time"

	"jugate/api"
	"jugate/core/course"
	"jugate/core/delivery"
	"jugate/stream"
)

// courses are those of deliveries that run.
type courses struct {
	mu  sync.Mutex // held for memory only
	all map[int64]*running
}

// running is the course of a delivery that runs. mu is held while it is read from the records and written there, so that one does.
type running struct {
	mu    sync.Mutex
	kept  *course.Course // nil until it was looked for
	saved time.Time
}

// courseEach is how often a course is saved while a delivery runs: what a service that is killed has seen since then is not in it.
const courseEach = time.Minute

func (c *courses) of(id int64) *running {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.all == nil {
		c.all = map[int64]*running{}
	}
	if c.all[id] == nil {
		c.all[id] = &running{}
	}
	return c.all[id]
}

// known is the course of a delivery that runs; nil if nobody has looked at it yet.
func (c *courses) known(id int64) *running {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.all[id]
}

func (c *courses) forget(id int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	delete(c.all, id)
}

// sample looks at a delivery that runs, if it is time. over says that it is the last time.
func (o *Orders) sample(ctx context.Context, id int64, over bool) {
	r, now := o.Streams.Runner(id), o.Now()
	if r == nil {
		return
	}
	status := r.Status(now)
	if status.State.Over() && !over { // the last time was before
		return
	}
	one := o.courses.of(id)
	one.mu.Lock()
	defer one.mu.Unlock()
	if one.kept == nil {
		text, err := o.Records.Course(ctx, id)
		if err == nil && text != nil {
			one.kept, err = course.Read(text)
		}
		if err != nil {
			o.Log.Warn("what a delivery did before is not known", "delivery", id, "error", err)
		}
		if one.kept == nil {
			one.kept = course.New()
		}
		one.saved = now
	}
	if over || status.State != delivery.Gathering && one.kept.Due(now) {
		s, done := sampleOf(r, status, now)
		one.kept.Add(s, done)
	}
	if len(one.kept.Samples) > 0 && (over || now.Sub(one.saved) >= courseEach) {
		text, err := one.kept.Write()
		if err == nil {
			err = o.Records.PutCourse(ctx, id, text)
		}
		if err != nil {
			o.Log.Warn("what a delivery did over time could not be kept", "delivery", id, "error", err)
		}
		one.saved = now
	}
	if over {
		o.courses.forget(id)
	}
}

func sampleOf(r *stream.Runner, status stream.Status, now time.Time) (course.Sample, map[string]int) {
	s := course.Sample{At: now.UTC(), Rate: status.RateNow, Repair: status.RepairBytes}
	for _, p := range status.Parts {
		s.Rate += p.RateNow
	}
	done := map[string]int{}
	var loss, disks []float64
	for _, m := range r.Members() {
		done[m.Name] = howFar(m.Status)
		if m.Status.Phase == delivery.Receiving {
			loss = append(loss, m.LossShare)
			if m.Status.Last.DiskSpeed > 0 {
				disks = append(disks, m.Status.Last.DiskSpeed)
			}
		}
	}
	s.Loss, s.Disk = course.SpreadOf(loss, true), course.SpreadOf(disks, false)
	return s, done
}

// howFar is how far a workstation is, in per cent as core/course counts them.
func howFar(m delivery.Member) int {
	part := 0
	if m.Last.Total > 0 {
		part = int(100 * min(m.Last.Done, m.Last.Total) / m.Last.Total)
	}
	switch m.Phase {
	case delivery.Receiving:
		return part
	case delivery.PhaseMending:
		return course.Received
	case delivery.Checking:
		return course.Received + part
	case delivery.Ended:
		if m.Outcome == delivery.Delivered {
			return course.Checked
		}
		return course.Unknown
	}
	return 0
}

// Course is what a delivery did over time.
func (o *Orders) Course(ctx context.Context, id int64) (api.DeliveryCourse, error) {
	out := api.DeliveryCourse{Members: []string{}, Samples: []api.CourseSample{}}
	if _, err := o.Records.Delivery(ctx, id); err != nil {
		return out, err
	}
	c, err := o.courseOf(ctx, id)
	if err != nil {
		return out, err
	}
	out.Every, out.Members = c.Every.Seconds(), append(out.Members, c.Members...)
	for _, s := range c.Samples {
		out.Samples = append(out.Samples, api.CourseSample{At: s.At, Rate: s.Rate, Repair: s.Repair, LossMiddle: s.Loss.Middle, LossWorst: s.Loss.Worst, DiskMiddle: s.Disk.Middle, DiskWorst: s.Disk.Worst, Done: s.Done})
	}
	return out, nil
}

// courseOf is a copy of the course of a delivery, as it is now.
func (o *Orders) courseOf(ctx context.Context, id int64) (*course.Course, error) {
	if one := o.courses.known(id); one != nil {
		one.mu.Lock()
		defer one.mu.Unlock()
		if one.kept != nil {
			c := *one.kept
			c.Members, c.Samples = slices.Clone(c.Members), slices.Clone(c.Samples)
			return &c, nil
		}
	}
	text, err := o.Records.Course(ctx, id)
	if err != nil || text == nil {
		return course.New(), err
	}
	return course.Read(text)
}
