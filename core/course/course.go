// Package course keeps what a delivery did over time, for a picture of it: how fast the stream was, what was lost, what the disks
// took, and how far each workstation was.
//
// A course has a bound. When it is full, every other sample is left out, and samples are taken half as often from then on: a delivery
// of a minute and one of a day take the same room.
//
//	c := course.New()
//	if c.Due(now) {
//		c.Add(course.Sample{At: now, Rate: 400e6, …}, map[string]int{"herb-01": 57})
//	}
package course

import (
	"encoding/json"
	"maps"
	"slices"
	"time"
)

const (
	// Most is how many samples a course has.
	Most = 240
	// First is how long after a sample the next one is taken, at first.
	First = time.Second
	// membersAtMost is of how many workstations it is kept how far they are: beyond that no picture shows single ones.
	membersAtMost = 1000
	// Unknown is in Done of a workstation that was not in the delivery then, or had left it.
	Unknown = -1
	// Received and Checked are in Done of a workstation that has all of the image, and of one that has found all of it on its disk. What is
	// between is on its way there.
	Received, Checked = 100, 200
)

// Course is what a delivery did over time.
type Course struct {
	Every   time.Duration `json:"every"`
	Members []string      `json:"members"` // in the order in which they came
	Samples []Sample      `json:"samples"`

	index map[string]int
}

// Sample is how a delivery was at one time.
type Sample struct {
	At     time.Time `json:"at"`
	Rate   int64     `json:"rate"`   // bits a second that streams were sent at
	Repair int64     `json:"repair"` // bytes that were sent again so far
	Loss   Spread    `json:"loss"`   // shares of packets that those who receive lost
	Disk   Spread    `json:"disk"`   // bytes a second that their disks took
	Done   []int     `json:"done"`   // per cent, by the place in Members; those that came later are unknown
}

// Spread is how many workstations were: the one in the middle, and the worst.
type Spread struct {
	Middle float64 `json:"middle"`
	Worst  float64 `json:"worst"`
}

// New begins a course.
func New() *Course { return &Course{Every: First} }

// Due tells whether it is time for a sample.
func (c *Course) Due(now time.Time) bool {
	return len(c.Samples) == 0 || now.Sub(c.Samples[len(c.Samples)-1].At) >= c.Every
}

// Add adds a sample; done is how far each workstation is.
func (c *Course) Add(s Sample, done map[string]int) {
	if c.index == nil {
		c.index = map[string]int{}
		for i, name := range c.Members {
			c.index[name] = i
		}
	}
	for _, name := range slices.Sorted(maps.Keys(done)) {
		if _, known := c.index[name]; !known && len(c.Members) < membersAtMost {
			c.index[name] = len(c.Members)
			c.Members = append(c.Members, name)
		}
	}
	s.Done = slices.Repeat([]int{Unknown}, len(c.Members))
	for name, n := range done {
		if i, known := c.index[name]; known {
			s.Done[i] = n
		}
	}
	c.Samples = append(c.Samples, s)
	if len(c.Samples) >= Most {
		var kept []Sample
		for i := len(c.Samples) % 2; i < len(c.Samples); i += 2 {
			kept = append(kept, c.Samples[i])
		}
		c.Samples, c.Every = kept, 2*c.Every
	}
}

// SpreadOf is that of some values, of which large ones are bad, or small ones. It is zero without any.
func SpreadOf(values []float64, largeIsBad bool) Spread {
	if len(values) == 0 {
		return Spread{}
	}
	slices.Sort(values)
	worst := values[0]
	if largeIsBad {
		worst = values[len(values)-1]
	}
	return Spread{Middle: values[len(values)/2], Worst: worst}
}

// Read reads a course as Write wrote it.
func Read(text []byte) (*Course, error) {
	c := New()
	err := json.Unmarshal(text, c)
	return c, err
}

// Write writes a course, as JSON.
func (c *Course) Write() ([]byte, error) { return json.Marshal(c) }
