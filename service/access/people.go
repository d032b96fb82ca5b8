package access

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/alexedwards/argon2id"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/core/rights"
	"jugate/core/roster"
	"jugate/records"
)

// hashing is how passwords are hashed: the second choice of RFC 9106, section 4, with less memory, as many
// may sign in at once.
var hashing = &argon2id.Params{Memory: 19 << 10, Iterations: 2, Parallelism: 1, SaltLength: 16, KeyLength: 32}

// atOnce is how many passwords are hashed at the same time.
const atOnce = 4

// nobodys is the hash of a password that nobody has: whoever is not there takes as long as whoever is.
var nobodys, _ = argon2id.CreateHash(NewSecret(), hashing)

// shortestPassword is how many characters one has at least (NIST SP 800-63B-4, 3.1.1.2).
const shortestPassword = 12

func (a *Access) hash(password string) (string, error) {
	if len([]rune(password)) < shortestPassword {
		return "", fault.Invalid.Errorf("a password has %d characters at least; a few words are easy to keep in mind", shortestPassword)
	}
	a.hashes <- struct{}{}
	defer func() { <-a.hashes }()
	return argon2id.CreateHash(password, hashing)
}

func (a *Access) matches(password, hash string) bool {
	a.hashes <- struct{}{}
	defer func() { <-a.hashes }()
	is, err := argon2id.ComparePasswordAndHash(password, hash)
	return is && err == nil
}

// errWrongPassword does not tell a name that is not there from a wrong password.
var errWrongPassword = fault.Stranger.Errorf("the name or the password is wrong")

// SignInPerson opens a session for who knows a name and its password. Errors are fault.Stranger and
// fault.TooMany.
func (a *Access) SignInPerson(ctx context.Context, from netip.Addr, name, password, program string) (secret string, c Caller, err error) {
	now, account := a.Now(), strings.ToLower(name)
	if !a.tries.may(now, 0, from) || !a.tries.byAccount.Left(account, now) {
		a.Log.Warn("too many wrong passwords", "name", name, "from", from)
		return "", Caller{}, errTooManyTries
	}
	p, err := a.Records.Person(ctx, name)
	if err != nil && fault.KindOf(err) != fault.NotFound {
		return "", Caller{}, err
	}
	hash := nobodys
	if p != nil && p.Password != "" {
		hash = p.Password
	}
	if !a.matches(password, hash) || hash == nobodys {
		a.tries.wrong(now, 0, from)
		a.tries.byAccount.Take(account, now, wrongAtMost, wrongWithin)
		a.Log.Warn("a wrong password was refused", "name", name, "from", from)
		return "", Caller{}, errWrongPassword
	}
	if p.ShutOut {
		return "", Caller{}, fault.Stranger.Errorf("%s may not sign in", p.Name)
	}
	secret, err = a.openSession(ctx, p.ID, from, program)
	if err != nil {
		return "", Caller{}, err
	}
	a.Log.Info("signed in", "person", p.Name, "from", from)
	if err := a.Records.SeenPerson(ctx, now, p.ID); err != nil {
		return "", Caller{}, err
	}
	c, err = a.BySession(ctx, secret)
	return secret, c, err
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
	out := api.Person{Name: p.Name, FullName: p.FullName, ShutOut: p.ShutOut, Password: p.Password != "", Added: p.Added, Grants: []api.Grant{}}
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
	p, err := a.Records.Person(ctx, name)
	if err != nil {
		return api.Person{}, err
	}
	if in.FullName != nil {
		p.FullName = *in.FullName
	}
	if in.Grants != nil {
		if p.Grants, err = readGrants(*in.Grants); err != nil {
			return api.Person{}, err
		}
	}
	if in.ShutOut != nil {
		p.ShutOut = *in.ShutOut
	}
	if err := a.Records.ChangePerson(ctx, *p); err != nil {
		return api.Person{}, err
	}
	if p.ShutOut {
		err = a.Records.EndSessions(ctx, p.ID)
	}
	a.callers.forget()
	a.Log.Info("person changed", "person", p.Name, "by", actor.From(ctx))
	if err != nil {
		return api.Person{}, err
	}
	return a.Person(ctx, p.Name)
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
	if err := errors.Join(a.Records.EndSessions(ctx, id), a.Records.SeenPerson(ctx, a.Now(), id)); err != nil {
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
	if p.Password, err = a.hash(in.New); err != nil {
		return err
	}
	if err := a.Records.ChangePerson(ctx, *p); err != nil {
		return err
	}
	live, err := a.Records.Sessions(ctx, now, p.ID)
	for _, s := range live {
		if s.Digest != c.Session && err == nil {
			err = a.Records.EndSession(ctx, s.Digest)
		}
	}
	a.callers.forget()
	return err
}

// rolesByName are all roles, those that every service has first.
func (a *Access) rolesByName(ctx context.Context) ([]rights.Role, error) {
	all := slices.Clone(rights.BuiltIn)
	own, err := a.Records.Roles(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range own {
		has, err := r.Rights()
		if err != nil {
			return nil, err
		}
		all = append(all, rights.Role{Name: r.Name, Note: r.Note, Rights: has})
	}
	return all, nil
}

func findRole(all []rights.Role, name string) (rights.Role, bool) {
	i := slices.IndexFunc(all, func(r rights.Role) bool { return strings.EqualFold(r.Name, name) })
	if i < 0 {
		return rights.Role{}, false
	}
	return all[i], true
}

// Roles lists those that every service has, and the service's own.
func (a *Access) Roles(ctx context.Context) ([]api.Role, error) {
	all, err := a.rolesByName(ctx)
	out := make([]api.Role, len(all))
	for i, r := range all {
		out[i] = api.Role{Name: r.Name, Note: r.Note, Rights: r.Rights, BuiltIn: r.BuiltIn}
	}
	return out, err
}

// PutRole keeps a role of the service's own.
func (a *Access) PutRole(ctx context.Context, in api.NewRole) (api.Role, error) {
	if err := roster.CheckName("a role", in.Name); err != nil {
		return api.Role{}, err
	}
	if _, is := rights.FindBuiltIn(in.Name); is {
		return api.Role{}, fault.Conflict.Errorf("every service has the role %s, and it cannot be changed; give yours another name", in.Name)
	}
	for _, r := range in.Rights {
		if !rights.Known(r) {
			return api.Role{}, fault.Invalid.Errorf("%q is no right", r)
		}
	}
	if err := a.Records.PutRole(ctx, in.Name, in.Note, in.Rights); err != nil {
		return api.Role{}, err
	}
	a.callers.forget()
	a.Log.Info("role kept", "role", in.Name, "rights", in.Rights, "by", actor.From(ctx))
	return api.Role{Name: in.Name, Note: in.Note, Rights: in.Rights}, nil
}

// RemoveRole forgets a role that nobody has.
func (a *Access) RemoveRole(ctx context.Context, name string) error {
	if _, is := rights.FindBuiltIn(name); is {
		return fault.Conflict.Errorf("every service has the role %s", name)
	}
	return a.Records.RemoveRole(ctx, name)
}

// Tokens lists those of the caller, or with the right to administer those of all.
func (a *Access) Tokens(ctx context.Context, c Caller) ([]api.Token, error) {
	of := c.Person
	if c.Holder.May(rights.Administer) {
		of = 0
	}
	rows, err := a.Records.Tokens(ctx, of)
	all := make([]api.Token, len(rows))
	for i, t := range rows {
		if all[i], err = tokenOf(t); err != nil {
			return nil, err
		}
	}
	return all, err
}

func tokenOf(t records.Token) (api.Token, error) {
	out := api.Token{Name: t.Name, Person: t.Person, Issued: t.Issued, Expires: t.Expires, UsedFrom: t.UsedFrom}
	if t.Used.Valid {
		out.Used = &t.Used.Time
	}
	var err error
	if out.Rights, err = t.Rights(); out.Rights == nil {
		out.Rights = []rights.Right{}
	}
	return out, err
}

// tokenDays is how long a token is good by default.
const tokenDays = 90

// AddToken makes a token, whose secret is told once.
func (a *Access) AddToken(ctx context.Context, c Caller, in api.NewToken) (api.IssuedToken, error) {
	if err := roster.CheckName("a token", in.Name); err != nil {
		return api.IssuedToken{}, err
	}
	for _, r := range in.Rights {
		if !rights.Known(r) {
			return api.IssuedToken{}, fault.Invalid.Errorf("%q is no right", r)
		}
	}
	person := c.Person
	switch {
	case in.Person != "":
		p, err := a.Records.Person(ctx, in.Person)
		if err != nil {
			return api.IssuedToken{}, err
		}
		if p.ID != c.Person && !c.Holder.May(rights.Administer) {
			return api.IssuedToken{}, fault.Forbidden.Errorf("you may not make tokens for %s", p.Name)
		}
		person = p.ID
	case person == 0:
		return api.IssuedToken{}, fault.Invalid.Errorf("say whose token it is to be: the key of last resort is nobody's")
	}
	days := in.Days
	if days == 0 {
		days = tokenDays
	}
	secret, now := NewSecret(), a.Now()
	t := records.Token{Name: in.Name, Digest: digestOf(secret), PersonID: person, Issued: now, Expires: now.AddDate(0, 0, days)}
	if err := a.Records.AddToken(ctx, t, in.Rights); err != nil {
		return api.IssuedToken{}, err
	}
	kept, err := a.Records.TokenOf(ctx, t.Digest)
	if err != nil {
		return api.IssuedToken{}, err
	}
	a.Log.Info("token made", "token", in.Name, "person", kept.Person, "until", t.Expires, "by", actor.From(ctx))
	shown, err := tokenOf(*kept)
	return api.IssuedToken{Token: shown, Secret: secret}, err
}

// RemoveToken ends a token of the caller's own, or with the right to administer anybody's.
func (a *Access) RemoveToken(ctx context.Context, c Caller, name string) error {
	all, err := a.Tokens(ctx, c)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(all, func(t api.Token) bool { return strings.EqualFold(t.Name, name) }) {
		return fault.NotFound.Errorf("no such token: %s", name)
	}
	if err := a.Records.RemoveToken(ctx, name); err != nil {
		return err
	}
	a.callers.forget()
	a.Log.Info("token ended", "token", name, "by", actor.From(ctx))
	return nil
}
