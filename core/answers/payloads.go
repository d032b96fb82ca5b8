package answers

import (
	"errors"
	"io/fs"
	"path"
	"strings"

	"jugate/core/fileview"
	"jugate/core/windows"
)

// Folders for payloads that have no place of their own.
const (
	payloadFolder        = "var/lib/jugate/payloads"
	windowsPayloadFolder = "Jugate/Payloads"
)

// Bring plans how payloads come onto a system that was delivered before.
func Bring(root fs.FS, all []Payload) (*Plan, error) {
	f := &files{FS: root, plan: &Plan{}}
	switch {
	case IsLinux(root):
		if commands := f.payloads(all); commands != nil {
			if f.has(firstStartScript) {
				return nil, errors.New("the commands of its first start still wait: start the system once")
			}
			f.firstStart(commands)
		}
	case windows.Is(root):
		for _, c := range f.windowsPayloads(all) {
			f.remark("run this on it, as its setup is over: %s", c)
		}
	default:
		return nil, ErrNoSystem
	}
	return f.plan, nil
}

// payloads brings payloads onto a Linux system, and returns the commands that install packages
// at its first start.
func (f *files) payloads(all []Payload) (commands []string) {
	for _, p := range all {
		at := path.Join(payloadFolder, p.Name)
		if p.Path != "" {
			at = strings.TrimPrefix(p.Path, "/")
		}
		f.folder(path.Dir(at), "payloads", 0o755, 0, 0)
		f.plan.Payloads = append(f.plan.Payloads, Brought{p.Name, at})
		if !p.Install {
			continue
		}
		switch kind := path.Ext(p.Name); {
		case kind == ".deb" && f.hasAny("usr/bin/apt-get") != "":
			commands = append(commands, "DEBIAN_FRONTEND=noninteractive apt-get install -y '/"+at+"'")
		case kind == ".rpm" && f.hasAny("usr/bin/dnf") != "":
			commands = append(commands, "dnf install -y '/"+at+"'")
		case kind == ".rpm" && f.hasAny("usr/bin/zypper") != "":
			commands = append(commands, "zypper --non-interactive install --allow-unsigned-rpm '/"+at+"'")
		default:
			f.remark("%s is brought, but nothing in the system installs it", p.Name)
		}
	}
	return commands
}

// windowsPayloads is payloads for a Windows.
func (f *files) windowsPayloads(all []Payload) (commands []string) {
	for _, p := range all {
		at := path.Join(windowsPayloadFolder, p.Name)
		if p.Path != "" {
			at = strings.TrimPrefix(p.Path, "/")
		}
		at, _ = fileview.FindFold(f.FS, at)
		f.plan.Payloads = append(f.plan.Payloads, Brought{p.Name, at})
		switch {
		case p.Install && strings.EqualFold(path.Ext(p.Name), ".msi"):
			commands = append(commands, `msiexec /i "%SystemDrive%\`+strings.ReplaceAll(at, "/", `\`)+`" /qn /norestart`)
		case p.Install:
			f.remark("%s is brought, but only .msi packages are installed in Windows; a command can do it", p.Name)
		}
	}
	return commands
}
