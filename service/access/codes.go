package access

import (
	"crypto/rand"
	"net/netip"
	"strings"
	"sync"
	"time"

	"jugate/api"
	"jugate/core/fault"
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

// SignIn lets a person in who has typed a code, or the administrator's token, at a
// workstation; label is for the log. Errors are fault.Forbidden and fault.TooMany.
func (a *Access) SignIn(workstation int64, label string, from netip.Addr, typed string) error {
	now := a.Now()
	if !a.tries.may(now, workstation, from) {
		a.Log.Warn("too many wrong codes", "workstation", label, "from", from)
		return errTooManyTries
	}
	if !a.isToken(typed) && !a.codes.good(now, typed) {
		a.tries.wrong(now, workstation, from)
		a.Log.Warn("a wrong code was typed", "workstation", label, "from", from)
		return fault.Forbidden.Errorf("this code is not good (any more)")
	}
	a.Log.Info("somebody has signed in at a workstation", "workstation", label)
	return nil
}
