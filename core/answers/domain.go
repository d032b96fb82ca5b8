package answers

import (
	"fmt"
	"strings"
)

// Joined is what a system belongs to a domain by.
type Joined struct {
	Domain string `json:"domain"`           // DNS name
	Host   string `json:"host"`             // DNS name of the computer
	Keytab []byte `json:"keytab,omitempty"` // for a Linux system (krb5.keytab)
	Blob   string `json:"blob,omitempty"`   // for a Windows, base64 (core/join)
}

// Realm is the Kerberos realm of the domain.
func (j *Joined) Realm() string { return strings.ToUpper(j.Domain) }

// notJoined is the remark on a copy that was to join a domain which did not answer.
func notJoined(domain string) string {
	return "it is not in " + domain + ", whose controller did not answer when the copy was made"
}

const sssdConfig = "etc/sssd/sssd.conf"

// join has the system be a member of a domain from its first start on: with the computer's keys
// and, if it has SSSD (sssd-ad(5)), with the domain's people.
func (f *files) join(j *Joined) {
	const why = "domain"
	f.write("etc/krb5.keytab", why, 0o600, j.Keytab).Secret = true
	f.write("etc/krb5.conf", why, 0o644, fmt.Appendf(nil, "[libdefaults]\n\tdefault_realm = %s\n\tdns_lookup_kdc = true\n\trdns = false\n", j.Realm()))
	short, _, _ := strings.Cut(j.Host, ".")
	if text, has := f.read("etc/hosts"); has { // names of services have the whole name
		f.write("etc/hosts", why, 0o644, withWholeName(string(text), short, j.Host))
	}
	unit := f.hasAny("usr/lib/systemd/system/sssd.service", "lib/systemd/system/sssd.service")
	if unit == "" {
		f.remark("the computer is a member of %s, but the system has no SSSD, so nobody of the domain can sign in", j.Domain)
		return
	}
	f.folder("etc/sssd", why, 0o711, 0, 0)
	f.write(sssdConfig, why, 0o600, fmt.Appendf(nil, `[sssd]
config_file_version = 2
services = nss, pam
domains = %[1]s

[domain/%[1]s]
id_provider = ad
access_provider = ad
ad_domain = %[1]s
ad_hostname = %[3]s
krb5_realm = %[2]s
ldap_sasl_authid = %[4]s$@%[2]s
cache_credentials = true
use_fully_qualified_names = false
fallback_homedir = /home/%%u
default_shell = /bin/bash
`, j.Domain, j.Realm(), j.Host, strings.ToUpper(short)))
	f.removeAll("var/lib/sss/db/*.ldb", "the golden machine's place in its domain")
	f.folder(wants, why, 0o755, 0, 0)
	f.link(wants+"/sssd.service", "/"+unit, why)
}

// withWholeName puts the whole name before the short one in hosts(5).
func withWholeName(text, short, whole string) []byte {
	var out []string
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\n")
		words := strings.Fields(line)
		for i, w := range words {
			if strings.HasPrefix(w, "#") {
				break
			}
			if i > 0 && strings.EqualFold(w, short) && !strings.EqualFold(words[1], whole) {
				line = strings.Replace(line, w, whole+" "+w, 1)
				break
			}
		}
		out = append(out, line)
	}
	return lines(out)
}
