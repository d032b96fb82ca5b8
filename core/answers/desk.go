package answers

import (
	"fmt"
	"strings"
)

// What a Linux system is for whoever sits at it: programs that open, packages, and no questions.

// networkProfile sets the default zone of firewalld (firewalld.conf(5)).
func (f *files) networkProfile(profile string) {
	const config = "etc/firewalld/firewalld.conf"
	if !f.has(config) {
		f.remark("the system has no firewalld, so network_profile changes nothing")
		return
	}
	zone := "public"
	if profile == "private" {
		zone = "work"
	}
	f.setting(config, "DefaultZone", zone, "network_profile")
}

// programs opens programs when somebody signs in at a desktop (the Desktop Application Autostart
// Specification of freedesktop.org).
func (f *files) programs(all []Program) {
	const why, folder = "programs", "etc/xdg/autostart"
	f.folder(folder, why, 0o755, 0, 0)
	for _, p := range all {
		command := strings.ReplaceAll(p.Command, "%", "%%") // which stands for fields of an entry
		f.write(folder+"/jugate-"+fileOf(p.Name)+".desktop", why, 0o644, fmt.Appendf(nil, "[Desktop Entry]\nType=Application\nName=%s\nExec=sh -c %s\n", p.Name, desktopQuoted(command)))
	}
}

// fileOf is the name of a program as part of the name of a file.
func fileOf(name string) string { return strings.ReplaceAll(strings.ToLower(name), " ", "-") }

// desktopQuoted quotes an argument of Exec, and escapes the backslashes of that as every text of an
// entry has them (Desktop Entry Specification, "The Exec key").
func desktopQuoted(text string) string {
	quoted := strings.NewReplacer(`\`, `\\`, `"`, `\"`, "`", "\\`", "$", `\$`).Replace(text)
	return `"` + strings.ReplaceAll(quoted, `\`, `\\`) + `"`
}

// installing are the commands that install packages, with the system's own package manager.
func (f *files) installing(packages []string) []string {
	if len(packages) == 0 {
		return nil
	}
	list := strings.Join(packages, " ")
	switch {
	case f.hasAny("usr/bin/apt-get") != "":
		return []string{"apt-get update", "DEBIAN_FRONTEND=noninteractive apt-get install -y " + list}
	case f.hasAny("usr/bin/dnf") != "":
		return []string{"dnf install -y " + list}
	case f.hasAny("usr/bin/zypper") != "":
		return []string{"zypper --non-interactive install " + list}
	}
	f.remark("the system has no package manager that is known here, so no packages are installed")
	return nil
}

// askNothing takes away the dialogues that ask at the first start what is set: for a language, an
// account, a time zone.
func (f *files) askNothing(s *Settings) {
	const why = "it asks nothing at its first start"
	if s.Accounts == nil {
		return
	}
	for _, unit := range []string{"initial-setup.service", "initial-setup-graphical.service", "initial-setup-text.service"} {
		f.removeAll("etc/systemd/system/*.wants/"+unit, why)
	}
	f.removeAll("etc/reconfigSys", why)
	f.removeAll("var/lib/gdm*/run-initial-setup", why)
}
