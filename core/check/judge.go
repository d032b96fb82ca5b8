package check

import (
	"fmt"

	"github.com/dustin/go-humanize"

	"jugate/core/disk"
)

const (
	slowManyStretches = 8    // so many slow stretches are not chance
	lossAtMost        = 0.01 // of multicast packets
	linkAtLeast       = 100e6
	lifeLeft          = 90 // per cent of its life that a disk may have used
)

// Judge says what a result means, beside those of earlier checks of the same machine, the newest first.
func Judge(r Result, earlier []Result) []Judgement {
	all := []Judgement{}
	add := func(about About, v Verdict, format string, args ...any) {
		all = append(all, Judgement{about, v, fmt.Sprintf(format, args...)})
	}
	if m := r.Memory; m != nil {
		judgeMemory(m, add)
	}
	if s := r.Surface; s != nil {
		judgeSurface(s, add)
	}
	if v := r.Health; v != nil {
		judgeHealth(v, earlier, add)
	}
	if n := r.Network; n != nil {
		judgeNetwork(n, add)
	}
	return all
}

type adder = func(about About, v Verdict, format string, args ...any)

func size(n int64) string { return humanize.IBytes(uint64(max(n, 0))) }

func judgeMemory(m *MemoryReport, add adder) {
	if m.Wrong == 0 {
		add(OfMemory, Good, "%s kept what was written in %d rounds, %.1f s for each GiB", size(m.Bytes), m.Rounds, m.SecondsPerGiB())
		return
	}
	where := "at addresses that cannot be told"
	if len(m.Faults) > 0 && m.Faults[0].Address > 0 {
		where = fmt.Sprintf("the first at physical address %#x", m.Faults[0].Address)
	}
	add(OfMemory, Bad, "%d words did not keep what was written, %s: replace the module", m.Wrong, where)
}

func judgeSurface(s *SurfaceReport, add adder) {
	how := "all of it was read"
	switch {
	case s.Sample:
		how = "a sample of " + size(s.Read) + " was read"
	case s.Untried > 0:
		how = size(s.Untried) + " beside them was left alone"
	}
	switch {
	case s.Lost > 0:
		add(OfSurface, Bad, "%s in %s cannot be read%s; %s", size(s.Lost), placesOf(len(s.Unreadable)), firstOf(s.Unreadable), how)
	case len(s.Slow()) >= slowManyStretches:
		add(OfSurface, Doubtful, "%d of %d stretches are much slower than the usual %s a second; %s", len(s.Slow()), len(s.Speeds), size(int64(s.Usual())), how)
	default:
		add(OfSurface, Good, "%s, at %s a second as a rule", how, size(int64(s.Usual())))
	}
}

func firstOf(places []Stretch) string {
	if len(places) == 0 {
		return ""
	}
	return fmt.Sprintf(", the first at byte %d", places[0].Start)
}

func placesOf(n int) string {
	switch {
	case n == 0:
		return "places that are not told"
	case n == 1:
		return "one place"
	case n >= placesKept:
		return "more places than are named"
	}
	return fmt.Sprintf("%d places", n)
}

func judgeHealth(v *disk.Vitals, earlier []Result, add adder) {
	if v.Silent {
		add(OfHealth, Good, "nothing is known: the disk does not say how it is")
		return
	}
	before := len(v.Wrong)
	for _, text := range v.Wrong {
		add(OfHealth, Bad, "the disk says: %s", text)
	}
	for _, text := range v.Odd {
		add(OfHealth, Doubtful, "the disk says: %s", text)
		before++
	}
	if v.Used >= lifeLeft && v.Used < 100 { // beyond that it says so itself
		add(OfHealth, Doubtful, "%d %% of the disk's life are used", v.Used)
		before++
	}
	for _, e := range earlier {
		if e.Health == nil || e.Health.Serial != v.Serial {
			continue
		}
		if grown := v.Defects - e.Health.Defects; grown > 0 {
			add(OfHealth, Bad, "%d more defects than at the check before (%d, now %d): it is failing", grown, e.Health.Defects, v.Defects)
			before++
		}
		break
	}
	if before == 0 {
		add(OfHealth, Good, "the disk says nothing against itself%s", hours(v.Hours))
	}
}

func hours(n int64) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf(" after %d hours", n)
}

func judgeNetwork(n *NetworkReport, add adder) {
	good := true
	if n.Sent > 0 && n.Heard == 0 {
		add(OfNetwork, Doubtful, "no multicast is heard: it would be served alone. Ask for the switch's setting of IGMP snooping, or its querier")
		good = false
	} else if n.Sent > 0 && float64(n.Sent-n.Heard)/float64(n.Sent) > lossAtMost {
		add(OfNetwork, Doubtful, "%.1f %% of multicast packets are lost", 100*float64(n.Sent-n.Heard)/float64(n.Sent))
		good = false
	}
	if n.Link > 0 && n.Link < linkAtLeast {
		add(OfNetwork, Doubtful, "the link has only %s: look at the cable", humanize.SIWithDigits(float64(n.Link), 1, "bit/s"))
		good = false
	}
	if good {
		add(OfNetwork, Good, "%s from the service%s", humanize.SIWithDigits(n.Rate(), 1, "bit/s"), heard(n))
	}
}

func heard(n *NetworkReport) string {
	if n.Sent == 0 {
		return ""
	}
	return fmt.Sprintf(", %d of %d multicast packets heard", n.Heard, n.Sent)
}
