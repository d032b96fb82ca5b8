package access

import (
	"context"
	"net/netip"
	"sync"
	"time"

	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/core/rights"
	"jugate/core/slabstore"
	"jugate/records"
)

// Caller is who calls, and what they may do.
type Caller struct {
	actor.Actor
	Holder *rights.Holder
	Person int64 // 0 for whoever has the key of last resort
	// Session is the digest of the session's secret; empty for tokens.
	Session string
	// Factor and Password tell what the account has.
	Factor, Password bool
	// Limited says that it is a token which may not do all that its person may.
	Limited bool
}

// sees is the person whose tokens and sessions the caller sees; 0 if those of all.
func (c Caller) sees() int64 {
	if c.Holder.May(rights.Administer) {
		return 0
	}
	return c.Person
}

// lastResort is whoever has the key of last resort.
func lastResort() Caller {
	return Caller{Actor: actor.Administrator, Holder: rights.Of([]rights.Grant{{Role: rights.BuiltIn[0], On: rights.Scope{Kind: rights.Everything}}})}
}

// callers remembers who has which secret, until something of that changes. The zero value is ready.
type callers struct {
	mu    sync.Mutex
	all   map[string]known // by the digest of the secret
	round int              // how often they were forgotten
}

type known struct {
	Caller
	until time.Time // when they are looked up again
}

// remembered bounds how many are.
const remembered = 4096

// get tells who has a secret, and in which round that was asked.
func (c *callers) get(digest string, now time.Time) (k known, round int, is bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	k, is = c.all[digest]
	return k, c.round, is && now.Before(k.until)
}

// put remembers who was looked up since a round began. If that is over, what was read may be of before
// a change.
func (c *callers) put(digest string, k known, round int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if round != c.round {
		return
	}
	if c.all == nil || len(c.all) >= remembered {
		c.all = map[string]known{}
	}
	c.all[digest] = k
}

// forget has everybody be looked up again; it is called after a change is on record.
func (c *callers) forget() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.all = nil
	c.round++
}

// LookAgain has everybody be looked up again, after what they may do has changed elsewhere: a group or an image that
// something is granted for got another name or was removed, or a directory was.
func (a *Access) LookAgain() { a.callers.forget() }

// digestOf is what is kept of a secret.
func digestOf(secret string) string { return slabstore.Sum([]byte(secret)).String() }

// lookEvery is how long who has a secret is remembered, at the most; and how often the use of a token is
// recorded.
const lookEvery = time.Minute

// until is when somebody is looked up again whose secret is good until expires.
func until(now, expires time.Time) time.Time {
	if soon := now.Add(lookEvery); soon.Before(expires) {
		return soon
	}
	return expires
}

// ByToken tells who has a token, as long as not too many wrong ones came from the same place; asked is
// for the log. Errors are fault.Stranger and fault.TooMany.
func (a *Access) ByToken(ctx context.Context, from netip.Addr, token, asked string) (Caller, error) {
	now, digest := a.Now(), digestOf(token)
	k, round, is := a.callers.get(digest, now)
	if is {
		return k.Caller, nil
	}
	if !a.tries.may(now, 0, from) {
		a.Log.Warn("too many wrong tokens", "from", from)
		return Caller{}, errTooManyTries
	}
	if a.isToken(token) {
		a.callers.put(digest, known{Caller: lastResort(), until: now.Add(lookEvery)}, round) // and said again then
		return lastResort(), a.noteLastResort(ctx, from, asked)
	}
	t, err := a.Records.TokenOf(ctx, digest)
	if err != nil {
		return Caller{}, err
	}
	if t == nil || !now.Before(t.Expires) {
		a.tries.wrong(now, 0, from)
		a.Log.Warn("a wrong token was refused", "from", from, "asked", asked, "expired", t != nil)
		if t != nil {
			return Caller{}, fault.Stranger.Errorf("the token %s is over since %s", t.Name, t.Expires.Format(time.RFC3339))
		}
		return Caller{}, fault.Stranger.Errorf("the token is wrong")
	}
	p, err := a.Records.PersonOf(ctx, t.PersonID)
	if err != nil {
		return Caller{}, err
	}
	if p.ShutOut {
		return Caller{}, fault.Stranger.Errorf("%s may not sign in", p.Name)
	}
	h, err := a.holder(ctx, p)
	if err != nil {
		return Caller{}, err
	}
	only, err := t.Rights()
	if err != nil {
		return Caller{}, err
	}
	if len(only) > 0 {
		h = h.Only(only)
	}
	c := Caller{Actor: actor.Actor{Kind: actor.Token, Name: p.Name + ", by the token " + t.Name}, Holder: h, Person: p.ID, Limited: len(only) > 0}
	a.callers.put(digest, known{c, until(now, t.Expires)}, round)
	return c, a.Records.UsedToken(ctx, now, digest, from.String())
}

// BySession tells whose session a secret is of. It is a fault.Stranger if there is none, and if it is used at two places.
func (a *Access) BySession(ctx context.Context, from netip.Addr, secret string) (Caller, error) {
	c, err := a.ofSession(ctx, digestOf(secret))
	if err != nil {
		return c, err
	}
	if other, both := a.places.used(c.Session, from, a.Now()); both {
		return Caller{}, a.torn(ctx, c, from, other)
	}
	return c, nil
}

// ofSession tells whose session it is.
func (a *Access) ofSession(ctx context.Context, digest string) (Caller, error) {
	now := a.Now()
	k, round, is := a.callers.get(digest, now)
	if is {
		return k.Caller, nil
	}
	s, err := a.Records.SessionOf(ctx, now, digest)
	if err != nil {
		return Caller{}, err
	}
	if s == nil {
		return Caller{}, fault.Stranger.Errorf("sign in first")
	}
	c := lastResort()
	if s.PersonID.Valid {
		p, err := a.Records.PersonOf(ctx, s.PersonID.Int64)
		if err != nil {
			return Caller{}, err
		}
		if p.ShutOut {
			return Caller{}, fault.Stranger.Errorf("%s may not sign in", p.Name)
		}
		h, err := a.holder(ctx, p)
		if err != nil {
			return Caller{}, err
		}
		c = Caller{Actor: personActor(p), Holder: h, Person: p.ID, Factor: p.Factor != "", Password: p.Password != ""}
	}
	c.Session = digest
	a.callers.put(digest, known{c, until(now, s.Expires)}, round)
	return c, nil
}

// HolderNow is what a caller may do now, who has signed in a while ago. It is a fault.Forbidden if they were shut out since.
func (a *Access) HolderNow(ctx context.Context, c Caller) (*rights.Holder, error) {
	if c.Person == 0 {
		return c.Holder, nil
	}
	return a.HolderOf(ctx, c.Person)
}

// HolderOf is what a person may do now. It is a fault.Forbidden if they may not sign in any more.
func (a *Access) HolderOf(ctx context.Context, person int64) (*rights.Holder, error) {
	p, err := a.Records.PersonOf(ctx, person)
	if err != nil {
		return nil, err
	}
	if p.ShutOut {
		return nil, fault.Forbidden.Errorf("%s may not sign in", p.Name)
	}
	return a.holder(ctx, p)
}

func personActor(p *records.Person) actor.Actor { return actor.Actor{Kind: actor.Person, Name: p.Name} }

// holder is what a person may do. A role that is gone gives nothing.
func (a *Access) holder(ctx context.Context, p *records.Person) (*rights.Holder, error) {
	roles, err := a.rolesByName(ctx)
	if err != nil {
		return nil, err
	}
	var grants []rights.Grant
	for _, g := range p.Grants {
		if r, is := findRole(roles, g.Role); is {
			grants = append(grants, rights.Grant{Role: r, On: g.Scope()})
		}
	}
	return rights.Of(grants), nil
}
