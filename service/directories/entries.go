package directories

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"jugate/core/fault"
	"jugate/ldaps"
	"jugate/records"
)

const (
	// groupsAtMost bounds the groups that somebody is in, with those that contain these.
	groupsAtMost = 5000
	// depthAtMost bounds how deep groups are nested.
	depthAtMost = 16
	// askedAtOnce is how many entries one search asks the groups of.
	askedAtOnce = 50
	pageSize    = 500
	// accountDisabled is ADS_UF_ACCOUNTDISABLE (MS-ADTS, 2.2.16).
	accountDisabled = 2
)

// searcher is a connection to a directory, signed in with the account that searches.
type searcher struct {
	conn *ldap.Conn
	at   ldaps.Directory
	row  *records.Directory
}

// open connects and signs in. The error is a fault.Conflict; join.ErrAway if the directory may answer later.
func (d *Directories) open(ctx context.Context, row *records.Directory, secret string) (*searcher, error) {
	s := &searcher{row: row, at: ldaps.Directory{Name: row.Name, Server: row.Server, Certificate: row.Certificate, Dial: d.Dial}}
	var err error
	if s.conn, _, err = s.at.Open(ctx); err != nil {
		return nil, err
	}
	if err := s.at.SignIn(s.conn, row.Account, secret); err != nil {
		s.conn.Close()
		return nil, err
	}
	return s, nil
}

// search finds entries; those of other directories, which are referred to, are not followed. A directory that finds
// more than so many is asked for no more.
func (s *searcher) search(base, filter string, most int, attributes ...string) ([]*ldap.Entry, error) {
	r := &ldap.SearchRequest{BaseDN: base, Scope: ldap.ScopeWholeSubtree, DerefAliases: ldap.NeverDerefAliases, SizeLimit: most, TimeLimit: int(ldaps.AnswersWithin.Seconds()), Filter: filter, Attributes: attributes}
	found, err := s.conn.SearchWithPaging(r, uint32(min(most, pageSize)))
	switch {
	case ldap.IsErrorWithCode(err, ldap.LDAPResultSizeLimitExceeded):
	case ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject):
		return nil, nil
	case err != nil:
		return nil, s.at.Failed(s.row.Account, "look below "+base, err)
	}
	return found.Entries, nil
}

// hasBase tells whether the account sees anything where people are.
func (s *searcher) hasBase() error {
	found, err := s.conn.Search(&ldap.SearchRequest{BaseDN: s.row.Base, Scope: ldap.ScopeBaseObject, SizeLimit: 1, TimeLimit: int(ldaps.AnswersWithin.Seconds()), Filter: "(objectClass=*)", Attributes: []string{"1.1"}})
	if ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject) || err == nil && len(found.Entries) == 0 {
		return fault.Conflict.Errorf("the directory of %s has no %s that %s can see", s.row.Name, s.row.Base, s.row.Account)
	}
	if err != nil {
		return s.at.Failed(s.row.Account, "look at "+s.row.Base, err)
	}
	return nil
}

// entry is a person in a directory.
type entry struct{ *ldap.Entry }

// name is with which they sign in.
func (e entry) name() string {
	for _, attribute := range []string{"sAMAccountName", "uid", "cn"} {
		if name := e.GetAttributeValue(attribute); name != "" {
			return name
		}
	}
	return ""
}

// subject is who this is, whatever its name and wherever it is moved: what the directory has as the entry's own number
// (RFC 4530, MS-ADTS 3.1.1.1.4), as a filter that finds it; or the distinguished name of a directory that has none.
func (e entry) subject() string {
	if id := e.GetAttributeValue("entryUUID"); id != "" {
		return "(entryUUID=" + ldap.EscapeFilter(id) + ")"
	}
	if id := e.GetRawAttributeValue("objectGUID"); len(id) > 0 {
		var filter strings.Builder
		for _, b := range id {
			fmt.Fprintf(&filter, "\\%02x", b) // RFC 4515, 3
		}
		return "(objectGUID=" + filter.String() + ")"
	}
	return e.DN
}

func (e entry) fullName() string {
	if name := e.GetAttributeValue("displayName"); name != "" {
		return name
	}
	return e.GetAttributeValue("cn")
}

func (e entry) disabled() bool {
	flags, _ := strconv.Atoi(e.GetAttributeValue("userAccountControl"))
	return flags&accountDisabled != 0
}

// isComputer tells a computer of a domain from a person, which it is as well there (MS-ADSC, 2.21). A filter cannot: what a
// directory without such a class says to that is neither yes nor no (RFC 4511, 4.5.1.7).
func isComputer(e *ldap.Entry) bool {
	return slices.ContainsFunc(e.GetAttributeValues("objectClass"), func(c string) bool { return strings.EqualFold(c, "computer") })
}

// namesakes is how many entries of one name are looked at.
const namesakes = 10

var personAttributes = []string{"entryUUID", "objectGUID", "objectClass", "cn", "displayName", "uid", "sAMAccountName", "userAccountControl"}

// person finds somebody by the name with which they sign in; nil if nobody has it. Two are a fault.Conflict.
func (s *searcher) person(name string) (*entry, error) {
	n := ldap.EscapeFilter(name) // RFC 4515, 3
	found, err := s.search(s.row.Base, "(&(objectClass=person)(|(uid="+n+")(sAMAccountName="+n+")(userPrincipalName="+n+")))", namesakes, personAttributes...)
	found = slices.DeleteFunc(found, isComputer)
	switch {
	case err != nil || len(found) == 0:
		return nil, err
	case len(found) > 1:
		return nil, fault.Conflict.Errorf("the directory of %s has two entries for %s: %s and %s", s.row.Name, name, found[0].DN, found[1].DN)
	}
	return &entry{found[0]}, nil
}

// bySubject finds somebody again; nil if they are not there any more.
func (s *searcher) bySubject(subject string) (*entry, error) {
	if !strings.HasPrefix(subject, "(") {
		return s.known(subject)
	}
	found, err := s.search(s.row.Base, subject, 1, personAttributes...)
	if err != nil || len(found) == 0 {
		return nil, err
	}
	return &entry{found[0]}, nil
}

// known finds an entry by its distinguished name; nil if it is not there any more.
func (s *searcher) known(dn string) (*entry, error) {
	found, err := s.conn.Search(&ldap.SearchRequest{BaseDN: dn, Scope: ldap.ScopeBaseObject, SizeLimit: 1, TimeLimit: int(ldaps.AnswersWithin.Seconds()), Filter: "(objectClass=*)", Attributes: personAttributes})
	switch {
	case ldap.IsErrorAnyOf(err, ldap.LDAPResultNoSuchObject, ldap.LDAPResultInvalidDNSyntax):
		return nil, nil
	case err != nil:
		return nil, s.at.Failed(s.row.Account, "look at "+dn, err)
	case len(found.Entries) == 0:
		return nil, nil
	}
	return &entry{found.Entries[0]}, nil
}

// hasGroup tells whether there is a group of that distinguished or common name.
func (s *searcher) hasGroup(name string) (bool, error) {
	if _, err := ldap.ParseDN(name); err == nil && strings.Contains(name, "=") {
		e, err := s.known(name)
		return e != nil, err
	}
	found, err := s.search(s.row.Base, "(&(cn="+ldap.EscapeFilter(name)+")(|(objectClass=group)(objectClass=groupOfNames)(objectClass=groupOfUniqueNames)(objectClass=posixGroup)))", 1, "1.1")
	return len(found) > 0, err
}

// group is one that somebody is in.
type group struct{ dn, cn string }

// groups are those that somebody is in, and those that contain these. Members of groups are not asked for: there may be
// ten thousand.
func (s *searcher) groups(e *entry) ([]group, error) {
	seen, all := map[string]bool{}, []group(nil)
	next := []string{e.DN}
	for depth := 0; len(next) > 0; depth++ {
		if depth == depthAtMost {
			return nil, fault.Conflict.Errorf("groups of %s in the directory of %s are nested deeper than %d", e.name(), s.row.Name, depthAtMost)
		}
		var found []string
		for len(next) > 0 {
			some := next[:min(len(next), askedAtOnce)]
			next = next[len(some):]
			var filter strings.Builder
			filter.WriteString("(|")
			for _, dn := range some {
				of := ldap.EscapeFilter(dn)
				filter.WriteString("(member=" + of + ")(uniqueMember=" + of + ")")
			}
			if uid := e.GetAttributeValue("uid"); depth == 0 && uid != "" {
				filter.WriteString("(memberUid=" + ldap.EscapeFilter(uid) + ")")
			}
			filter.WriteString(")")
			entries, err := s.search(s.row.Base, filter.String(), groupsAtMost, "cn")
			if err != nil {
				return nil, err
			}
			for _, g := range entries {
				key := strings.ToLower(g.DN)
				if seen[key] {
					continue
				}
				seen[key] = true
				all, found = append(all, group{g.DN, g.GetAttributeValue("cn")}), append(found, g.DN)
				if len(all) > groupsAtMost {
					return nil, fault.Conflict.Errorf("%s is in more than %d groups of the directory of %s", e.name(), groupsAtMost, s.row.Name)
				}
			}
		}
		next = found
	}
	return all, nil
}

// is tells whether a group is meant by a distinguished or a common name.
func (g group) is(name string) bool {
	if !strings.Contains(name, "=") {
		return strings.EqualFold(g.cn, name)
	}
	a, err := ldap.ParseDN(g.dn)
	b, err2 := ldap.ParseDN(name)
	return err == nil && err2 == nil && a.EqualFold(b)
}

// granted is what follows from groups.
func granted(grants []records.GroupGrant, groups []group) (all []records.Grant) {
	for _, g := range grants {
		for _, in := range groups {
			if in.is(g.Group) {
				all = append(all, records.Grant{Role: g.Role, Kind: g.Kind, Name: g.Name})
				break
			}
		}
	}
	return all
}
