package answers

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// ErrNotLinux says that a volume does not have a Linux system.
var ErrNotLinux = errors.New("there is no Linux system on this volume")

// Fresh is what each copy needs of its own. A preview fills it with what stands for that.
type Fresh struct {
	// HostKeys are made for each kind that the golden machine had: "ed25519", "rsa", "ecdsa".
	HostKeys func(kind string) (private, public []byte, err error)
	// Seed is 512 bytes for the random number generator.
	Seed []byte
	// FirstCard is the hardware address of the workstation's first card.
	FirstCard string
	// Joined is what the system belongs to a domain by; nil if it joins none.
	Joined *Joined
	// Arrival is what reports the first start; nil if nothing does.
	Arrival *Arrival
	// Today is the number of days since 1970, for shadow(5).
	Today int
}

// Linux plans what answers do to a Linux system: whatever tells the copy from the golden
// machine and from its siblings, and what is set. The layouts are those of Debian, Ubuntu,
// Fedora and openSUSE, told apart by the files that are there.
func Linux(root fs.FS, s *Settings, fresh Fresh) (*Plan, error) {
	if !IsLinux(root) {
		return nil, ErrNotLinux
	}
	f := &files{FS: root, plan: &Plan{}}
	f.identity(fresh)
	if err := f.hostKeys(fresh); err != nil {
		return nil, err
	}
	if s.ComputerName != "" {
		f.name(s.ComputerName)
	}
	if s.Description != "" {
		f.setting("etc/machine-info", "PRETTY_HOSTNAME", quoted(s.Description), "description")
	}
	if s.TimeZone != "" {
		f.timeZone(s.TimeZone)
	}
	if s.Locale != "" {
		f.locale(s.Locale)
	}
	if s.Keyboard != "" {
		f.keyboard(s.Keyboard)
	}
	if err := f.accounts(s.Accounts, fresh.Today); err != nil {
		return nil, err
	}
	if s.RootSSHKeys != nil {
		f.folder("root/.ssh", "root_ssh_keys", 0o700, 0, 0)
		f.write("root/.ssh/authorized_keys", "root_ssh_keys", 0o600, lines(s.RootSSHKeys))
	}
	if s.RemoteAccess != nil {
		f.remoteAccess(*s.RemoteAccess)
	}
	if s.Network != nil {
		f.network(s.Network, fresh.FirstCard)
	}
	if fresh.Joined != nil {
		f.join(fresh.Joined)
	} else if s.Domain != "" {
		f.plan.Remarks = append(f.plan.Remarks, notJoined(s.Domain))
	}
	if s.Proxy != "" {
		f.proxy(s.Proxy)
	}
	for _, one := range s.Files {
		mode, _ := strconv.ParseUint(one.Mode, 8, 32)
		if one.Mode == "" {
			mode = 0o644
		}
		name := strings.TrimPrefix(one.Path, "/")
		f.folder(path.Dir(name), "files", 0o755, 0, 0)
		f.write(name, "files", fs.FileMode(mode), []byte(one.Content))
	}
	if s.NetProfile != "" {
		f.networkProfile(s.NetProfile)
	}
	if s.Programs != nil {
		f.programs(s.Programs)
	}
	if commands := slices.Concat(f.payloads(s.Payloads), f.installing(s.Packages), s.Commands); len(commands) > 0 {
		f.firstStart(commands)
	}
	f.askNothing(s)
	if fresh.Arrival != nil {
		fresh.Arrival.Helper = s.Helper != nil && *s.Helper
		f.arrival(fresh.Arrival)
	}
	return f.plan, nil
}

// IsLinux tells whether a volume has the root of a Linux system (os-release(5)).
func IsLinux(root fs.FS) bool {
	f := &files{FS: root}
	return f.has("etc") && f.hasAny("etc/os-release", "usr/lib/os-release", "etc/debian_version") != ""
}

func lines(all []string) []byte { return []byte(strings.Join(all, "\n") + "\n") }

// identity empties what tells one machine from another, and removes what the golden machine
// has left of its own life.
func (f *files) identity(fresh Fresh) {
	const why = "its own identity"
	f.write("etc/machine-id", why, 0o444, nil) // the system makes one (machine-id(5))
	if text, err := fs.ReadFile(f.FS, "var/lib/dbus/machine-id"); err == nil && len(text) > 0 {
		f.link("var/lib/dbus/machine-id", "/etc/machine-id", why)
	}
	if f.has("var/lib/systemd") {
		f.write("var/lib/systemd/random-seed", "its own random numbers", 0o600, fresh.Seed).Secret = true
	}
	for _, pattern := range []string{"var/lib/dhcp/*.leases", "var/lib/dhclient/*.lease*", "var/lib/NetworkManager/*.lease", "var/lib/NetworkManager/secret_key",
		"var/lib/NetworkManager/timestamps", "var/lib/NetworkManager/seen-bssids", "var/lib/wicked/lease-*", "var/lib/dhcpcd/*.lease*", "var/lib/systemd/network/*", "run/systemd/netif/leases/*"} {
		f.removeAll(pattern, "leases of the golden machine")
	}
	for _, name := range append([]string{HelperKey}, ArrivalFiles...) {
		f.removeAll(name, "the golden machine's own helper")
	}
	f.removeAll("etc/udev/rules.d/70-persistent-net.rules", "names of the golden machine's network cards")
	f.removeAll("var/lib/systemd/credential.secret", why)
	f.removeAll("etc/krb5.keytab", "the golden machine's place in its domain")
	f.removeAll("etc/iscsi/initiatorname.iscsi", why)
	f.removeAll("etc/nvme/hostid", why)
	f.removeAll("etc/nvme/hostnqn", why)
}

var hostKeyForm = regexp.MustCompile(`^ssh_host_(ed25519|rsa|ecdsa|dsa)_key$`)

// hostKeys replaces SSH host keys: some systems make missing ones when they start, others
// never do.
func (f *files) hostKeys(fresh Fresh) error {
	entries, _ := fs.ReadDir(f.FS, "etc/ssh")
	server := f.hasAny("usr/sbin/sshd", "usr/bin/sshd") != ""
	kinds := []string{}
	for _, e := range entries {
		if m := hostKeyForm.FindStringSubmatch(e.Name()); m != nil {
			kinds = append(kinds, m[1])
		}
	}
	if len(kinds) == 0 && server {
		kinds = []string{"ed25519", "rsa", "ecdsa"} // were removed from the golden machine
	}
	for _, kind := range kinds {
		name := "etc/ssh/ssh_host_" + kind + "_key"
		if kind == "dsa" {
			f.remove(name, "its own SSH host keys")
			f.remove(name+".pub", "its own SSH host keys")
			continue
		}
		private, public, err := fresh.HostKeys(kind)
		if err != nil {
			return err
		}
		f.write(name, "its own SSH host keys", 0o600, private).Secret = true
		f.write(name+".pub", "its own SSH host keys", 0o644, public)
	}
	return nil
}

// name sets the computer's name, and replaces the golden machine's where it stands.
func (f *files) name(name string) {
	const why = "computer_name"
	was := ""
	if text, has := f.read("etc/hostname"); has {
		was = strings.TrimSpace(string(text))
	}
	old, _, _ := strings.Cut(was, ".")
	f.write("etc/hostname", why, 0o644, []byte(name+"\n"))
	text, _ := f.read("etc/hosts")
	var out []string
	own := false
	for line := range strings.Lines(string(text)) {
		line = strings.TrimRight(line, "\n")
		before, comment, hasComment := strings.Cut(line, "#")
		words := strings.Fields(before)
		if len(words) > 1 && words[0] == "127.0.1.1" {
			if own {
				continue
			}
			own = true
			line = "127.0.1.1\t" + renamed(words[1:], old, name)
			if !slices.Contains(strings.Fields(line)[1:], name) {
				line += " " + name
			}
		} else if len(words) > 1 && old != "" && old != "localhost" && slices.ContainsFunc(words[1:], func(w string) bool { return isHost(w, old) }) {
			line = words[0] + "\t" + renamed(words[1:], old, name)
		} else {
			hasComment = false
		}
		if hasComment {
			line += "\t#" + comment
		}
		out = append(out, line)
	}
	if len(text) == 0 {
		out = []string{"127.0.0.1\tlocalhost", "::1\tlocalhost ip6-localhost ip6-loopback"}
	}
	if !own {
		out = append(out, "127.0.1.1\t"+name)
	}
	f.write("etc/hosts", why, 0o644, lines(out))
	if mail, has := f.read("etc/mailname"); has && old != "" {
		f.write("etc/mailname", why, 0o644, []byte(renamed(strings.Fields(string(mail)), old, name)+"\n"))
	}
}

// isHost tells whether a word is a host name, or begins with it as in name.domain.
func isHost(word, host string) bool {
	first, _, _ := strings.Cut(word, ".")
	return strings.EqualFold(first, host)
}

// renamed replaces a host by another in a list of names.
func renamed(words []string, old, name string) string {
	for i, w := range words {
		if old != "" && isHost(w, old) {
			_, domain, has := strings.Cut(w, ".")
			words[i] = name
			if has {
				words[i] += "." + domain
			}
		}
	}
	return strings.Join(words, " ")
}

// setting sets KEY=value in a file of such lines; the value is quoted as the file needs it.
func (f *files) setting(name, key, value, why string) {
	text, _ := f.read(name)
	var out []string
	done := false
	for line := range strings.Lines(string(text)) {
		line = strings.TrimRight(line, "\n")
		if k, _, is := strings.Cut(line, "="); is && strings.TrimSpace(strings.TrimPrefix(k, "export ")) == key {
			if done {
				continue
			}
			line, done = key+"="+value, true
		}
		out = append(out, line)
	}
	if !done {
		out = append(out, key+"="+value)
	}
	f.write(name, why, 0o644, lines(out))
}

// quoted is a text for such a file and for a shell that reads it.
func quoted(text string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "`", "\\`", "$", `\$`).Replace(text) + `"`
}

func (f *files) timeZone(zone string) {
	const why = "time_zone"
	if f.has("usr/share/zoneinfo") && !f.has("usr/share/zoneinfo/"+zone) {
		f.remark("the system does not know the time zone %s (usr/share/zoneinfo), so it keeps its own", zone)
		return
	}
	f.link("etc/localtime", "../usr/share/zoneinfo/"+zone, why)
	if f.has("etc/timezone") {
		f.write("etc/timezone", why, 0o644, []byte(zone+"\n"))
	}
	if f.has("etc/sysconfig/clock") {
		f.setting("etc/sysconfig/clock", "TIMEZONE", quoted(zone), why)
	}
}

func (f *files) locale(locale string) {
	const why = "locale"
	if base, modifier, has := strings.Cut(locale, "@"); !strings.Contains(locale, ".") {
		locale = base + ".UTF-8"
		if has {
			locale += "@" + modifier
		}
	}
	if f.has("etc/default") && (f.has("etc/default/locale") || f.has("etc/debian_version")) {
		f.setting("etc/default/locale", "LANG", locale, why)
	}
	if f.has("etc/locale.conf") || !f.has("etc/default/locale") {
		f.setting("etc/locale.conf", "LANG", locale, why)
	}
	if text, has := f.read("etc/locale.gen"); has && f.hasAny("usr/sbin/locale-gen", "usr/bin/locale-gen") != "" {
		charset := "UTF-8"
		if _, c, has := strings.Cut(locale, "."); has {
			charset, _, _ = strings.Cut(c, "@")
		}
		wanted := locale + " " + charset
		out, done := []string{}, false
		for line := range strings.Lines(string(text)) {
			line = strings.TrimRight(line, "\n")
			if bare := strings.TrimSpace(strings.TrimLeft(line, "# ")); bare == wanted && !done {
				line, done = wanted, true
			}
			out = append(out, line)
		}
		if !done {
			out = append(out, wanted)
		}
		f.write("etc/locale.gen", why, 0o644, lines(out))
		f.plan.Runs = append(f.plan.Runs, []string{"locale-gen"})
	}
}

func (f *files) keyboard(keyboard string) {
	const why = "keyboard"
	layout, variant, _ := strings.Cut(strings.TrimSuffix(keyboard, ")"), "(")
	if f.has("etc/default") && (f.has("etc/default/keyboard") || f.has("etc/debian_version")) {
		f.setting("etc/default/keyboard", "XKBLAYOUT", quoted(layout), why)
		f.setting("etc/default/keyboard", "XKBVARIANT", quoted(variant), why)
		f.removeAll("etc/console-setup/cached_*", "the golden machine's keyboard")
	}
	if !f.has("etc/default/keyboard") || f.has("etc/vconsole.conf") {
		keymap := layout
		if variant != "" {
			keymap += "-" + variant
		}
		f.setting("etc/vconsole.conf", "KEYMAP", keymap, why)
		f.setting("etc/vconsole.conf", "XKBLAYOUT", layout, why)
		f.setting("etc/vconsole.conf", "XKBVARIANT", variant, why)
	}
	if f.has("etc/X11/xorg.conf.d") {
		f.write("etc/X11/xorg.conf.d/00-keyboard.conf", why, 0o644, fmt.Appendf(nil, "Section \"InputClass\"\n        Identifier \"system-keyboard\"\n        MatchIsKeyboard \"on\"\n        Option \"XkbLayout\" %q\n        Option \"XkbVariant\" %q\nEndSection\n", layout, variant))
	}
}

// wants is where units that start with the system are linked.
const wants = "etc/systemd/system/multi-user.target.wants"

// remoteAccess has the SSH server start with the system, or not.
func (f *files) remoteAccess(on bool) {
	const why = "remote_access"
	unit := f.hasAny("usr/lib/systemd/system/ssh.service", "usr/lib/systemd/system/sshd.service", "lib/systemd/system/ssh.service", "lib/systemd/system/sshd.service")
	if unit == "" {
		if on {
			f.remark("the system has no SSH server, so remote_access cannot be had")
		}
		return
	}
	name := wants + "/" + path.Base(unit)
	if on {
		f.folder(wants, why, 0o755, 0, 0)
		f.link(name, "/"+unit, why)
		return
	}
	f.remove(name, why)
	f.removeAll("etc/systemd/system/*.wants/ssh.socket", why)
	f.removeAll("etc/systemd/system/*.wants/sshd.socket", why)
	f.removeAll("etc/systemd/system/ssh*.service.requires/ssh*.socket", why)
}

func (f *files) proxy(proxy string) {
	const why = "proxy"
	for _, key := range []string{"http_proxy", "https_proxy", "HTTP_PROXY", "HTTPS_PROXY"} {
		f.setting("etc/environment", key, proxy, why)
	}
	switch {
	case f.has("etc/apt/apt.conf.d"):
		f.write("etc/apt/apt.conf.d/80jugate-proxy", why, 0o644, fmt.Appendf(nil, "Acquire::http::Proxy %q;\nAcquire::https::Proxy %q;\n", proxy, proxy))
	case f.has("etc/dnf/dnf.conf"):
		f.setting("etc/dnf/dnf.conf", "proxy", proxy, why)
	case f.has("etc/sysconfig/proxy"):
		f.setting("etc/sysconfig/proxy", "PROXY_ENABLED", `"yes"`, why)
		f.setting("etc/sysconfig/proxy", "HTTP_PROXY", quoted(proxy), why)
		f.setting("etc/sysconfig/proxy", "HTTPS_PROXY", quoted(proxy), why)
	}
}
