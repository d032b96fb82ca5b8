package access

import (
	"context"
	"slices"
	"strings"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/core/rights"
	"jugate/core/roster"
	"jugate/records"
)

// Tokens lists those of the caller, or with the right to administer those of all.
func (a *Access) Tokens(ctx context.Context, c Caller) ([]api.Token, error) {
	rows, err := a.Records.Tokens(ctx, c.sees())
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
			return api.IssuedToken{}, fault.Invalid.Errorf("%q is not a right", r)
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
