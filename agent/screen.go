package agent

import (
	"fmt"
	"io"
	"sync"
)

// Screen writes a line for each new status of an agent.
func Screen(w io.Writer) func(Status) {
	var mu sync.Mutex
	last := ""
	return func(s Status) {
		mu.Lock()
		defer mu.Unlock()
		line := s.Text
		if s.Name != "" {
			line = s.Name + ": " + line
		}
		if s.Total > 0 {
			line += fmt.Sprintf(" %3d %%", s.Done*100/s.Total)
		}
		if line != last {
			fmt.Fprintln(w, line)
			last = line
		}
	}
}
