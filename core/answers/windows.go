package answers

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
)

// ErrNotWindows says that a volume does not have a Windows system.
var ErrNotWindows = errors.New("there is no Windows system on this volume")

// Names in a Windows volume, whose letters' case does not matter.
const (
	setupState     = "Windows/Setup/State/State.ini"
	setupComplete  = "Windows/Setup/Scripts/SetupComplete.cmd"
	generalized    = "IMAGE_STATE_GENERALIZE_RESEAL_TO_OOBE"
	firstStartDone = "IMAGE_STATE_COMPLETE"
)

// IsWindows tells whether a volume has a Windows system.
func IsWindows(root fs.FS) bool {
	_, there := findFold(root, "Windows/System32/config")
	return there
}

// findFold finds a name whatever the case of its letters, as NTFS does. What is not there
// keeps the spelling of what is.
func findFold(root fs.FS, name string) (string, bool) {
	at := "."
	parts := strings.Split(name, "/")
	for i, part := range parts {
		entries, err := fs.ReadDir(root, at)
		j := -1
		if err == nil {
			j = slices.IndexFunc(entries, func(e fs.DirEntry) bool { return strings.EqualFold(e.Name(), part) })
		}
		if j < 0 {
			return path.Join(append([]string{at}, parts[i:]...)...), false
		}
		at = path.Join(at, entries[j].Name())
	}
	return at, true
}

// Windows plans what answers do to a generalised Windows: an answer file for the passes
// specialize and oobeSystem, merged with the one that is there, and commands behind setup.
func Windows(root fs.FS, s *Settings, arch string) (*Plan, error) {
	if !IsWindows(root) {
		return nil, ErrNotWindows
	}
	f := &files{FS: root, plan: &Plan{}}
	at, existing, err := existingAnswerFile(root)
	if err != nil {
		return nil, err
	}
	doc, err := readAnswerFile(existing, arch)
	if err != nil {
		return nil, err
	}
	if f.plan.Remarks, err = doc.answer(s); err != nil {
		return nil, err
	}
	text, err := doc.bytes()
	if err != nil {
		return nil, err
	}
	if !bytes.Equal(text, existing) {
		f.plan.Changes = append(f.plan.Changes, Change{Do: Write, Path: at, Content: text, Mode: 0o644, Why: "the first start", Secret: s.ProductKey != "" || s.Accounts != nil})
	}
	if s.Commands != nil {
		f.setupComplete(s.Commands)
	}
	if name, there := findFold(root, setupState); there {
		state, _ := fs.ReadFile(root, name)
		if bytes.Contains(state, []byte(firstStartDone)) || !bytes.Contains(state, []byte(generalized)) {
			f.remark("this Windows was not generalised, so it looks for no answer file, and every copy has the same identity")
		}
	}
	return f.plan, nil
}

// For plans what answers do to a system of either kind. arch is that of a Windows.
func For(root fs.FS, s *Settings, fresh Fresh, arch string) (*Plan, error) {
	plan, err := Linux(root, s, fresh)
	if errors.Is(err, ErrNotLinux) {
		var none error
		if plan, none = Windows(root, s, arch); errors.Is(none, ErrNotWindows) {
			return nil, ErrNoSystem
		}
		return plan, none
	}
	return plan, err
}

// ErrNoSystem says that a volume has neither a Linux nor a Windows system.
var ErrNoSystem = errors.New("there is neither a Linux nor a Windows system on this volume")

// existingAnswerFile is the one that setup would use, or the place for a new one.
func existingAnswerFile(root fs.FS) (at string, existing []byte, err error) {
	for _, name := range AnswerFiles {
		found, there := findFold(root, name)
		if at = found; there {
			existing, err = fs.ReadFile(root, at)
			return at, existing, err
		}
	}
	return at, nil, nil
}

// setupComplete has commands run by the system when setup is over, behind those that are there.
func (f *files) setupComplete(commands []string) {
	at, _ := findFold(f.FS, setupComplete)
	text, _ := f.read(at)
	var b strings.Builder
	if b.Write(text); len(text) > 0 && !bytes.HasSuffix(text, []byte("\n")) {
		b.WriteString("\r\n")
	}
	for _, c := range commands {
		if line := c + "\r\n"; !strings.Contains(b.String(), line) {
			fmt.Fprint(&b, line)
		}
	}
	f.folder(path.Dir(at), "commands", 0o755, 0, 0)
	f.write(at, "commands", 0o644, []byte(b.String())).Secret = true
}
