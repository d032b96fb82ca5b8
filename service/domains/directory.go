package domains

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/google/uuid"
	"golang.org/x/text/encoding/unicode"

	"jugate/core/fault"
	"jugate/core/join"
	"jugate/ldaps"
	"jugate/records"
)

const (
	// clocksWithin is how far clocks may be apart before Kerberos refuses (RFC 4120, 1.6).
	clocksWithin = 5 * time.Minute
	// workstationAccount is the kind of a computer's account (MS-SAMR 2.2.1.12, as
	// userAccountControl has it: ADS_UF_WORKSTATION_TRUST_ACCOUNT).
	workstationAccount = "4096"
)

// directory is a connection to a domain controller, signed in.
type directory struct {
	join.Domain
	conn  *ldap.Conn
	row   *records.Domain
	base  string        // of the domain
	ahead time.Duration // its clock
}

// baseOf is the distinguished name of a domain (RFC 2247).
func baseOf(domain string) string { return "DC=" + strings.ReplaceAll(domain, ".", ",DC=") }

// domainOf is the DNS name of a distinguished name.
func domainOf(dn string) string {
	parsed, err := ldap.ParseDN(dn)
	if err != nil {
		return ""
	}
	var labels []string
	for _, rdn := range parsed.RDNs {
		if a := rdn.Attributes[0]; strings.EqualFold(a.Type, "DC") {
			labels = append(labels, strings.ToLower(a.Value))
		}
	}
	return strings.Join(labels, ".")
}

// open signs in at a domain's directory, and looks whether the account can create computers.
// The error is a fault.Conflict, or join.ErrAway.
func (d *Domains) open(ctx context.Context, row *records.Domain, password string) (_ *directory, err error) {
	at := ldaps.Directory{Name: row.Name, Server: row.Server, Certificate: row.Certificate, Dial: d.Dial}
	conn, from, err := at.Open(ctx)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			conn.Close()
		}
	}()
	if err := at.SignIn(conn, row.Account, password); err != nil {
		return nil, err
	}
	dir := &directory{conn: conn, row: row, base: baseOf(row.Name), Domain: join.Domain{DNS: row.Name, Address: from}}
	if err := dir.learn(d.Now()); err != nil {
		return nil, err
	}
	return dir, dir.mayCreate()
}

// asked says what could not be done in a directory.
func asked(row *records.Domain, what string, err error) error {
	return ldaps.Directory{Name: row.Name}.Failed(row.Account, what, err)
}

// entry reads one entry; nil if it is not there.
func (d *directory) entry(dn, filter string, scope int, attributes ...string) (*ldap.Entry, error) {
	found, err := d.conn.Search(&ldap.SearchRequest{BaseDN: dn, Scope: scope, DerefAliases: ldap.NeverDerefAliases, SizeLimit: 2, TimeLimit: int(ldaps.AnswersWithin.Seconds()), Filter: filter, Attributes: attributes})
	switch {
	case ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject):
		return nil, nil
	case err != nil:
		return nil, asked(d.row, "look for "+dn, err)
	}
	for _, e := range found.Entries {
		return e, nil
	}
	return nil, nil
}

const any = "(objectClass=*)"

// learn reads what members have to know of the domain (MS-ADTS, 3.1.1.3.2).
func (d *directory) learn(now time.Time) error {
	root, err := d.entry("", any, ldap.ScopeBaseObject, "defaultNamingContext", "rootDomainNamingContext", "configurationNamingContext", "dnsHostName", "serverName", "currentTime")
	if err != nil {
		return err
	}
	if root == nil || !strings.EqualFold(root.GetAttributeValue("defaultNamingContext"), d.base) {
		is := ""
		if root != nil {
			is = domainOf(root.GetAttributeValue("defaultNamingContext"))
		}
		return fault.Conflict.Errorf("%s is not a domain controller of %s, but of %q", d.row.Server, d.row.Name, is)
	}
	if t, err := time.Parse("20060102150405.0Z", root.GetAttributeValue("currentTime")); err == nil {
		if d.ahead = t.Sub(now); d.ahead.Abs() > clocksWithin {
			return fault.Conflict.Errorf("the clock of the domain controller (%s) and that of this service (%s) are %s apart, and Kerberos takes %s at most: set them right",
				t.UTC().Format(time.RFC3339), now.UTC().Format(time.RFC3339), d.ahead.Abs().Round(time.Second), clocksWithin)
		}
	}
	d.Forest, d.Controller = domainOf(root.GetAttributeValue("rootDomainNamingContext")), root.GetAttributeValue("dnsHostName")
	if server, err := ldap.ParseDN(root.GetAttributeValue("serverName")); err == nil && len(server.RDNs) > 2 {
		d.Site = server.RDNs[2].Attributes[0].Value // CN=dc1,CN=Servers,CN=the site,CN=Sites,…
	}
	domain, err := d.entry(d.base, any, ldap.ScopeBaseObject, "objectGUID", "objectSid")
	if err != nil {
		return err
	}
	partition, err := d.entry("CN=Partitions,"+root.GetAttributeValue("configurationNamingContext"), "(&(objectClass=crossRef)(nCName="+ldap.EscapeFilter(d.base)+"))", ldap.ScopeSingleLevel, "nETBIOSName")
	if err != nil {
		return err
	}
	if domain == nil || partition == nil {
		return fault.Conflict.Errorf("the directory of %s does not show %s what the domain is called", d.row.Name, d.row.Account)
	}
	d.Short = partition.GetAttributeValue("nETBIOSName")
	if d.SID, err = join.ParseSID(domain.GetRawAttributeValue("objectSid")); err != nil {
		return fault.Conflict.Mark(err)
	}
	d.GUID, err = guidOf(domain.GetRawAttributeValue("objectGUID"))
	return err
}

// guidOf reads a GUID as a directory has it: its first three numbers are little-endian (MS-DTYP,
// 2.3.4.2).
func guidOf(b []byte) (id uuid.UUID, err error) {
	if len(b) != len(id) {
		return id, fault.Conflict.Errorf("a GUID of the directory has %d bytes", len(b))
	}
	copy(id[:], b)
	binary.BigEndian.PutUint32(id[0:], binary.LittleEndian.Uint32(b[0:]))
	binary.BigEndian.PutUint16(id[4:], binary.LittleEndian.Uint16(b[4:]))
	binary.BigEndian.PutUint16(id[6:], binary.LittleEndian.Uint16(b[6:]))
	return id, nil
}

// mayCreate tells whether the account can create computers in the unit (MS-ADTS, 3.1.1.4.5.16).
func (d *directory) mayCreate() error {
	unit, err := d.entry(d.row.Unit, any, ldap.ScopeBaseObject, "allowedChildClassesEffective")
	switch {
	case err != nil:
		return err
	case unit == nil:
		return fault.Conflict.Errorf("the directory of %s has no unit %s that %s can see", d.row.Name, d.row.Unit, d.row.Account)
	}
	for _, class := range unit.GetAttributeValues("allowedChildClassesEffective") {
		if strings.EqualFold(class, "computer") {
			return nil
		}
	}
	return fault.Conflict.Errorf("the account %s lacks the right to create computers in %s", d.row.Account, d.row.Unit)
}

// computer finds the account of a computer; nil if there is none. One that is not in the unit,
// or is something else, is a fault.Conflict.
func (d *directory) computer(name string) (*ldap.Entry, error) {
	if len(name) > join.MaxName {
		return nil, fault.Conflict.Errorf("%s is longer than the %d characters that the name of a computer in a domain can have; set computer_name", name, join.MaxName)
	}
	e, err := d.entry(d.base, "(sAMAccountName="+ldap.EscapeFilter(strings.ToUpper(name))+"$)", ldap.ScopeWholeSubtree, "objectClass")
	if err != nil {
		return nil, err
	}
	if e == nil {
		if e, err = d.entry(d.dn(name), any, ldap.ScopeBaseObject, "objectClass"); err != nil || e == nil {
			return nil, err
		}
		return nil, fault.Conflict.Errorf("the directory has something else called %s, where its computer would be", e.DN)
	}
	at, err := ldap.ParseDN(e.DN)
	unit, err2 := ldap.ParseDN(d.row.Unit)
	if err := errors.Join(err, err2); err != nil {
		return nil, err
	}
	if !unit.AncestorOfFold(at) {
		return nil, fault.Conflict.Errorf("%s has a computer of this name already, outside the unit: %s; remove or move it, or set computer_name", d.row.Name, e.DN)
	}
	return e, nil
}

// dn is the distinguished name of a new computer.
func (d *directory) dn(name string) string {
	return "CN=" + ldap.EscapeDN(strings.ToUpper(name)) + "," + d.row.Unit
}

// join creates a computer, or gives the one that is there another password.
func (d *directory) join(name string) (_ *join.Member, created bool, err error) {
	e, err := d.computer(name)
	if err != nil {
		return nil, false, err
	}
	m := &join.Member{Name: strings.ToUpper(name), Password: join.NewPassword(), Domain: d.Domain}
	// MS-ADTS, 3.1.1.3.1.5.1: the password in quotes, as UTF-16.
	quoted, err := unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM).NewEncoder().String(`"` + m.Password + `"`)
	if err != nil {
		return nil, false, err
	}
	dn := d.dn(name)
	if e == nil {
		add := ldap.NewAddRequest(dn, nil)
		add.Attribute("objectClass", []string{"computer"})
		add.Attribute("sAMAccountName", []string{m.Name + "$"})
		add.Attribute("userAccountControl", []string{workstationAccount})
		add.Attribute("dNSHostName", []string{m.Host()})
		add.Attribute("servicePrincipalName", m.Services())
		add.Attribute("unicodePwd", []string{quoted})
		err, created = d.conn.Add(add), true
	} else {
		dn = e.DN
		change := ldap.NewModifyRequest(dn, nil)
		change.Replace("unicodePwd", []string{quoted})
		change.Replace("userAccountControl", []string{workstationAccount})
		change.Replace("dNSHostName", []string{m.Host()})
		change.Replace("servicePrincipalName", m.Services())
		err = d.conn.Modify(change)
	}
	if err != nil {
		return nil, false, asked(d.row, "write the computer "+dn, err)
	}
	e, err = d.entry(dn, any, ldap.ScopeBaseObject, "msDS-KeyVersionNumber", "objectSid")
	if err != nil || e == nil {
		return nil, false, errors.Join(err, fault.Conflict.Errorf("%s cannot be read after it was written", dn))
	}
	if m.SID, err = join.ParseSID(e.GetRawAttributeValue("objectSid")); err != nil {
		return nil, false, fault.Conflict.Errorf("%s: %w", dn, err)
	}
	if _, err := fmt.Sscan(e.GetAttributeValue("msDS-KeyVersionNumber"), &m.KeyVersion); err != nil {
		return nil, false, fault.Conflict.Errorf("the directory does not tell the version of the password of %s", dn)
	}
	return m, created, nil
}
