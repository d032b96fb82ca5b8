package directories

import (
	"context"
	"errors"
	"strings"

	"jugate/core/fault"
	"jugate/core/join"
	"jugate/core/roster"
	"jugate/ldaps"
	"jugate/records"
)

// errWrong does not tell a name that is not there from a wrong password.
var errWrong = fault.Stranger.Errorf("the name or the password is wrong")

// SignIn shows a name and its password to the directory that knows the name, and records who that is. NAME@DIRECTORY names
// the directory. It is a fault.Stranger if no directory knows the name, or it does not take the password.
func (d *Directories) SignIn(ctx context.Context, name, password string) (*records.Person, error) {
	rows, err := d.Records.Directories(ctx)
	if err != nil {
		return nil, err
	}
	if i := strings.LastIndex(name, "@"); i > 0 {
		for _, r := range rows {
			if strings.EqualFold(r.Name, name[i+1:]) {
				rows, name = []records.Directory{r}, name[:i]
				break
			}
		}
	}
	var in *found
	defer func() { in.close() }()
	var away error
	for _, r := range rows {
		if r.Kind != LDAP {
			continue
		}
		f, err := d.find(ctx, r, name)
		switch {
		case errors.Is(err, join.ErrAway):
			away = err
		case err != nil:
			return nil, err
		case f == nil:
		case in != nil:
			f.close()
			return nil, fault.Stranger.Errorf("%s is in the directories %s and %s: sign in as %s@%s or %s@%s", name, in.row.Name, r.Name, name, in.row.Name, name, r.Name)
		default:
			in = f
		}
	}
	switch {
	case in == nil && away != nil:
		return nil, fault.Unready.Errorf("nobody of a directory can sign in now: %w", away)
	case in == nil:
		return nil, errWrong
	}
	if err := in.at.SignIn(in.conn, in.entry.DN, password); err != nil {
		if errors.Is(err, ldaps.ErrRefused) {
			d.Log.Warn("a directory has refused a password", "directory", in.row.Name, "name", name, "error", err)
			return nil, errWrong
		}
		return nil, err
	}
	return d.take(ctx, in)
}

// found is somebody in a directory.
type found struct {
	*searcher
	entry  *entry
	grants []records.Grant
}

func (f *found) close() {
	if f != nil {
		f.conn.Close()
	}
}

// find looks for a name in a directory; nil if it does not know it.
func (d *Directories) find(ctx context.Context, row records.Directory, name string) (*found, error) {
	return d.findBy(ctx, row, func(s *searcher) (*entry, error) { return s.person(name) })
}

func (d *Directories) findBy(ctx context.Context, row records.Directory, by func(*searcher) (*entry, error)) (*found, error) {
	secret, err := d.Secret(&row)
	if err != nil {
		return nil, err
	}
	s, err := d.open(ctx, &row, secret)
	if err != nil {
		return nil, err
	}
	f := &found{searcher: s}
	if f.entry, err = by(s); err == nil && f.entry != nil && !f.entry.disabled() {
		var groups []group
		if groups, err = s.groups(f.entry); err == nil {
			var grants []records.GroupGrant
			if grants, err = row.Grants(); err == nil {
				f.grants = granted(grants, groups)
				return f, nil
			}
		}
	}
	f.close()
	return nil, err
}

// take records somebody as their directory describes them. It is a fault.Stranger if none of their groups has a role here.
func (d *Directories) take(ctx context.Context, f *found) (*records.Person, error) {
	return d.record(ctx, records.Person{Name: f.entry.name(), FullName: f.entry.fullName(), Directory: f.row.Name, Subject: f.entry.subject(), Grants: f.grants})
}

func (d *Directories) record(ctx context.Context, p records.Person) (*records.Person, error) {
	if len(p.Grants) == 0 {
		return nil, fault.Stranger.Errorf("the directory %s knows %s, but none of their groups there may do anything here", p.Directory, p.Name)
	}
	if err := roster.CheckName("a person", p.Name); err != nil {
		return nil, err
	}
	return d.Records.PutKnown(ctx, d.Now(), p)
}

// Provided records somebody whom an OpenID provider has described.
func (d *Directories) Provided(ctx context.Context, directory, subject, name, fullName string, groups []string) (*records.Person, error) {
	row, err := d.Records.Directory(ctx, directory)
	if err != nil {
		return nil, err
	}
	grants, err := row.Grants()
	if err != nil {
		return nil, err
	}
	var in []group
	for _, g := range groups {
		in = append(in, group{dn: g, cn: g})
	}
	return d.record(ctx, records.Person{Name: name, FullName: fullName, Directory: row.Name, Subject: subject, Grants: granted(grants, in)})
}

// Refresh asks the directory of somebody who is signed in what they may do now. One who is not there any more, is disabled,
// or has lost all groups that count loses everything. While the directory is away all stays as it is.
func (d *Directories) Refresh(ctx context.Context, p records.Person) error {
	row, err := d.Records.Directory(ctx, p.Directory)
	if err != nil || row.Kind != LDAP {
		return err
	}
	f, err := d.findBy(ctx, *row, func(s *searcher) (*entry, error) { return s.bySubject(p.Subject) })
	if err != nil {
		return err
	}
	defer f.close()
	if f == nil || len(f.grants) == 0 {
		d.Log.Warn("somebody has lost everything, as their directory says", "person", p.Name, "directory", p.Directory)
		return d.Records.EndOf(ctx, p.ID)
	}
	_, err = d.take(ctx, f)
	return err
}
