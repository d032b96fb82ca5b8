package readiness

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"jugate/core/windows"
)

// files looks at what operating systems and agents leave in files.
func (c *check) files(v Volume) {
	if v.Files == nil {
		if v.Hidden != nil {
			c.blind(v.Hidden.Error())
		}
		return
	}
	// The views are made by libraries, of disks that can hold anything.
	defer func() {
		if r := recover(); r != nil {
			c.blind(fmt.Sprint(r))
		}
	}()
	if windows.Is(v.Files) {
		c.windows = true
		c.preparation(v.Files)
		c.windowsSettings(v.Files)
	}
	if hasLinux(v.Files) || exists(v.Files, "etc/machine-id") {
		c.linuxIdentity(v.Files)
		c.pendingOnLinux(v.Files)
	}
	c.agentIdentity(v.Files)
}

// NotLookedInto is the code of the finding that a volume's files could not be read: a
// disk that has it is not known to be fit.
const NotLookedInto = "not-looked-into"

func (c *check) blind(why string) {
	c.add(NotLookedInto, Warning, "its files could not be read: "+why, "left-over identities and unfinished preparation are not noticed", "check them by hand, or capture from the boot environment, whose kernel reads more")
}

// HasSystem tells whether files are those of an operating system. Views are made by
// libraries, of disks that can hold anything: one that cannot be looked through has none.
func HasSystem(files fs.FS) (has bool) {
	defer func() {
		if recover() != nil {
			has = false
		}
	}()
	return files != nil && (windows.Is(files) || hasLinux(files))
}

func hasLinux(files fs.FS) bool {
	return exists(files, "etc/os-release") || exists(files, "usr/lib/os-release")
}

func (c *check) preparation(files fs.FS) {
	const means = "every copy would have the same identity, and may not start on other hardware"
	const do = "run the system preparation with generalising and shut down, and do not start the disk again before the capture"
	state, err := windows.SetupState(files)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		c.add("not-prepared", Blocking, "system preparation left no state ("+windows.SetupFile+" is missing)", means, do)
	case err != nil:
		c.add("not-prepared", Blocking, "the state of system preparation cannot be read: "+err.Error(), means, do)
	case state == windows.Complete:
		c.add("not-prepared", Blocking, "system preparation was not run (the state is "+state+")", means, do)
	case state != windows.ResealedToFirstStart && state != windows.ResealedToAudit:
		c.add("preparation-unfinished", Blocking, fmt.Sprintf("system preparation did not finish (the state is %q)", state), means, do)
	}
}

const pendingMeans = "every copy will do that work at its first start, or fail at it"

// windowsSettings looks at what the system says of itself (core/windows).
func (c *check) windowsSettings(files fs.FS) {
	w, err := windows.Look(files)
	if err != nil {
		c.add("settings-unread", Warning, "its settings database cannot be read: "+err.Error(), "which edition it is, and whether updates wait, is not noticed", "start the system once, shut it down, and look again")
	}
	if exists(files, "Windows/WinSxS/pending.xml") {
		w.Pending = append([]string{"Windows/WinSxS/pending.xml"}, w.Pending...)
	}
	if len(w.Pending) > 0 {
		c.add("updates-pending", Warning, "updates wait for a restart ("+w.Pending[0]+more(len(w.Pending)-1)+")", pendingMeans, "restart, let the updates finish, prepare the system again")
	}
	if w.Evaluation() {
		found := "it is an evaluation edition (" + w.Name() + ")"
		if ends := w.EvaluationEnds(); !ends.IsZero() {
			found += fmt.Sprintf(", installed on %s: its time is over on %s, unless it begins anew when the image is generalised", w.Installed.Format("2 January 2006"), ends.Format("2 January 2006"))
		}
		c.add("evaluation", Warning, found, "copies stop working when its time is over", "install a licensed edition")
	}
	if w.Prepared != 0 && w.Prepared != windows.Generalised {
		c.add("preparation-unfinished", Blocking, fmt.Sprintf("the settings database says that system preparation did not finish (GeneralizationState is %d, and would be %d)", w.Prepared, windows.Generalised),
			"copies may not start, or have the same identity", "run the system preparation with generalising again")
	}
	if w.Unclean != "" {
		c.add("settings-unclean", Warning, "the last changes of its settings database are in a log only ("+w.Unclean+")", "disk controllers' drivers cannot be added to copies", "start it once, and shut it down without hibernating")
	}
}

func (c *check) pendingOnLinux(files fs.FS) {
	for _, name := range []string{"system-update", "etc/system-update", "var/run/reboot-required", "run/reboot-required"} {
		if exists(files, name) {
			c.add("updates-pending", Warning, "updates wait for a restart ("+name+")", pendingMeans, "restart, and let the updates finish")
		}
	}
	if names, _ := fs.Glob(files, "var/lib/dpkg/updates/*"); len(names) > 0 {
		c.add("updates-pending", Warning, "the installation of packages was cut off (var/lib/dpkg/updates)", pendingMeans, "run dpkg --configure -a")
	}
}

const sameMachine = "every copy claims to be the same machine"

// addCured adds a finding that answers cure.
func (c *check) addCured(code string, severity Severity, what, means, do string) {
	if c.rules.Answered {
		severity, do = Note, "nothing: copies are answered, and get their own"
	}
	c.add(code, severity, what, means, do)
}

func (c *check) linuxIdentity(files fs.FS) {
	for _, name := range []string{"etc/machine-id", "var/lib/dbus/machine-id"} {
		text, err := fs.ReadFile(files, name)
		id := string(bytes.TrimSpace(text))
		// An empty file, or this word, makes the system choose anew (machine-id(5)).
		if err == nil && id != "" && id != "uninitialized" {
			c.addCured("machine-id", Blocking, name+" holds an identity", sameMachine+" to the network and to management", "empty the file (truncate -s 0 /"+name+")")
			break // the second is usually a link to the first
		}
	}
	for _, look := range []struct {
		code     string
		severity Severity
		pattern  string
		what     string
		means    string
		do       string
	}{
		{"helper-key", Blocking, "var/lib/jugate/helper.key", "the key of its helper is on it", "the service takes every copy for this workstation", "remove it, or set answers for the copies, which do that"},
		{"ssh-host-keys", Blocking, "etc/ssh/ssh_host_*_key", "it has SSH host keys", "whoever holds one copy can pass for all of them", "remove them and have them made at first start"},
		{"domain-member", Blocking, "etc/krb5.keytab", "it is a computer of a domain, with keys of its own", "copies would be the same computer to the domain, and lose their place when one changes its password", "have it leave the domain (adcli delete-computer), and remove the file"},
		{"dhcp-leases", Warning, "var/lib/dhcp/*.lease*", "it remembers addresses from DHCP", "copies may ask for the same address at once", "remove them"},
		{"dhcp-leases", Warning, "var/lib/NetworkManager/*.lease", "it remembers addresses from DHCP", "copies may ask for the same address at once", "remove them"},
		{"dhcp-leases", Warning, "var/lib/systemd/network/*", "it remembers addresses from DHCP", "copies may ask for the same address at once", "remove them"},
		{"network-names", Warning, "etc/udev/rules.d/*persistent-net*", "it ties the names of network cards to hardware addresses", "the cards of copies get other names, and their settings do not apply", "remove the file"},
	} {
		names, _ := fs.Glob(files, look.pattern)
		for i := range names {
			if content, err := fs.ReadFile(files, names[i]); err == nil && len(bytes.TrimSpace(content)) > 0 {
				c.addCured(look.code, look.severity, look.what+" ("+names[i]+more(len(names)-1)+")", look.means, look.do)
				break
			}
		}
	}
}

func (c *check) agentIdentity(files fs.FS) {
	for _, pattern := range c.rules.IdentityFiles {
		pattern = strings.TrimLeft(strings.ReplaceAll(pattern, `\`, "/"), "/")
		names, err := doublestar.Glob(files, pattern, doublestar.WithFilesOnly())
		switch {
		case err != nil:
			c.add("bad-pattern", Warning, fmt.Sprintf("%q is not a pattern of identity files: %v", pattern, err), "such files are not noticed", "mend the setting")
		case len(names) > 0:
			c.add("agent-identity", Blocking, "an agent's identity is on it ("+names[0]+more(len(names)-1)+")", sameMachine+" to that agent's server",
				"remove it, or have the agent prepare itself for cloning")
		}
	}
}

func more(n int) string {
	if n <= 0 {
		return ""
	}
	return fmt.Sprintf(" and %d more", n)
}

func exists(files fs.FS, name string) bool {
	_, err := fs.Stat(files, name)
	return err == nil
}
