package machine

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"strings"
	"unicode/utf8"
	"unsafe"

	"golang.org/x/sys/unix"

	"jugate/core/keyboard"
)

// layoutSet is agent.Options.Keyboard. What somebody has chosen here goes before.
func (p *person) layoutSet(name string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.chosen || name == "" || name == p.layout {
		return
	}
	if l, known := keyboard.Find(name); known {
		p.take(l)
		return
	}
	p.screen.log("keyboard: no layout " + name + " with Latin letters is known here; keys stay those of " + p.typesIn())
}

// take has keys be those of a layout from now on.
func (p *person) take(l keyboard.Layout) error {
	err := p.screen.typeIn(l)
	if err != nil {
		p.screen.log(fmt.Sprintf("keyboard: %v", err))
		return err
	}
	p.layout = l.Name
	p.screen.log("keyboard: keys are those of " + l.Name)
	return nil
}

func (p *person) typesIn() string { return cmp.Or(p.layout, keyboard.Default) }

// typedAs says what the keys are, where something is typed.
func (p *person) typedAs() string {
	return fmt.Sprintf("Keys are those of the keyboard %s. To try or change that, go back with Esc and press K.", p.typesIn())
}

// likeAtMost is how many names of layouts are told.
const likeAtMost = 12

// keyboard shows in which layout one types, with a line to try it. A line that is the name of a layout takes that one.
func (p *person) keyboard(said string) {
	lines := []string{"Keys are those of the keyboard " + p.typesIn() + ". Type here to see what comes.",
		"To take another, type its name, such as de, fr, gb, us or de nodeadkeys, and Enter."}
	if said != "" {
		lines = append(append(lines, ""), strings.Split(said, "\n")...)
	}
	p.ask("Keyboard", lines, "try it:", func(_ context.Context, text string) {
		said := ""
		switch l, known := keyboard.Find(text); {
		case known:
			if err := p.take(l); err != nil {
				said = err.Error()
				break
			}
			p.chosen = true
		case text != "":
			p.screen.log(fmt.Sprintf("keyboard: %d letters came", utf8.RuneCountInString(text)))
			said = "This came: " + text
			if like := keyboard.Like(text[:1]); len(like) > 0 {
				said += "\nThat is not the name of a keyboard, such as " + strings.Join(like[:min(len(like), likeAtMost)], ", ")
			}
		}
		p.keyboard(said)
	})
}

// Requests of ioctl_console(2).
const (
	setKeyboardMode = 0x4b45 // KDSKBMODE
	unicodeMode     = 3      // K_UNICODE
	setEntry        = 0x4b47 // KDSKBENT
	setCompositions = 0x4bfb // KDSKBDIACRUC
)

// typeIn has the kernel's console take keys in a layout.
func (t *terminal) typeIn(l keyboard.Layout) error {
	if t.tty == nil {
		return nil
	}
	return layOut(t.tty, l)
}

func layOut(tty *os.File, l keyboard.Layout) error {
	fd := int(tty.Fd())
	if err := unix.IoctlSetInt(fd, setKeyboardMode, unicodeMode); err != nil {
		return fmt.Errorf("the console takes no layout: %w", err)
	}
	for _, e := range l.Entries() {
		entry := e // struct kbentry
		if _, _, errno := unix.Syscall(unix.SYS_IOCTL, uintptr(fd), setEntry, uintptr(unsafe.Pointer(&entry))); errno != 0 {
			return fmt.Errorf("the console does not take key %d of the layout %s: %w", e.Key, l.Name, errno)
		}
	}
	var made struct { // struct kbdiacrsuc
		count uint32
		all   [keyboard.CompositionsAtMost]keyboard.Composition
	}
	made.count = uint32(copy(made.all[:], l.Compositions()))
	if _, _, errno := unix.Syscall(unix.SYS_IOCTL, uintptr(fd), setCompositions, uintptr(unsafe.Pointer(&made))); errno != 0 {
		return fmt.Errorf("the console does not take the dead keys of the layout %s: %w", l.Name, errno)
	}
	return nil
}
