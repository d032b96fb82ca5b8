package cli

import "io"

// meter is one progress bar for work on this machine; nothing where no bar can be
// drawn.
type meter struct {
	bars *bars
	name string
}

func newMeter(w io.Writer, name string) *meter {
	m := &meter{name: name}
	if isTerminal(w) {
		m.bars = newBars(w)
		m.set(name, 0, 0)
	}
	return m
}

// set moves the bar of a step; the bar of the step before is full then.
func (m *meter) set(step string, done, total int64) {
	if m.bars == nil {
		return
	}
	if step != m.name {
		m.bars.set(m.name, m.name, "", 0, 0, true, false)
		m.name = step
	}
	m.bars.set(step, step, "", done, total, false, false)
}

func (m *meter) end() {
	if m.bars == nil {
		return
	}
	m.bars.set(m.name, m.name, "", 0, 0, true, false)
	m.bars.end()
}
