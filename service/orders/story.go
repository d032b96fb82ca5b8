package orders

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"

	"jugate/api"
	"jugate/core/delivery"
	"jugate/records"
)

// namesAtMost is how many workstations a story names one by one.
const namesAtMost = 12

// story tells in words how a delivery went that is over: when it began and for whom, what was sent, who was fast and who was slow, what
// was done to it, and who did not get it.
func story(d api.Delivery, receipts []records.Receipt) (lines []string) {
	if d.Ended == nil {
		return nil
	}
	say := func(format string, args ...any) { lines = append(lines, fmt.Sprintf(format, args...)) }
	if d.Started == nil {
		say("Ordered by the %s for %s. It ended after %s without having begun.", d.OrderedBy, english.Plural(d.Workstations, "workstation", ""), took(d.Ended.Sub(d.Created)))
	} else {
		say("Ordered by the %s for %s. They gathered for %s; then it ran for %s.", d.OrderedBy, english.Plural(d.Workstations, "workstation", ""), took(d.Started.Sub(d.Created)), took(d.Ended.Sub(*d.Started)))
	}
	var received int64
	var got, not []records.Receipt
	for _, r := range receipts {
		received += r.BytesMulticast + r.BytesUnicast
		if r.Outcome == delivery.Delivered {
			got = append(got, r)
		} else {
			not = append(not, r)
		}
	}
	if received > 0 {
		alone := ""
		if d.WireBytes < received {
			alone = fmt.Sprintf(", %s less than one by one", humanize.IBytes(uint64(received-d.WireBytes)))
		}
		say("%s went out, and %s came in%s.", humanize.IBytes(uint64(d.WireBytes)), humanize.IBytes(uint64(received)), alone)
	}
	if d.ReusedBytes > 0 {
		say("%s of the image were on disks already and did not have to come.", humanize.IBytes(uint64(d.ReusedBytes)))
	}
	for _, c := range d.Changes {
		after := ""
		if d.Started != nil && c.At.After(*d.Started) {
			after = took(c.At.Sub(*d.Started)) + " after the start, "
		}
		say("%s%s: %s", after, c.By, c.What)
	}
	if len(got) > 0 && d.Started != nil {
		slices.SortFunc(got, func(a, b records.Receipt) int { return a.Ended.Compare(b.Ended) })
		first, last := got[0], got[len(got)-1]
		if len(got) == 1 {
			say("%s had its disk checked after %s.", first.Workstation, took(first.Ended.Sub(*d.Started)))
		} else {
			say("%s of %d got it. The first, %s, had its disk checked after %s, the last, %s, after %s.", english.Plural(len(got), "workstation", ""), d.Workstations, first.Workstation, took(first.Ended.Sub(*d.Started)), last.Workstation, took(last.Ended.Sub(*d.Started)))
		}
	}
	for i, r := range not {
		if i == namesAtMost {
			say("%d more did not get it; their receipts say why.", len(not)-i)
			break
		}
		say("%s did not get it: %s.", cmp.Or(r.Workstation, r.Address), strings.TrimSuffix(cmp.Or(r.Reason, string(r.Outcome)), "."))
	}
	return lines
}

// took is a time in words, to the second.
func took(d time.Duration) string {
	if d < time.Second {
		return "less than a second"
	}
	return d.Round(time.Second).String()
}
