package access

import (
	"context"
	"net/netip"
	"strings"
	"time"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/core/rights"
	"jugate/core/roster"
	"jugate/records"
)

// RefreshPeople asks directories what those who came from them may do now.
func (a *Access) RefreshPeople(ctx context.Context) {
	all, err := a.Records.People(ctx)
	for _, p := range all {
		if p.Directory == "" || a.Directories == nil {
			continue
		}
		if err := a.Directories.Refresh(ctx, p); err != nil && ctx.Err() == nil {
			a.Log.Warn("what somebody may do could not be asked for; it stays as it was", "person", p.Name, "directory", p.Directory, "error", err)
		}
	}
	if err != nil {
		a.Log.Error("people could not be listed", "error", err)
	}
	a.callers.forget()
}

// People lists them by name.
func (a *Access) People(ctx context.Context) ([]api.Person, error) {
	rows, err := a.Records.People(ctx)
	all := make([]api.Person, len(rows))
	for i, p := range rows {
		all[i] = personOf(p)
	}
	return all, err
}

// Person shows one.
func (a *Access) Person(ctx context.Context, name string) (api.Person, error) {
	p, err := a.Records.Person(ctx, name)
	if err != nil {
		return api.Person{}, err
	}
	return personOf(*p), nil
}

func personOf(p records.Person) api.Person {
	out := api.Person{Name: p.Name, FullName: p.FullName, ShutOut: p.ShutOut, Password: p.Password != "", Factor: p.Factor != "", Directory: p.Directory, Added: p.Added, Grants: []api.Grant{}}
	if p.Seen.Valid {
		out.Seen = &p.Seen.Time
	}
	for _, g := range p.Grants {
		out.Grants = append(out.Grants, api.Grant{Role: g.Role, On: g.Scope().String()})
	}
	return out
}

func readGrants(in []api.Grant) (all []records.Grant, err error) {
	for _, g := range in {
		kind, name, _ := strings.Cut(g.On, ":")
		switch {
		case g.On == "" || g.On == string(rights.Everything):
			kind, name = string(rights.Everything), ""
		case kind != string(rights.OfGroup) && kind != string(rights.OfImage) || name == "":
			return nil, fault.Invalid.Errorf("%q is nothing that a role can be for: say everything, group:NAME or image:NAME", g.On)
		}
		all = append(all, records.Grant{Role: g.Role, Kind: kind, Name: name})
	}
	return all, nil
}

// AddPerson takes a person in, who sets a password by a link.
func (a *Access) AddPerson(ctx context.Context, in api.NewPerson) (api.Person, error) {
	if err := roster.CheckName("a person", in.Name); err != nil {
		return api.Person{}, err
	}
	grants, err := readGrants(in.Grants)
	if err != nil {
		return api.Person{}, err
	}
	if _, err := a.Records.AddPerson(ctx, records.Person{Name: in.Name, FullName: in.FullName, Added: a.Now(), Grants: grants}); err != nil {
		return api.Person{}, err
	}
	a.Log.Info("person added", "person", in.Name, "by", actor.From(ctx))
	return a.Person(ctx, in.Name)
}

// ChangePerson changes what is said of a person, or granted.
func (a *Access) ChangePerson(ctx context.Context, name string, in api.PersonChange) (api.Person, error) {
	err := a.Records.ChangePerson(ctx, name, func(p *records.Person) (err error) {
		if in.FullName != nil {
			p.FullName = *in.FullName
		}
		if in.ShutOut != nil {
			p.ShutOut = *in.ShutOut
		}
		if in.Grants != nil {
			p.Grants, err = readGrants(*in.Grants)
		}
		return err
	})
	if err != nil {
		return api.Person{}, err
	}
	if in.ResetFactor {
		if err := a.ResetFactor(ctx, name); err != nil {
			return api.Person{}, err
		}
	}
	a.callers.forget()
	a.Log.Info("person changed", "person", name, "by", actor.From(ctx))
	return a.Person(ctx, name)
}

// RemovePerson forgets a person, with tokens and sessions.
func (a *Access) RemovePerson(ctx context.Context, name string) error {
	if err := a.Records.RemovePerson(ctx, name); err != nil {
		return err
	}
	a.callers.forget()
	a.Log.Info("person removed", "person", name, "by", actor.From(ctx))
	return nil
}

// linkLife is how long a link to set a password is good.
const linkLife = 3 * 24 * time.Hour

// Invite makes a link with which a person sets a password, once.
func (a *Access) Invite(ctx context.Context, name string) (api.Invitation, error) {
	p, err := a.Records.Person(ctx, name)
	if err != nil {
		return api.Invitation{}, err
	}
	if p.Directory != "" {
		return api.Invitation{}, fault.Conflict.Errorf("%s has the password of the directory %s", p.Name, p.Directory)
	}
	return a.invite(ctx, p.ID)
}

func (a *Access) invite(ctx context.Context, person int64) (api.Invitation, error) {
	secret, until := NewSecret(), a.Now().Add(linkLife)
	return api.Invitation{Secret: secret, Expires: until}, a.Records.Invite(ctx, digestOf(secret), person, until)
}

// FirstLink makes the link with which somebody becomes the first administrator; its secret is empty if
// there is somebody already.
func (a *Access) FirstLink(ctx context.Context) (api.Invitation, error) {
	all, err := a.Records.People(ctx)
	if err != nil || len(all) > 0 {
		return api.Invitation{}, err
	}
	return a.invite(ctx, 0)
}

// Invited tells whom a link is for.
func (a *Access) Invited(ctx context.Context, from netip.Addr, secret string) (api.Invited, error) {
	now := a.Now()
	if !a.tries.may(now, 0, from) {
		return api.Invited{}, errTooManyTries
	}
	p, err := a.Records.Invited(ctx, now, digestOf(secret))
	if err != nil {
		a.tries.wrong(now, 0, from)
		return api.Invited{}, err
	}
	if p == nil {
		return api.Invited{}, nil
	}
	return api.Invited{Name: p.Name}, nil
}

// Accept uses a link, and opens a session for whose it was.
func (a *Access) Accept(ctx context.Context, from netip.Addr, secret string, in api.Acceptance, program string) (session string, err error) {
	to, err := a.Invited(ctx, from, secret)
	if err != nil {
		return "", err
	}
	if to.Name == "" {
		if err := roster.CheckName("a person", in.Name); err != nil {
			return "", err
		}
	}
	hash, err := a.hash(in.Password)
	if err != nil {
		return "", err
	}
	id, err := a.Records.Accept(ctx, a.Now(), digestOf(secret), records.Person{Name: in.Name, FullName: in.FullName, Password: hash, Added: a.Now()})
	if err != nil {
		return "", err
	}
	a.callers.forget()
	a.Log.Info("a link was used to set a password", "person", id, "from", from)
	if err := a.Records.SeenPerson(ctx, a.Now(), id); err != nil {
		return "", err
	}
	return a.openSession(ctx, id, from, program)
}

// ChangePassword sets the caller's own password; all sessions but this one end.
func (a *Access) ChangePassword(ctx context.Context, c Caller, in api.PasswordChange) error {
	if c.Person == 0 {
		return fault.Conflict.Errorf("the key of last resort has no password")
	}
	p, err := a.Records.PersonOf(ctx, c.Person)
	if err != nil {
		return err
	}
	now := a.Now()
	if account := strings.ToLower(p.Name); !a.tries.byAccount.Left(account, now) {
		return errTooManyTries
	} else if p.Password == "" || !a.matches(in.Old, p.Password) {
		a.tries.byAccount.Take(account, now, wrongAtMost, wrongWithin)
		return fault.Forbidden.Errorf("the old password is wrong")
	}
	hash, err := a.hash(in.New)
	if err != nil {
		return err
	}
	err = a.Records.SetPassword(ctx, p.ID, hash, c.Session)
	a.callers.forget()
	return err
}
