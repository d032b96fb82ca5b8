package cli

import "io"

// meter is one progress bar after the other for work on this machine; nothing
// where no bar can be drawn.
type meter struct {
	bars        *bars
	step        string
	done, total int64
}

func newMeter(w io.Writer, step string) *meter {
	m := &meter{step: step}
	if isTerminal(w) {
		m.bars = newBars(w)
		m.set(step, 0, 0)
	}
	return m
}

// set moves the bar of a step; the bar of the step before is full then.
func (m *meter) set(step string, done, total int64) {
	if m.bars == nil {
		return
	}
	if step != m.step {
		m.bars.set(m.step, m.step, m.total, m.total, true, false)
	}
	m.step, m.done, m.total = step, done, total
	m.bars.set(step, step, done, total, false, false)
}

func (m *meter) end() {
	if m.bars == nil {
		return
	}
	m.bars.set(m.step, m.step, m.total, m.total, m.done == m.total, m.done != m.total)
	m.bars.end()
}
