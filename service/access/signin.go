package access

import (
	"context"
	"net/netip"
	"strings"
	"sync"

	"github.com/alexedwards/argon2id"

	"jugate/api"
	"jugate/core/fault"
	"jugate/records"
)

// hashing is how passwords are hashed: the second choice of RFC 9106, section 4, with less memory, as many
// may sign in at once.
var hashing = &argon2id.Params{Memory: 19 << 10, Iterations: 2, Parallelism: 1, SaltLength: 16, KeyLength: 32}

// atOnce is how many passwords are hashed at the same time.
const atOnce = 4

// nobodys is the hash of a password that nobody has: whoever is not there takes as long as whoever is.
var nobodys = sync.OnceValue(func() string {
	hash, _ := argon2id.CreateHash(NewSecret(), hashing)
	return hash
})

func (a *Access) hash(password string) (string, error) {
	if len([]rune(password)) < api.ShortestPassword {
		return "", fault.Invalid.Errorf("a password has %d characters at least; a few words are easy to keep in mind", api.ShortestPassword)
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

// SignInPerson opens a session for who knows a name and its password, and the code of their second factor if they
// have one. Errors are ErrCode, fault.Stranger and fault.TooMany.
func (a *Access) SignInPerson(ctx context.Context, from netip.Addr, in api.SignIn, program string) (secret string, c Caller, err error) {
	p, err := a.whoSignsIn(ctx, from, in)
	if err != nil {
		return "", Caller{}, err
	}
	return a.admitted(ctx, p, from, program)
}

// admitted opens a session for somebody who has shown who they are.
func (a *Access) admitted(ctx context.Context, p *records.Person, from netip.Addr, program string) (secret string, c Caller, err error) {
	secret, err = a.openSession(ctx, p.ID, from, program)
	if err != nil {
		return "", Caller{}, err
	}
	a.Log.Info("signed in", "person", p.Name, "from", from)
	if err := a.Records.SeenPerson(ctx, a.Now(), p.ID); err != nil {
		return "", Caller{}, err
	}
	c, err = a.BySession(ctx, from, secret)
	return secret, c, err
}

// whoSignsIn is who knows a name and its password, and the code of their second factor.
func (a *Access) whoSignsIn(ctx context.Context, from netip.Addr, in api.SignIn) (*records.Person, error) {
	now, name, account := a.Now(), in.Name, strings.ToLower(in.Name)
	if !a.tries.may(now, 0, from) || !a.tries.byAccount.Left(account, now) {
		a.Log.Warn("too many wrong passwords", "name", name, "from", from)
		return nil, errTooManyTries
	}
	p, err := a.Records.Person(ctx, name)
	if err != nil && fault.KindOf(err) != fault.NotFound {
		return nil, err
	}
	if p, err = a.knows(ctx, p, in); err != nil {
		if fault.KindOf(err) == fault.Stranger {
			a.tries.wrong(now, 0, from)
			a.tries.byAccount.Take(account, now, wrongAtMost, wrongWithin)
			a.Log.Warn("a wrong password was refused", "name", name, "from", from)
		}
		return nil, err
	}
	if p.ShutOut {
		return nil, fault.Stranger.Errorf("%s may not sign in", p.Name)
	}
	return p, a.secondFactor(ctx, p, from, in.Code)
}

// knows asks whoever keeps the password of a name whether it is the right one: the records, or a directory. p is who has
// the name here; nil if nobody has.
func (a *Access) knows(ctx context.Context, p *records.Person, in api.SignIn) (*records.Person, error) {
	name := in.Name
	if p != nil && p.Directory != "" {
		name, p = p.Name+"@"+p.Directory, nil
	}
	hash := nobodys()
	if p != nil && p.Password != "" {
		hash = p.Password
	}
	right := a.matches(in.Password, hash) && hash != nobodys()
	switch {
	case right:
		return p, nil
	case p == nil && a.Directories != nil:
		known, err := a.Directories.SignIn(ctx, name, in.Password)
		if err == nil {
			a.callers.forget() // what they may do may have changed
		}
		return known, err
	}
	return nil, errWrongPassword
}

// Admit opens a session for somebody whom a provider has described.
func (a *Access) Admit(ctx context.Context, p *records.Person, from netip.Addr, program string) (secret string, c Caller, err error) {
	if p.ShutOut {
		return "", Caller{}, fault.Stranger.Errorf("%s may not sign in", p.Name)
	}
	a.callers.forget()
	return a.admitted(ctx, p, from, program)
}
