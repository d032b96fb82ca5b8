// Package check has checks of a machine itself, for the machine that would hold the others back: of its memory, of the surface of its
// disk, of what the disk says of its health, and of the network. Each finds something out and says it as figures; Judge says what they
// mean, beside those of earlier checks.
//
//	surface, err := check.Surface(ctx, disk, size, 512, check.SurfaceOptions{Sample: true})
//	findings := check.Judge(check.Result{Surface: surface}, earlier)
//
// memory.go walks patterns over memory, surface.go reads a disk, judge.go judges. How a disk is asked for its health is in core/disk.
package check

import (
	"slices"

	"jugate/core/disk"
	"jugate/core/fault"
)

// About is what a finding is about.
type About string

// What is checked.
const (
	OfMemory  About = "memory"
	OfSurface About = "surface" // of the disk
	OfHealth  About = "health"  // what the disk says of itself
	OfNetwork About = "network"
)

// Verdict is how something was found.
type Verdict string

// The verdicts, from the best to the worst.
const (
	Good     Verdict = "good"
	Doubtful Verdict = "doubtful" // it works, and somebody should look
	Bad      Verdict = "bad"      // it is not fit to be given out
)

// Verdicts are all verdicts, from the best to the worst.
var Verdicts = []Verdict{Good, Doubtful, Bad}

// Judgement is one thing that a check has noticed.
type Judgement struct {
	About   About   `json:"about" enum:"memory,surface,health,network"`
	Verdict Verdict `json:"verdict" enum:"good,doubtful,bad"`
	Text    string  `json:"text"`
}

// Worst is the worst verdict of findings; Good without any.
func Worst(all []Judgement) Verdict {
	worst := 0
	for _, f := range all {
		worst = max(worst, slices.Index(Verdicts, f.Verdict))
	}
	return Verdicts[worst]
}

// Result is what checks of a machine have found out. What was not checked is nil.
type Result struct {
	Memory  *MemoryReport  `json:"memory_check,omitempty"`
	Surface *SurfaceReport `json:"surface_check,omitempty"`
	Health  *disk.Vitals   `json:"health_check,omitempty"`
	Network *NetworkReport `json:"network_check,omitempty"`
	// Problems say why something could not be checked.
	Problems []string `json:"problems" nullable:"false" maxItems:"20"`
}

// Sound refuses a result that makes no sense, whoever tells it. What it does not look at has bounds where it is read.
func (r *Result) Sound() error {
	if s := r.Surface; s != nil && slices.ContainsFunc(s.Speeds, func(v float64) bool { return v < 0 }) {
		return fault.Invalid.Errorf("a part of a disk has a speed below 0")
	}
	return nil
}

// NetworkReport is what came of the service's bytes.
type NetworkReport struct {
	Bytes   int64   `json:"fetched_bytes" minimum:"0" doc:"That were fetched"`
	Seconds float64 `json:"fetch_seconds" minimum:"0"`
	Link    int64   `json:"link_rate" minimum:"0" doc:"Bits a second that the card says the link has; 0 if it does not say"`
	Sent    int     `json:"multicast_sent" minimum:"0" doc:"Multicast packets that the service has sent for this"`
	Heard   int     `json:"multicast_heard" minimum:"0"`
}

// Rate is how fast it was, in bits a second.
func (n *NetworkReport) Rate() float64 {
	if n.Seconds <= 0 {
		return 0
	}
	return float64(n.Bytes) * 8 / n.Seconds
}
