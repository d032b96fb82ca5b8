package access

import (
	"context"
	"net/netip"
	"strings"
	"time"

	"jugate/api"
	"jugate/core/fault"
	"jugate/records"
)

// SessionLife is how long a session of the console lasts.
const SessionLife = 12 * time.Hour

// openSession begins a session; person is 0 for whoever has the key of last resort.
func (a *Access) openSession(ctx context.Context, person int64, from netip.Addr, program string) (secret string, err error) {
	now := a.Now()
	secret = NewSecret()
	s := records.Session{Digest: digestOf(secret), Opened: now, Expires: now.Add(SessionLife), From: from.String(), Program: program[:min(len(program), longestProgram)]}
	s.PersonID.Int64, s.PersonID.Valid = person, person != 0
	return secret, a.Records.AddSession(ctx, s)
}

// longestProgram bounds what is kept of how a browser calls itself, in bytes.
const longestProgram = 200

// OpenByToken begins a session of the console for who has a token. Errors are those of ByToken.
func (a *Access) OpenByToken(ctx context.Context, from netip.Addr, token, program string) (secret string, c Caller, err error) {
	c, err = a.ByToken(ctx, from, token, "/session")
	if err != nil {
		return "", c, err
	}
	if c.Person != 0 {
		return "", c, fault.Forbidden.Errorf("a token is for programs: sign in with your name and password")
	}
	secret, err = a.openSession(ctx, 0, from, program)
	return secret, c, err
}

// CloseSession ends a session.
func (a *Access) CloseSession(ctx context.Context, secret string) error {
	defer a.callers.forget()
	return a.Records.EndSession(ctx, digestOf(secret))
}

// Sessions lists those of the caller, or with the right to administer those of all.
func (a *Access) Sessions(ctx context.Context, c Caller) ([]api.OpenSession, error) {
	rows, err := a.Records.Sessions(ctx, a.Now(), c.sees())
	all := make([]api.OpenSession, len(rows))
	for i, s := range rows {
		all[i] = api.OpenSession{ID: s.Digest[:sessionID], Person: s.Person, Opened: s.Opened, Expires: s.Expires, From: s.From, Program: s.Program, Own: s.Digest == c.Session}
	}
	return all, err
}

// sessionID is how many characters of a session's digest name it.
const sessionID = 12

// EndSession ends a session that the caller can see, by its id.
func (a *Access) EndSession(ctx context.Context, c Caller, id string) error {
	rows, err := a.Records.Sessions(ctx, a.Now(), c.sees())
	if err != nil {
		return err
	}
	for _, s := range rows {
		if len(id) == sessionID && strings.HasPrefix(s.Digest, id) {
			defer a.callers.forget()
			return a.Records.EndSession(ctx, s.Digest)
		}
	}
	return fault.NotFound.Errorf("no such session: %s", id)
}
