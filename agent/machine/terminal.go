package machine

import (
	"bytes"
	"fmt"
	"os"
	"sync"
	"time"
	"unicode/utf8"

	"golang.org/x/term"

	"jugate/agent"
)

// terminal draws the view on the machine's first console, and writes what changes
// as lines to the serial one, if there is one.
type terminal struct {
	tty    *os.File // nil without a screen
	serial *os.File // nil without a serial console

	mu    sync.Mutex
	view  view
	told  string
	began time.Time // of what is counted now
	first int64     // what was done then
	text  string
}

// Escape sequences of ECMA-48, as the kernel's console knows them.
const (
	home      = "\x1b[H"
	clearLine = "\x1b[K"
	clearRest = "\x1b[J"
	reset     = "\x1b[0m"
	hideMark  = "\x1b[?25l"
	utf8On    = "\x1b%G"
	noBlank   = "\x1b[9;0]" // the screen stays on
)

var styles = map[style]string{plain: "", bold: "\x1b[1m", banner: "\x1b[7m"}

func openTerminal(serial bool) *terminal {
	t := &terminal{}
	if tty, err := os.OpenFile("/dev/tty1", os.O_RDWR, 0); err == nil {
		t.tty = tty
		term.MakeRaw(int(tty.Fd())) // without it letters are echoed, that is all
		tty.WriteString(utf8On + noBlank + hideMark + "\x1b[2J")
	}
	if serial {
		t.serial, _ = os.OpenFile("/dev/ttyS0", os.O_WRONLY, 0)
	}
	return t
}

// change changes the view and draws it.
func (t *terminal) change(do func(*view)) {
	t.mu.Lock()
	defer t.mu.Unlock()
	do(&t.view)
	t.draw()
}

// show takes an agent's status.
func (t *terminal) show(s agent.Status) {
	t.change(func(v *view) {
		if now := time.Now(); s.Text != t.text || s.Done < t.first || s.Total != v.status.Total {
			t.text, t.began, t.first = s.Text, now, s.Done
		} else if past := now.Sub(t.began).Seconds(); past > 1 && s.Done > t.first {
			v.rate = float64(s.Done-t.first) / past
			v.left = time.Duration(float64(s.Total-s.Done) / v.rate * float64(time.Second))
		}
		if t.began.After(time.Now().Add(-time.Second)) {
			v.rate, v.left = 0, 0
		}
		v.status = s
		if s.Name != "" {
			v.name = s.Name
		}
	})
	line := s.Text
	if s.Name != "" {
		line = s.Name + ": " + line
	}
	t.log(line)
}

// log writes a line to the serial console, unless it says what the last one said.
func (t *terminal) log(text string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.serial != nil && text != t.told {
		fmt.Fprintf(t.serial, "jugate: %s\r\n", text)
	}
	t.told = text
}

func (t *terminal) draw() {
	if t.tty == nil {
		return
	}
	columns, rows, err := term.GetSize(int(t.tty.Fd()))
	if err != nil || columns < 20 || rows < 5 {
		columns, rows = 80, 25
	}
	var b bytes.Buffer
	b.WriteString(home)
	lines := t.view.lines(columns, rows)
	for i, l := range lines {
		if i > 0 {
			b.WriteString("\r\n")
		}
		text := cut(l.text, columns)
		b.WriteString(styles[l.style] + text + reset)
		if utf8.RuneCountInString(text) < columns { // in the last column the mark stands on what was drawn
			b.WriteString(clearLine)
		}
	}
	if len(lines) < rows {
		b.WriteString(clearRest)
	}
	t.tty.Write(b.Bytes())
}

func cut(text string, columns int) string {
	if r := []rune(text); len(r) > columns {
		return string(r[:columns])
	}
	return text
}
