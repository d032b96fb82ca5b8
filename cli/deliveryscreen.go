package cli

import (
	"cmp"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"golang.org/x/term"

	"jugate/api"
)

// liveColumns say how a workstation gets on.
var liveColumns = []column[api.Member]{
	{title: "done", value: func(m api.Member) string { return percent(m.Done, m.Total) }, right: true},
	{title: "speed", value: func(m api.Member) string { return perSecond(m.Speed) }, right: true},
	{title: "loss", value: func(m api.Member) string { return shareText(m.LossShare) }, right: true},
	{title: "repairs", value: func(m api.Member) string { return shareText(m.RepairShare) }, right: true},
	{title: "disk", value: func(m api.Member) string { return perSecond(m.DiskSpeed) }, right: true},
	{title: "left", value: func(m api.Member) string { return secondsPtr(m.SecondsLeft) }, right: true},
}

func percent(done, total int64) string {
	if total == 0 {
		return ""
	}
	return fmt.Sprintf("%d %%", done*100/total)
}

func perSecond(bytes float64) string {
	if bytes < 1 {
		return ""
	}
	n, unit := humanize.ComputeSI(bytes)
	if n < 9.95 {
		return fmt.Sprintf("%.1f %sB/s", n, unit)
	}
	return fmt.Sprintf("%.0f %sB/s", n, unit)
}

func shareText(share float64) string {
	if share < 0.0005 {
		return ""
	}
	return fmt.Sprintf("%.1f %%", 100*share)
}

// seconds is a time in words; nothing for none.
func seconds(s float64) string {
	d := time.Duration(s * float64(time.Second)).Round(time.Second)
	switch {
	case d <= 0:
		return ""
	case d < time.Minute:
		return fmt.Sprintf("%d s", d/time.Second)
	case d < time.Hour:
		return fmt.Sprintf("%d min %02d s", d/time.Minute, d%time.Minute/time.Second)
	}
	return fmt.Sprintf("%d h %02d min", d/time.Hour, d%time.Hour/time.Minute)
}

func secondsPtr(s *float64) string {
	if s == nil {
		return ""
	}
	return cmp.Or(seconds(*s), "0 s")
}

// reasonText tells why a workstation failed, or why it is served alone.
func reasonText(m api.Member) string {
	switch {
	case m.Reason != "":
		return m.Reason
	case m.Aside != "":
		return "served alone: " + m.Aside
	case m.Silent >= 5:
		return fmt.Sprintf("silent for %s", seconds(m.Silent))
	}
	return ""
}

func stateText(d api.Delivery) string {
	s := string(d.State)
	switch {
	case !d.State.Over() || d.Delivered == d.Workstations:
	case d.Delivered == 0:
		s += ", nobody got it"
	default:
		s += fmt.Sprintf(", %d of %d got it", d.Delivered, d.Workstations)
	}
	if d.Paused {
		s += ", paused"
	}
	if d.Unicast {
		s += ", by unicast: the network carries no multicast"
	}
	return s
}

// how says what is special about a delivery.
func how(d api.Delivery) string {
	var parts []string
	if d.Reuse {
		parts = append(parts, "reuses what is right")
	}
	if d.Sealed {
		parts = append(parts, "sealed")
	}
	return strings.Join(parts, ", ")
}

// deliveryScreen draws a delivery on a terminal, again at each change.
type deliveryScreen struct {
	w     io.Writer
	lines int // that were drawn
}

func (s *deliveryScreen) show(d api.Delivery) {
	width, height := 100, 30
	if f, ok := s.w.(*os.File); ok {
		if w, h, err := term.GetSize(int(f.Fd())); err == nil {
			width, height = w, h
		}
	}
	var b strings.Builder
	if s.lines > 0 {
		fmt.Fprintf(&b, "\x1b[%dA\x1b[J", s.lines)
	}
	s.lines = 0
	for _, line := range deliveryPicture(d, height-1) {
		if r := []rune(line); len(r) > width {
			line = string(r[:width-1]) + "…"
		}
		b.WriteString(line + "\n")
		s.lines++
	}
	io.WriteString(s.w, b.String())
}

// partText is how an outpost is with its part of a delivery.
func partText(p api.DeliveryPart) string {
	text := fmt.Sprintf("at %s: %s, %d of %d through", p.Name, p.State, p.Members-p.Open, p.Members)
	if p.Slabs > 0 && p.Open > 0 {
		text += fmt.Sprintf(", %d of %d slabs", p.SentSlabs, p.Slabs)
	}
	if p.RateNow > 0 && !p.Away {
		text += ", " + humanize.SIWithDigits(float64(p.RateNow), 0, "bit/s")
	}
	if p.Away {
		text += ", when it was heard last"
	}
	return text
}

// deliveryPicture is a delivery in at most so many lines: the group, then each
// workstation, those that need a look first.
func deliveryPicture(d api.Delivery, lines int) (out []string) {
	taking, done, aside := 0, 0, 0
	for _, m := range d.Members {
		switch {
		case m.Outcome == "delivered":
			done++
		case m.Aside != "":
			aside++
		case m.Phase != "awaited" && m.Phase != "ended":
			taking++
		}
	}
	head := fmt.Sprintf("%s@%d: %s", d.Image, d.Version, stateText(d))
	if d.RateNow > 0 {
		head += ", " + humanize.SIWithDigits(float64(d.RateNow), 0, "bit/s")
	}
	if d.SecondsLeft != nil {
		head += ", " + secondsPtr(d.SecondsLeft) + " left for the group"
	}
	out = append(out, head)
	if d.Warning != "" {
		out = append(out, d.Warning)
	}
	if d.Slabs > 0 && d.Ended == nil {
		const width = 40
		full := width * d.SentSlabs / d.Slabs
		round := ""
		if d.Round > 1 {
			round = fmt.Sprintf(" of round %d", d.Round)
		}
		out = append(out, fmt.Sprintf("%s%s %d of %d slabs%s", strings.Repeat("█", full), strings.Repeat("░", width-full), d.SentSlabs, d.Slabs, round))
	}
	for _, p := range d.Parts {
		out = append(out, partText(p))
	}
	out = append(out, fmt.Sprintf("%d in the group, %d served alone, %d done, of %d", taking, aside, done, len(d.Members)), "")
	members := slices.Clone(d.Members)
	slices.SortStableFunc(members, func(a, b api.Member) int { return cmp.Compare(urgency(a), urgency(b)) })
	room := lines - len(out) - 1
	hidden := 0
	if len(members) > room-1 {
		room = max(room-1, 1)
		hidden = max(len(members)-room, 0)
		members = members[:len(members)-hidden]
	}
	columns := append([]column[api.Member]{
		{title: "workstation", value: func(m api.Member) string { return m.Workstation }},
		{title: "phase", value: func(m api.Member) string { return cmp.Or(string(m.Outcome), string(m.Phase)) }},
	}, liveColumns...)
	columns = append(columns, column[api.Member]{title: "", value: reasonText})
	for line := range strings.Lines(listText(members, columns)) {
		out = append(out, strings.TrimRight(line, " \n"))
	}
	if hidden > 0 {
		out = append(out, fmt.Sprintf("and %d more", hidden))
	}
	return out
}

// urgency sorts workstations: who needs a look, who is at work, who is through.
func urgency(m api.Member) int {
	switch {
	case m.Outcome == "failed":
		return 0
	case m.Outcome != "":
		return 4
	case m.Aside != "" || m.Silent >= 5:
		return 1
	case m.Phase == "awaited":
		return 3
	}
	return 2
}
