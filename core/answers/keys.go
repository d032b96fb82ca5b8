package answers

import (
	"fmt"
	"maps"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"
	_ "time/tzdata" // zones are checked on machines that have none

	"golang.org/x/crypto/ssh"
	"golang.org/x/text/language"

	"jugate/core/fault"
	"jugate/core/hwaddr"
)

// Key is one thing that a workstation can be told.
type Key struct {
	Name    string
	Form    string // what a value looks like, in words
	Example string // as YAML
	Doc     string
	// Secret values are sealed where they are kept, and never shown.
	Secret bool
	// Cell tells that a table's cell can hold a value: it is one line of text.
	Cell bool

	check func(s *Settings) error
}

// trueOrFalse is the form of a value that is one of the two.
const trueOrFalse = "true or false"

// Keys are all of them, in the order of the reference.
var Keys = []Key{
	{Name: "computer_name", Form: "text", Example: "herb-01", Cell: true, Doc: "Name of the computer; the workstation's own name by default.",
		check: func(s *Settings) error { return checkComputerName(s.ComputerName) }},
	{Name: "description", Form: "text", Example: "Herbarium, by the window", Cell: true, Doc: "What people see as the computer's name.",
		check: func(s *Settings) error { return oneLine(s.Description, 200) }},
	{Name: "time_zone", Form: "IANA time zone", Example: "Europe/Vienna", Cell: true, Doc: "Time zone (tzdata).", check: checkTimeZone},
	{Name: "locale", Form: "language and territory", Example: "de_AT.UTF-8", Cell: true, Doc: "Language and territory, for texts, dates and numbers. UTF-8 is used if no character set is named.", check: checkLocale},
	{Name: "keyboard", Form: "XKB layout, or layout(variant)", Example: "de(nodeadkeys)", Cell: true, Doc: "Layout of the keyboard, on the console and in windows.",
		check: func(s *Settings) error {
			return matches(s.Keyboard, keyboardForm, "a keyboard layout such as at or de(nodeadkeys)")
		}},
	{Name: "registered_owner", Form: "text", Example: "Fennholt Botanic Garden", Cell: true, Doc: "The owner that Windows shows.", check: func(s *Settings) error { return oneLine(s.Owner, 200) }},
	{Name: "organisation", Form: "text", Example: "Fennholt Botanic Garden", Cell: true, Doc: "The owner's organisation, as Windows shows it.", check: func(s *Settings) error { return oneLine(s.Organisation, 200) }},
	{Name: "product_key", Form: "product key", Secret: true, Example: "AAAAA-BBBBB-CCCCC-DDDDD-EEEEE", Doc: "Product key of Windows.",
		check: func(s *Settings) error {
			return matchesSecret(s.ProductKey, productKeyForm, "five groups of five letters and digits")
		}},
	{Name: "accounts", Form: "list of accounts", Secret: true, Example: "- name: scan\n  full_name: Scanning desk\n  administrator: false\n  password_hash: $6$…\n  ssh_keys: [ssh-ed25519 AAAA… holm]\n  change_password: true",
		Doc: "Local accounts: name, full_name, administrator (may become root), password_hash (crypt(5)) or password, without which nobody can sign in by password, ssh_keys, and change_password (asks for another password at the first sign-in).", check: checkAccounts},
	{Name: "root_ssh_keys", Form: "list of texts", Example: "- ssh-ed25519 AAAA… holm", Doc: "SSH keys of root, in place of those of the golden machine.",
		check: func(s *Settings) error { return checkSSHKeys(s.RootSSHKeys) }},
	{Name: "remote_access", Form: trueOrFalse, Example: "true", Cell: true, Doc: "Whether people can work on it from afar: the SSH server of a Linux system, if it has one; remote desktop of Windows.", check: func(*Settings) error { return nil }},
	{Name: "network", Form: "list of connections", Example: "- hardware_address: 00:00:5e:00:53:11\n  addresses: [192.0.2.31/24]\n  gateway: 192.0.2.1\n  name_servers: [192.0.2.53]\n  search: [fennholt.example]",
		Doc: "Network settings by hardware address; without one, of the workstation's first card. A connection without addresses asks for them (DHCP).", check: checkNetwork},
	{Name: "domain", Form: "DNS name", Example: "fennholt.example", Cell: true, Doc: "Domain that the computer joins by itself, with no password but its own; `jugate domain add` has to know it. The name of the computer has at most 15 characters then.",
		check: checkDomain},
	{Name: "proxy", Form: "URL", Example: "http://192.0.2.8:3128", Cell: true, Doc: "Proxy for programs and for packages.", check: checkProxy},
	{Name: "network_profile", Form: "private or public", Example: "private", Cell: true, Doc: "How far others on the network are trusted: in Windows the kind of network, in Linux the default zone of firewalld (work or public).",
		check: func(s *Settings) error { return oneOf(s.NetProfile, "private", "public") }},
	{Name: "programs", Form: "list of programs", Example: "- name: Scanner\n  command: /opt/scanner/bin/scanner --desk", Doc: "Programs that open when somebody signs in: name and command.", check: checkPrograms},
	{Name: "packages", Form: "list of names", Example: "- scanner-tools", Doc: "Packages that the system's own package manager installs at the first start of a Linux system, from where it gets its packages.", check: checkPackages},
	{Name: "skip_pages", Form: "list of licence, registration, account, network and privacy", Example: "- licence\n- account", Doc: "Pages of the first-start dialogue of Windows that are not shown; all of them by default.",
		check: func(s *Settings) error {
			for _, p := range s.SkipPages {
				if err := oneOf(p, slices.Sorted(maps.Keys(firstStartPages))...); err != nil {
					return err
				}
			}
			return nil
		}},
	{Name: "payloads", Form: "list of payloads", Example: "- name: scanner-tools_2.1_amd64.deb\n  install: true\n- name: herbarium-wallpaper.png\n  path: /usr/share/backgrounds/herbarium.png",
		Doc: "Files of the library (`jugate payload`) that are brought onto the system: name, path (by default /var/lib/jugate/payloads, or \\Jugate\\Payloads of Windows), and install, which has a package (.deb, .rpm, .msi) installed at the first start.", check: checkPayloads},
	{Name: "helper", Form: trueOrFalse, Example: "true", Cell: true, Doc: "Whether the unit that reports the arrival of a Linux system stays as a small helper, with a key of its own, which restarts it into the boot environment or switches it off when the service says so (`jugate workstation restart`, orders), and takes no other command.",
		check: func(*Settings) error { return nil }},
	{Name: "files", Form: "list of files", Example: "- path: /etc/motd\n  content: |\n    Herbarium scanning room\n  mode: \"0644\"", Doc: "Files that are written: path, content and mode (0644 by default).", check: checkFiles},
	{Name: "commands", Form: "list of shell commands", Example: "- systemctl enable --now scanner.service", Doc: "Commands that root runs once, when the system starts for the first time and has a network.",
		check: func(s *Settings) error { return checkCommands(s.Commands) }},
}

// Find returns a key by its name; nil if there is none.
func Find(name string) *Key {
	if i := slices.IndexFunc(Keys, func(k Key) bool { return k.Name == name }); i >= 0 {
		return &Keys[i]
	}
	return nil
}

// Limits of values.
const (
	maxValue    = 64 << 10 // bytes of JSON
	maxItems    = 200
	maxCommand  = 4000
	maxSSHKey   = 2000
	maxFile     = 32 << 10
	maxComputer = 63 // RFC 1035, 2.3.4
)

var (
	computerForm   = regexp.MustCompile(`^[A-Za-z0-9]([A-Za-z0-9-]*[A-Za-z0-9])?$`) // RFC 1123, 2.1
	accountForm    = regexp.MustCompile(`^[a-z_][a-z0-9_-]{0,30}$`)                 // useradd(8)
	keyboardForm   = regexp.MustCompile(`^[a-z]{2,8}(\([a-z0-9_-]{1,40}\))?$`)
	localeForm     = regexp.MustCompile(`^([a-z]{2,3})(_[A-Z]{2})?(\.[A-Za-z0-9-]+)?(@[a-z]+)?$`)
	hashForm       = regexp.MustCompile(`^\$(1|5|6|y|gy|7|2[aby])\$[./A-Za-z0-9$=,+-]{10,300}$`) // crypt(5)
	domainForm     = regexp.MustCompile(`^([A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?\.)*[A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?$`)
	productKeyForm = regexp.MustCompile(`^[A-Z0-9]{5}(-[A-Z0-9]{5}){4}$`)
	modeForm       = regexp.MustCompile(`^0?[0-7]{3}$`)
)

func matches(text string, form *regexp.Regexp, what string) error {
	if !form.MatchString(text) {
		return fault.Invalid.Errorf("%q is not %s", clipped(text), what)
	}
	return nil
}

// matchesSecret is matches, and repeats nothing of the text.
func matchesSecret(text string, form *regexp.Regexp, what string) error {
	if !form.MatchString(text) {
		return fault.Invalid.Errorf("it is not %s", what)
	}
	return nil
}

func clipped(text string) string { return text[:min(len(text), 60)] }

func oneLine(text string, most int) error {
	if len(text) > most || strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r == 0x7f }) {
		return fault.Invalid.Errorf("%q is longer than %d bytes, or more than one line", clipped(text), most)
	}
	return nil
}

func checkComputerName(name string) error {
	if len(name) > maxComputer || !computerForm.MatchString(name) {
		return fault.Invalid.Errorf("%q cannot be the name of a computer: use 1 to %d letters, digits and hyphens, with no hyphen at the ends (RFC 1123)", clipped(name), maxComputer)
	}
	return nil
}

func checkTimeZone(s *Settings) error {
	if _, err := time.LoadLocation(s.TimeZone); err != nil || s.TimeZone == "" || s.TimeZone == "Local" {
		return fault.Invalid.Errorf("%q is not a time zone of the IANA list, such as Europe/Vienna", clipped(s.TimeZone))
	}
	return nil
}

func checkLocale(s *Settings) error {
	m := localeForm.FindStringSubmatch(s.Locale)
	if m == nil {
		return fault.Invalid.Errorf("%q is not a locale such as de_AT.UTF-8", clipped(s.Locale))
	}
	if _, err := language.Parse(strings.ReplaceAll(m[1]+m[2], "_", "-")); err != nil {
		return fault.Invalid.Errorf("%q: %w", s.Locale, err)
	}
	return nil
}

func checkAccounts(s *Settings) error {
	for i, a := range s.Accounts {
		err := matches(a.Name, accountForm, "the name of an account: small letters, digits, '-' and '_', at most 31")
		switch {
		case err != nil:
			return err
		case a.Name == "root":
			return fault.Invalid.Errorf("root is there already; root_ssh_keys are its keys")
		case slices.ContainsFunc(s.Accounts[:i], func(b Account) bool { return b.Name == a.Name }):
			return fault.Invalid.Errorf("the account %s is there twice", a.Name)
		case a.PasswordHash != "" && !hashForm.MatchString(a.PasswordHash):
			return fault.Invalid.Errorf("the password_hash of %s is not one of crypt(5), as mkpasswd makes it", a.Name)
		case a.PasswordHash != "" && a.Password != "":
			return fault.Invalid.Errorf("%s has a password and a password_hash; one is enough", a.Name)
		case len(a.Password) > 127 || strings.ContainsFunc(a.Password, func(r rune) bool { return r < ' ' }):
			return fault.Invalid.Errorf("the password of %s is too long, or has control characters", a.Name)
		case a.PasswordHash == "" && a.Password == "" && len(a.SSHKeys) == 0:
			return fault.Invalid.Errorf("nobody could sign in as %s: it has neither a password_hash, a password nor ssh_keys", a.Name)
		case a.PasswordHash == "" && a.Password == "" && a.ChangePassword:
			return fault.Invalid.Errorf("%s has no password that could be changed at the first sign-in", a.Name)
		case strings.ContainsAny(a.FullName, ":,"):
			return fault.Invalid.Errorf("the full name of %s has a colon or a comma, which passwd(5) cannot keep", a.Name)
		}
		if err := oneLine(a.FullName, 100); err != nil {
			return err
		}
		if err := checkSSHKeys(a.SSHKeys); err != nil {
			return fmt.Errorf("account %s: %w", a.Name, err)
		}
	}
	return nil
}

func checkSSHKeys(keys []string) error {
	for _, k := range keys {
		_, comment, options, rest, err := ssh.ParseAuthorizedKey([]byte(k))
		if err != nil || len(options) > 0 || len(rest) > 0 || oneLine(k, maxSSHKey) != nil || oneLine(comment, 100) != nil {
			return fault.Invalid.Errorf("%q is not an SSH public key, such as ssh-ed25519 AAAA… name", clipped(k))
		}
	}
	return nil
}

func checkNetwork(s *Settings) error {
	for i := range s.Network {
		c := &s.Network[i]
		if c.HardwareAddress != "" {
			a, err := hwaddr.Parse(c.HardwareAddress)
			if err != nil {
				return err
			}
			c.HardwareAddress = a.String()
		}
		if slices.ContainsFunc(s.Network[:i], func(b Connection) bool { return b.HardwareAddress == c.HardwareAddress }) {
			return fault.Invalid.Errorf("two connections are for the same card (%s)", orFirst(c.HardwareAddress))
		}
		for _, text := range c.Addresses {
			if p, err := netip.ParsePrefix(text); err != nil || p.Bits() == 0 {
				return fault.Invalid.Errorf("%q is not an address with its prefix, such as 192.0.2.31/24", clipped(text))
			}
		}
		for _, text := range append(slices.Clone(c.NameServers), c.Gateway) {
			if _, err := netip.ParseAddr(text); text != "" && err != nil {
				return fault.Invalid.Errorf("%q is not an IP address", clipped(text))
			}
		}
		if c.Gateway != "" && !slices.ContainsFunc(c.Addresses, func(text string) bool {
			return netip.MustParsePrefix(text).Masked().Contains(netip.MustParseAddr(c.Gateway))
		}) {
			return fault.Invalid.Errorf("the gateway %s is in none of the subnets of %s", c.Gateway, strings.Join(c.Addresses, ", "))
		}
		for _, d := range c.Search {
			if err := matches(d, domainForm, "a domain"); err != nil {
				return err
			}
		}
	}
	return nil
}

func checkDomain(s *Settings) error {
	s.Domain = strings.ToLower(strings.TrimSuffix(s.Domain, "."))
	if !strings.Contains(s.Domain, ".") {
		return fault.Invalid.Errorf("%q is not the DNS name of a domain, such as fennholt.example", clipped(s.Domain))
	}
	return matches(s.Domain, domainForm, "the DNS name of a domain, such as fennholt.example")
}

func orFirst(address string) string {
	if address == "" {
		return "the first card"
	}
	return address
}

func checkProxy(s *Settings) error {
	u, err := url.Parse(s.Proxy)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.User != nil || strings.ContainsAny(s.Proxy, "\"'\n ") {
		return fault.Invalid.Errorf("%q is not the URL of a proxy, such as http://192.0.2.8:3128 (without a password, which everybody could read)", clipped(s.Proxy))
	}
	return nil
}

// checkPath refuses what is not the clean path of a file from the root.
func checkPath(path string) error {
	clean := strings.HasPrefix(path, "/") && !strings.HasSuffix(path, "/") && !strings.Contains(path, "//") && !strings.ContainsAny(path, "\x00\n\\\"")
	for part := range strings.SplitSeq(path, "/") {
		clean = clean && part != "." && part != ".."
	}
	if !clean || len(path) > 500 {
		return fault.Invalid.Errorf("%q is not the path of a file: write it from the root, as in /etc/motd", clipped(path))
	}
	return nil
}

var payloadForm = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._+~-]{0,119}$`)

// CheckPayloadName refuses what cannot be the name of a payload.
func CheckPayloadName(name string) error {
	return matches(name, payloadForm, "the name of a payload: letters, digits and any of . _ + ~ -, at most 120, as names of packages have them")
}

func checkPayloads(s *Settings) error {
	for i, p := range s.Payloads {
		if err := CheckPayloadName(p.Name); err != nil {
			return err
		}
		if p.Path != "" {
			if err := checkPath(p.Path); err != nil {
				return err
			}
		}
		if slices.ContainsFunc(s.Payloads[:i], func(b Payload) bool { return b.Path == p.Path && (p.Path != "" || strings.EqualFold(b.Name, p.Name)) }) {
			return fault.Invalid.Errorf("two payloads would have the same place (%s)", p.Name)
		}
	}
	return nil
}

func checkFiles(s *Settings) error {
	for i := range s.Files {
		f := &s.Files[i]
		if err := checkPath(f.Path); err != nil {
			return err
		}
		switch {
		case len(f.Content) > maxFile:
			return fault.Invalid.Errorf("%s is larger than %d KiB", f.Path, maxFile>>10)
		case f.Mode != "" && !modeForm.MatchString(f.Mode):
			return fault.Invalid.Errorf("%q is not a mode such as 0644", clipped(f.Mode))
		}
	}
	return nil
}

func oneOf(text string, words ...string) error {
	if !slices.Contains(words, text) {
		return fault.Invalid.Errorf("%q is none of %s", clipped(text), strings.Join(words, ", "))
	}
	return nil
}

var (
	programForm = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9 ._-]{0,60}$`)
	packageForm = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9.+_:=~-]{0,200}$`) // with a version, as package managers take it
)

func checkPrograms(s *Settings) error {
	for i, p := range s.Programs {
		if err := matches(p.Name, programForm, "the name of a program: letters, digits, spaces, '.', '_' and '-'"); err != nil {
			return err
		}
		if slices.ContainsFunc(s.Programs[:i], func(b Program) bool { return strings.EqualFold(b.Name, p.Name) }) {
			return fault.Invalid.Errorf("the program %s is there twice", p.Name)
		}
		if err := checkCommands([]string{p.Command}); err != nil {
			return err
		}
	}
	return nil
}

func checkPackages(s *Settings) error {
	for _, p := range s.Packages {
		if err := matches(p, packageForm, "the name of a package"); err != nil {
			return err
		}
	}
	return nil
}

func checkCommands(commands []string) error {
	for _, c := range commands {
		if len(c) > maxCommand || strings.ContainsAny(c, "\x00\n\r") || strings.TrimSpace(c) == "" {
			return fault.Invalid.Errorf("%q is empty, too long, or more than one line; a file can have a script", clipped(c))
		}
	}
	return nil
}
