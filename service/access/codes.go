package access

import (
	"context"
	"crypto/rand"
	"errors"
	"net/netip"
	"strings"
	"sync"
	"time"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/core/rights"
)

// codes are the codes that people sign in with at a workstation: short, as they
// are typed, and therefore good for some hours only.
type codes struct {
	mu    sync.Mutex
	until map[string]time.Time // until when
}

const (
	// codeAlphabet leaves out what looks alike.
	codeAlphabet = "ABCDEFGHJKMNPQRSTUVWXYZ23456789"
	codeLength   = 8
)

// issue makes a code.
func (s *codes) issue(now time.Time, life time.Duration) (string, time.Time) {
	b := make([]byte, codeLength)
	rand.Read(b)
	for i := range b {
		b[i] = codeAlphabet[int(b[i])%len(codeAlphabet)]
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.until == nil {
		s.until = map[string]time.Time{}
	}
	for old, until := range s.until {
		if !now.Before(until) {
			delete(s.until, old)
		}
	}
	s.until[string(b)] = now.Add(life)
	return string(b[:4]) + "-" + string(b[4:]), now.Add(life)
}

// good tells whether a code is good, however it was typed.
func (s *codes) good(now time.Time, typed string) bool {
	code := strings.Map(func(r rune) rune {
		if r == '-' || r == ' ' {
			return -1
		}
		return r
	}, strings.ToUpper(typed))
	s.mu.Lock()
	defer s.mu.Unlock()
	until, known := s.until[code]
	return known && now.Before(until)
}

// MakeCode makes a code that people sign in with at workstations.
func (a *Access) MakeCode(life time.Duration) api.Code {
	code, until := a.codes.issue(a.Now(), life)
	a.Log.Info("code for workstations made", "until", until)
	return api.Code{Code: code, Until: until}
}

// SignIn lets a person in who has typed a code, the key of last resort, or a name with its password at a workstation; label
// is for the log. It tells who that is and what they may do: whoever has a code may do what an engineer may. Errors are
// ErrCode, fault.Forbidden and fault.TooMany.
func (a *Access) SignIn(ctx context.Context, workstation int64, label string, from netip.Addr, typed api.Typed) (Caller, error) {
	now := a.Now()
	if !a.tries.may(now, workstation, from) {
		a.Log.Warn("too many wrong codes", "workstation", label, "from", from)
		return Caller{}, errTooManyTries
	}
	switch {
	case typed.Name != "":
		return a.signInPersonAt(ctx, workstation, label, from, typed)
	case a.isToken(typed.Code):
		return lastResort(), a.noteLastResort(ctx, from, "at the workstation "+label)
	case !a.codes.good(now, typed.Code):
		a.tries.wrong(now, workstation, from)
		a.Log.Warn("a wrong code was typed", "workstation", label, "from", from)
		return Caller{}, fault.Forbidden.Errorf("this code is not good (any more)")
	}
	a.Log.Info("somebody has signed in at a workstation by a code", "workstation", label)
	engineer, _ := rights.FindBuiltIn("engineer")
	return Caller{Actor: actor.Actor{Kind: actor.Workstation}, Holder: rights.Of([]rights.Grant{{Role: engineer, On: rights.Scope{Kind: rights.Everything}}})}, nil
}

func (a *Access) signInPersonAt(ctx context.Context, workstation int64, label string, from netip.Addr, typed api.Typed) (Caller, error) {
	p, err := a.whoSignsIn(ctx, from, api.SignIn{Name: typed.Name, Password: typed.Password, Code: typed.Factor})
	if err != nil {
		if fault.KindOf(err) == fault.Stranger && !errors.Is(err, ErrCode) {
			a.tries.byWorkstation.Take(workstation, a.Now(), wrongAtMost, wrongWithin)
			err = notStranger(err) // its pass is good all the same
		}
		return Caller{}, err
	}
	h, err := a.holder(ctx, p)
	if err != nil {
		return Caller{}, err
	}
	a.Log.Info("signed in at a workstation", "person", p.Name, "workstation", label, "from", from)
	return Caller{Actor: personActor(p), Holder: h, Person: p.ID}, a.Records.SeenPerson(ctx, a.Now(), p.ID)
}
