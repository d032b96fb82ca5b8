package answers

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"

	"jugate/core/fileview"
	"jugate/core/windows"
)

// Names in a Windows volume, whose letters' case does not matter.
const (
	setupComplete = "Windows/Setup/Scripts/SetupComplete.cmd"
)

// Windows plans what answers do to a generalised Windows: an answer file for the passes
// specialize and oobeSystem, merged with the one that is there, and commands behind setup.
func Windows(root fs.FS, s *Settings, fresh Fresh, arch string) (*Plan, error) {
	if !windows.Is(root) {
		return nil, windows.ErrNone
	}
	f := &files{FS: root, plan: &Plan{}}
	at, existing, err := existingAnswerFile(root)
	if err != nil {
		return nil, err
	}
	doc, err := readAnswerFile(existing, arch)
	if err != nil {
		return nil, fmt.Errorf("the answer file /%s: %w", at, err)
	}
	if f.plan.Remarks, err = doc.answer(s, fresh.FirstCard); err != nil {
		return nil, err
	}
	if fresh.Joined != nil {
		doc.join(fresh.Joined.Blob)
	} else if s.Domain != "" {
		f.plan.Remarks = append(f.plan.Remarks, notJoined(s.Domain))
	}
	secret := s.ProductKey != "" || s.Accounts != nil || fresh.Joined != nil
	text, err := doc.bytes()
	if err != nil {
		return nil, err
	}
	if !bytes.Equal(text, existing) {
		f.plan.Changes = append(f.plan.Changes, Change{Do: Write, Path: at, Content: text, Mode: 0o644, Why: "the first start", Secret: secret})
	}
	f.windowsFiles(s)
	commands := append(f.windowsPayloads(s.Payloads), setupCommands(s)...)
	if secret {
		commands = append(commands, `del /f /q "%SystemDrive%\`+strings.ReplaceAll(at, "/", `\`)+`"`)
	}
	if s.Helper != nil && *s.Helper {
		f.remark("the helper is for Linux, so this Windows gets none")
	}
	if fresh.Arrival != nil {
		commands = append(commands, f.windowsArrival(fresh.Arrival)...)
	}
	if commands != nil {
		f.setupComplete(commands)
	}
	if state, err := windows.SetupState(root); err == nil && state != windows.ResealedToFirstStart {
		f.remark("this Windows was not generalised, so it looks for no answer file, and every copy has the same identity")
	}
	return f.plan, nil
}

// For plans what answers do to a system of either kind. arch is that of a Windows.
func For(root fs.FS, s *Settings, fresh Fresh, arch string) (*Plan, error) {
	plan, err := Linux(root, s, fresh)
	if errors.Is(err, ErrNotLinux) {
		var none error
		if plan, none = Windows(root, s, fresh, arch); errors.Is(none, windows.ErrNone) {
			return nil, ErrNoSystem
		}
		return plan, none
	}
	return plan, err
}

// ErrNoSystem says that a volume has neither a Linux nor a Windows system.
var ErrNoSystem = errors.New("there is neither a Linux nor a Windows system on this volume")

// CheckAnswerFile says why answers could not be merged with the answer file that a Windows has.
func CheckAnswerFile(root fs.FS, arch string) error {
	at, existing, err := existingAnswerFile(root)
	if err == nil {
		_, err = readAnswerFile(existing, arch)
	}
	if err != nil {
		return fmt.Errorf("the answer file /%s: %w", at, err)
	}
	return nil
}

// existingAnswerFile is the one that setup would use, or the place for a new one.
func existingAnswerFile(root fs.FS) (at string, existing []byte, err error) {
	for _, name := range AnswerFiles {
		found, there := fileview.FindFold(root, name)
		if at = found; there {
			existing, err = fs.ReadFile(root, at)
			return at, existing, err
		}
	}
	return at, nil, nil
}

// setupComplete has commands run by the system when setup is over, behind those that are there.
func (f *files) setupComplete(commands []string) {
	at, _ := fileview.FindFold(f.FS, setupComplete)
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
