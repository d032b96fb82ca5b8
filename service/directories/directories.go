// Package directories knows the directories that people come from: by LDAP, where a name and a password are shown to the
// directory, or by OpenID Connect, where the console sends people to a provider. What somebody may do here follows from
// their groups there, nested ones as well.
//
// directories.go enters and checks directories, states.go remembers how they were when they were asked last, people.go signs people in, and entries.go asks LDAP. The HTTP of OpenID
// Connect is in package web.
package directories

import (
	"context"
	"log/slog"
	"net"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-ldap/ldap/v3"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/core/rights"
	"jugate/core/roster"
	"jugate/ldaps"
	"jugate/records"
)

// Secrets seals what must not be read in the records.
type Secrets interface {
	Seal(about, text string) (string, error)
	Unseal(about, text string) (string, error)
}

// Directories knows the directories of a service.
type Directories struct {
	Records *records.DB
	Secrets Secrets
	Log     *slog.Logger
	Now     func() time.Time
	// Dial reaches a directory; nil does it as usual.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
	// Discover finds out whether an OpenID provider answers. Package web does that.
	Discover func(ctx context.Context, issuer, certificate string) error

	mu    sync.Mutex // held for memory only
	asked map[string]asked
}

// The kinds of directories.
const (
	LDAP   = "ldap"
	OpenID = "openid"
)

// about is what a secret is sealed for.
func about(directory string) string { return "directory " + strings.ToLower(directory) }

// Add enters a directory, or enters it anew, if it answers, takes the account, and has the groups.
func (d *Directories) Add(ctx context.Context, in api.NewDirectory) (api.DirectoryCheck, error) {
	row, grants, err := d.read(in)
	if err != nil {
		return api.DirectoryCheck{}, err
	}
	check, err := d.look(ctx, row, in.Password, grants, "")
	if err != nil {
		return check, err
	}
	for _, g := range check.Groups {
		if !g.Found {
			return check, fault.Conflict.Errorf("the directory of %s has no group %s that %s can see", row.Name, g.Group, row.Account)
		}
	}
	if row.Secret, err = d.Secrets.Seal(about(row.Name), in.Password); err != nil {
		return check, err
	}
	d.Log.Info("directory added", "directory", row.Name, "server", row.Server, "account", row.Account, "by", actor.From(ctx))
	return check, d.Records.PutDirectory(ctx, *row, grants)
}

// read reads what is to be entered.
func (d *Directories) read(in api.NewDirectory) (*records.Directory, []records.GroupGrant, error) {
	if err := roster.CheckName("a directory", in.Name); err != nil {
		return nil, nil, err
	}
	row := &records.Directory{Name: in.Name, Kind: LDAP, Server: in.Server, Account: in.Account, Base: in.Base, Certificate: in.Certificate, Added: d.Now()}
	switch u, err := url.Parse(in.Server); { // a provider on this very machine needs no TLS
	case err == nil && u.Scheme == "https" && u.Host != "" || err == nil && u.Scheme == "http" && u.Hostname() == "127.0.0.1":
		row.Kind = OpenID
	default:
		if err := ldaps.CheckServer(in.Server, "dc1.fennholt.example, or the https address of an OpenID provider"); err != nil {
			return nil, nil, err
		}
		if _, err := ldap.ParseDN(in.Base); err != nil || in.Base == "" {
			return nil, nil, fault.Invalid.Errorf("%q is not a distinguished name below which people are, such as DC=fennholt,DC=example", in.Base)
		}
	}
	if len(in.Roles) == 0 {
		return nil, nil, fault.Invalid.Errorf("say what groups of the directory are granted here: nobody could sign in otherwise")
	}
	var grants []records.GroupGrant
	for _, r := range in.Roles {
		kind, name, _ := strings.Cut(r.On, ":")
		switch {
		case r.On == "" || r.On == string(rights.Everything):
			kind, name = string(rights.Everything), ""
		case kind != string(rights.OfGroup) && kind != string(rights.OfImage) || name == "":
			return nil, nil, fault.Invalid.Errorf("%q is nothing that a role can be for: say everything, group:NAME or image:NAME", r.On)
		}
		grants = append(grants, records.GroupGrant{Group: r.Group, Role: r.Role, Kind: kind, Name: name})
	}
	return row, grants, nil
}

// List lists the directories.
func (d *Directories) List(ctx context.Context) ([]api.Directory, error) {
	rows, err := d.Records.Directories(ctx)
	all := make([]api.Directory, len(rows))
	for i, r := range rows {
		grants, err := r.Grants()
		if err != nil {
			return nil, err
		}
		all[i] = api.Directory{Name: r.Name, Kind: r.Kind, Server: r.Server, Account: r.Account, Base: r.Base, Roles: rolesOf(grants), Added: r.Added}
		d.mu.Lock()
		how, known := d.asked[strings.ToLower(r.Name)]
		d.mu.Unlock()
		if known {
			all[i].Asked, all[i].Trouble = &how.at, how.trouble
		}
	}
	return all, err
}

func rolesOf(grants []records.GroupGrant) []api.GroupRole {
	out := []api.GroupRole{}
	for _, g := range grants {
		out = append(out, api.GroupRole{Group: g.Group, Role: g.Role, On: rights.Scope{Kind: rights.Kind(g.Kind), Name: g.Name}.String()})
	}
	return out
}

// Remove forgets a directory and the people who came from it.
func (d *Directories) Remove(ctx context.Context, name string) error {
	return d.Records.RemoveDirectory(ctx, name)
}

// Check asks a directory whether people can sign in; as is somebody of whom it is told what they may do here.
func (d *Directories) Check(ctx context.Context, name, as string) (api.DirectoryCheck, error) {
	row, err := d.Records.Directory(ctx, name)
	if err != nil {
		return api.DirectoryCheck{}, err
	}
	secret, err := d.Secret(row)
	if err != nil {
		return api.DirectoryCheck{}, err
	}
	grants, err := row.Grants()
	if err != nil {
		return api.DirectoryCheck{}, err
	}
	return d.look(ctx, row, secret, grants, as)
}

// Secret is the password of a directory's account, or a client's secret.
func (d *Directories) Secret(row *records.Directory) (string, error) {
	return d.Secrets.Unseal(about(row.Name), row.Secret)
}

// look asks a directory all that signing in needs.
func (d *Directories) look(ctx context.Context, row *records.Directory, secret string, grants []records.GroupGrant, as string) (api.DirectoryCheck, error) {
	check := api.DirectoryCheck{Name: row.Name, Kind: row.Kind, Server: row.Server, Groups: []api.CheckedGroup{}}
	if row.Kind == OpenID {
		if as != "" {
			return check, fault.Invalid.Errorf("a provider tells the groups of somebody when they sign in, and not before")
		}
		if err := d.Discover(ctx, row.Server, row.Certificate); err != nil {
			return check, fault.Unreachable.Errorf("the provider %s: %w", row.Server, err)
		}
		for _, g := range grants { // which nobody can ask for
			check.Groups = append(check.Groups, api.CheckedGroup{Group: g.Group, Found: true})
		}
		return check, nil
	}
	s, err := d.open(ctx, row, secret)
	if err != nil {
		return check, err
	}
	defer s.conn.Close()
	if err := s.hasBase(); err != nil {
		return check, err
	}
	for _, g := range grants {
		if slices.ContainsFunc(check.Groups, func(c api.CheckedGroup) bool { return c.Group == g.Group }) {
			continue
		}
		found, err := s.hasGroup(g.Group)
		if err != nil {
			return check, err
		}
		check.Groups = append(check.Groups, api.CheckedGroup{Group: g.Group, Found: found})
	}
	if as == "" {
		return check, nil
	}
	e, err := s.person(as)
	if err != nil {
		return check, err
	}
	if e == nil {
		return check, fault.NotFound.Errorf("the directory of %s knows nobody called %s below %s", row.Name, as, row.Base)
	}
	groups, err := s.groups(e)
	if err != nil {
		return check, err
	}
	check.As = &api.KnownPerson{Name: e.name(), Entry: e.DN, Disabled: e.disabled(), Groups: len(groups), Grants: []api.Grant{}}
	for _, g := range granted(grants, groups) {
		check.As.Grants = append(check.As.Grants, api.Grant{Role: g.Role, On: g.Scope().String()})
	}
	return check, nil
}
